"""The calls under every method of the client: addresses, keys, versions, safe retries, errors."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping, Sequence
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx
from pydantic import BaseModel
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

from doorstone.client.errors import UnreachableError, problem_of

T = TypeVar("T", bound=BaseModel)


class Transport:
    """Talks to one service. `transport` swaps the socket for anything httpx takes, such as a WSGI app.

    Reads are tried up to three times when no answer comes; creating calls carry an Idempotency-Key and are
    tried again as well, so that a retry never makes a thing twice. With `dry_run` set, writing calls make every check
    and answer what would happen, and nothing is kept. `in_place_of` names whose deputy calls. Errors are of the tree in
    `doorstone.client`.
    """

    def __init__(
        self,
        address: str,
        token: str | None = None,
        *,
        timeout: float = 30.0,
        transport: httpx.BaseTransport | None = None,
        tries: int = 3,
        in_place_of: str = "",
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        if in_place_of:
            headers["Doorstone-In-Place-Of"] = in_place_of
        # Certificates take 50 ms to load, and an address without TLS has none to check.
        secure = not address.startswith("http://")
        self._http = httpx.Client(
            base_url=address, headers=headers, timeout=timeout, transport=transport, verify=secure
        )
        self._tries = tries
        self.dry_run = False

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    # ------------------------------------------------------------ the calls

    def _send(
        self,
        method: str,
        path: str,
        *,
        params: Mapping[str, Any] | None = None,
        body: BaseModel | None = None,
        creates: bool = False,
        version: int | None = None,
        pieces: Iterator[bytes] | None = None,
    ) -> httpx.Response:
        headers = {}
        if self.dry_run and method != "GET":
            params = {**(params or {}), "dry_run": "true"}
        if creates:
            headers["Idempotency-Key"] = str(uuid.uuid4())
        if version is not None:
            headers["If-Match"] = f'"v{version}"'
        content: str | Iterator[bytes] | None = body.model_dump_json() if body is not None else pieces
        if content is not None:
            headers["Content-Type"] = "application/json" if body is not None else "application/octet-stream"
        tries = self._tries if method == "GET" or creates else 1
        again = Retrying(
            retry=retry_if_exception_type(httpx.TransportError),
            stop=stop_after_attempt(tries),
            wait=wait_exponential(multiplier=0.2),
            reraise=True,
        )
        try:
            response = again(
                self._http.request, method, f"/api/v1{path}", params=_given(params), content=content, headers=headers
            )
        except httpx.TransportError as error:
            raise UnreachableError(f"{self._http.base_url} does not answer: {error}") from error
        if response.status_code >= 400:
            raise problem_of(response)
        return response

    def _get(self, kind: type[T], path: str, /, **params: Any) -> T:
        return kind.model_validate_json(self._send("GET", path, params=params).content)

    def _create(self, kind: type[T], path: str, body: BaseModel) -> T:
        return kind.model_validate_json(self._send("POST", path, body=body, creates=True).content)

    @staticmethod
    def _problem(response: httpx.Response) -> Exception:
        return problem_of(response)

    def _made(
        self, kind: type[T], method: str, path: str, body: BaseModel | None = None, version: int | None = None
    ) -> T:
        """What a call that is not repeated by itself gives back."""
        return kind.model_validate_json(self._send(method, path, body=body, version=version).content)


def _given(params: Mapping[str, Any] | None) -> dict[str, str | int | Sequence[str]]:
    return {name: value for name, value in (params or {}).items() if value not in ("", None)}
