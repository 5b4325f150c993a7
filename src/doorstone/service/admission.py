"""Admission: which requests are read at all, and how large each may be. Decided once a request's head has come.

A body has the size that its route can use: what its fields can hold at most, or the size of a file where they hold one.
A body that is more than small needs a caller whom the service knows. Requests of one address are counted.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from tempfile import gettempdir
from typing import Any

from flask import Flask
from limits import parse
from limits.storage import MemoryStorage
from limits.strategies import FixedWindowRateLimiter
from werkzeug.exceptions import HTTPException

from doorstone.service import auth, problems
from doorstone.service.listener import Gate, Head, Refused
from doorstone.service.operations import Operation
from doorstone.service.problems import ServiceProblemError
from doorstone.work.context.context import Context

SMALL = 64 * 2**10
"""Bytes of a body that are read before it is known who sends them."""
LARGEST_BODY = 64 * 2**20
LARGEST_LIST = 16 * 2**20
"""Bytes of a body whose fields set no end themselves, such as a list of devices."""
LARGEST_UPLOAD = 4 * 2**30
_BYTES_OF_A_CHARACTER = 6  # as JSON may write it
_WINDOW = 10  # seconds in which requests are counted
OPEN_COST = 10
"""Requests for which one counts that names no caller."""


class Admission:
    """Decides about the requests to an application.

    `requests` is how many one address may send in a second, 0 for any; `proxies` is the number of proxies that are
    believed about a caller's address.
    """

    def __init__(self, app: Flask, context: Context, *, requests: int, connections: int, proxies: int) -> None:
        self._app, self._context, self._proxies = app, context, proxies
        self._limiter = FixedWindowRateLimiter(MemoryStorage())
        self._most = parse(f"{requests * _WINDOW} per {_WINDOW} second") if requests else None
        operations: tuple[Operation, ...] = app.extensions["doorstone.operations"]
        self._largest = {one.name: (one, largest_body(one)) for one in operations}
        self.gate = Gate(self.admit, too_large, self.no_room, crowded(), 0 if proxies else connections)

    def admit(self, head: Head) -> int | Refused:
        """The bytes that the body may have, or the answer to a request that is not read."""
        known = "AUTHORIZATION" in head.headers or "COOKIE" in head.headers
        address = self._address(head)
        if self._most is not None and not self._limiter.hit(self._most, address, cost=1 if known else OPEN_COST):
            return too_many(head.path)
        operation, largest = self._operation(head)
        if operation is None or largest <= SMALL or (head.length is not None and head.length <= SMALL):
            return largest
        return self._stranger(head, operation) or largest

    def _address(self, head: Head) -> str:
        given = [part.strip() for part in head.headers.get("X_FORWARDED_FOR", "").split(",")]
        return given[-self._proxies] if self._proxies and len(given) >= self._proxies else head.address

    def _operation(self, head: Head) -> tuple[Operation | None, int]:
        try:
            endpoint, _ = self._app.url_map.bind("").match(head.path, head.method)
        except HTTPException:
            return None, SMALL
        return self._largest.get(endpoint, (None, SMALL))

    def _stranger(self, head: Head, operation: Operation) -> Refused | None:
        """The answer to a caller who is unknown, or whose role does not allow the call."""
        with self._app.request_context(_environ(head)):
            try:
                auth.require_role(operation, auth.authenticate(self._context, self._context.stamp()))
            except ServiceProblemError as error:
                return _refused(problems.of_service(error))
        return None

    @staticmethod
    def no_room(path: str) -> Refused:
        """The answer to a body that does not fit where bodies are kept until they have come whole."""
        return _refused(problems.no_room(Path(gettempdir()), path))


def _environ(head: Head) -> dict[str, Any]:
    names = {name: name if name in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{name}" for name in head.headers}
    return {
        "REQUEST_METHOD": head.method,
        "SCRIPT_NAME": "",
        "PATH_INFO": head.path,
        "QUERY_STRING": "",
        "SERVER_NAME": "localhost",
        "SERVER_PORT": "80",
        "SERVER_PROTOCOL": "HTTP/1.1",
        "REMOTE_ADDR": head.address,
        "wsgi.url_scheme": "http",
        **{names[name]: value for name, value in head.headers.items()},
    }


def _refused(response: Any) -> Refused:
    return Refused(response.status_code, response.status.partition(" ")[2], list(response.headers), response.data)


def _problem(path: str, status: int, slug: str, detail: str, hint: str, retry_after: int = 0) -> Refused:
    return _refused(problems.of_service(ServiceProblemError(status, slug, detail, hint, (), retry_after), path))


def too_large(path: str, largest: int) -> Refused:
    """The answer to a body that is larger than its route can use."""
    size = f"{largest / 2**20:,.0f} MiB" if largest >= 2**20 else f"{largest / 2**10:,.0f} KiB"
    hint = "Send it in parts" if largest > SMALL else "Check that it is the body you meant"
    return _problem(path, 413, "too-large", f"The body is larger than {size}", hint)


def too_many(path: str) -> Refused:
    detail = "Too many requests came from this address"
    return _problem(path, 429, "too-many-requests", detail, f"Wait {_WINDOW} seconds", _WINDOW)


def crowded() -> Refused:
    detail = "All connections that this address may have are at work"
    return _problem("/", 503, "too-many-connections", detail, "Try again in a moment, with fewer at a time", 5)


def largest_body(operation: Operation) -> int:
    """Bytes that the body of an operation may have: what its fields can hold, within reason."""
    if operation.upload:
        return LARGEST_UPLOAD
    if operation.body is None:
        return SMALL
    schema = operation.body.model_json_schema()
    most = _most(schema, schema.get("$defs", {}))
    return LARGEST_LIST if math.isinf(most) else int(min(max(most, SMALL), LARGEST_BODY))


def _most(schema: Mapping[str, Any], named: Mapping[str, Any]) -> float:
    """Bytes that JSON of a schema can have at most; infinite where it sets no end."""
    if "$ref" in schema:
        name = schema["$ref"].rpartition("/")[2]
        inside = {other: one for other, one in named.items() if other != name}
        return _most(named[name], inside) if name in named else math.inf  # it holds itself
    if "anyOf" in schema:
        return max(_most(one, named) for one in schema["anyOf"])
    kind = schema.get("type")
    if kind == "object" and not schema.get("additionalProperties"):
        return sum(len(name) + 6 + _most(one, named) for name, one in schema.get("properties", {}).items())
    if kind == "array" and "maxItems" in schema:
        return float(schema["maxItems"] * (2 + _most(schema.get("items", {}), named)))
    if kind == "string" and not (schema.keys() & {"enum", "const", "format"}):
        return float(schema.get("maxLength", math.inf)) * _BYTES_OF_A_CHARACTER
    return math.inf if kind in ("object", "array", None) and "const" not in schema else 60.0
