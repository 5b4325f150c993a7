"""The OpenAPI 3.1 document, made from the operations and the shapes, so that it always says what the code does."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import JsonSchemaMode, models_json_schema

from doorstone import __version__
from doorstone.api.common import Problem
from doorstone.service.operations import DEPUTY_HEADER, Operation

_REF = "#/components/schemas/{model}"


def openapi(operations: Sequence[Operation]) -> dict[str, Any]:
    """The document for these operations."""
    wanted: dict[tuple[type[BaseModel], JsonSchemaMode], None] = {(Problem, "serialization"): None}
    for operation in operations:
        if operation.body is not None:
            wanted[(operation.body, "validation")] = None
        if operation.answer is not None:
            wanted[(operation.answer, "serialization")] = None
    refs, schema = models_json_schema(list(wanted), ref_template=_REF)
    paths: dict[str, Any] = {}
    for operation in operations:
        path = re.sub(r"<(?:path:)?(\w+)>", r"{\1}", operation.path)
        paths.setdefault(path, {})[operation.method.lower()] = _operation(operation, path, refs)
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Door Stone",
            "version": __version__,
            "summary": "Upgrade requirements sorted, excepted, overridden and followed up.",
            "license": {"name": "MIT", "identifier": "MIT"},
        },
        "servers": [{"url": "/"}],
        "tags": [{"name": tag} for tag in dict.fromkeys(o.tag for o in operations)],
        "paths": paths,
        "components": {
            "schemas": schema["$defs"],
            "securitySchemes": {
                "token": {"type": "http", "scheme": "bearer"},
                "session": {"type": "apiKey", "in": "cookie", "name": "doorstone"},
            },
        },
    }


def _operation(operation: Operation, path: str, refs: Any) -> dict[str, Any]:
    name = operation.name
    data: dict[str, Any] = {
        "operationId": name,
        "summary": operation.summary,
        "tags": [operation.tag],
        "parameters": _parameters(operation, path),
        "responses": _responses(operation, refs),
        "security": [{"token": []}, {"session": []}] if operation.roles else [],
    }
    if operation.roles:
        data["description"] = f"Roles: {', '.join(sorted(operation.roles))}."
        data["x-roles"] = sorted(operation.roles)
        data["x-session"] = operation.own
    if operation.upload:
        content = {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}
        data["requestBody"] = {"required": True, "content": content}
    if operation.body is not None:
        content = {"application/json": {"schema": refs[(operation.body, "validation")]}}
        data["requestBody"] = {"required": True, "content": content}
    return data


def _parameters(operation: Operation, path: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = [
        {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
        for name in re.findall(r"\{(\w+)\}", path)
    ]
    if operation.query is not None:
        schema = operation.query.model_json_schema()
        for name, held in schema.get("properties", {}).items():
            part = {key: _in_place(value, schema) for key, value in held.items() if key != "title"}
            about = {"description": part.pop("description")} if "description" in part else {}
            required = name in schema.get("required", [])
            found.append({"name": name, "in": "query", "required": required, **about, "schema": part})
    if operation.rehearsed:
        words = "Make every check and answer what would happen; keep nothing"
        kind = {"type": "boolean", "default": False}
        found.append({"name": "dry_run", "in": "query", "required": False, "description": words, "schema": kind})
    if operation.creates:
        again = "The same key again gives the first answer and makes nothing new"
        found.append(_header("Idempotency-Key", again, required=False))
    if operation.roles and not operation.own and operation.method != "GET":
        found.append(_header(DEPUTY_HEADER, "The person whose deputy calls; it says so for ever", required=False))
    if operation.match:
        found.append(_header("If-Match", "The ETag of what was seen", required=True))
    return found


def _in_place(part: Any, schema: dict[str, Any]) -> Any:
    """A part of a query's schema with what it refers to written out: a parameter has no definitions of its own."""
    if isinstance(part, list):
        return [_in_place(one, schema) for one in part]
    if isinstance(part, dict) and "$ref" in part:
        named = schema["$defs"][part["$ref"].rpartition("/")[2]]
        return {key: value for key, value in named.items() if key not in ("title", "description")}
    return part


def _header(name: str, about: str, *, required: bool) -> dict[str, Any]:
    return {"name": name, "in": "header", "required": required, "description": about, "schema": {"type": "string"}}


OTHERS: dict[str, dict[str, str]] = {
    "sign_in": {"401": "Name and password do not fit", "403": "Not from the console", "429": "Too many tries"},
    "change_my_password": {"429": "Too many tries"},
    "import_events": {"503": "Too many watch at the moment"},
    "readyz": {"503": "The records cannot be used"},
}
"""Statuses of single operations."""


def _responses(operation: Operation, refs: Any) -> dict[str, Any]:
    good: dict[str, Any] = {"description": "Done" if operation.status != 204 else "Done, nothing to say"}
    if operation.answer is not None:
        good["content"] = {operation.media_type: {"schema": refs[(operation.answer, "serialization")]}}
    elif operation.status != 204:
        text = {"type": "string", "format": "binary"}
        kinds = operation.media_type.split(", ")
        good["content"] = {one: {"schema": {} if one.endswith("/json") else text} for one in kinds}
    if operation.pages:
        good["headers"] = {"Link": {"description": "rel=next (RFC 8288)", "schema": {"type": "string"}}}
    codes = {"400": "The request cannot be read", "413": "It is too large", "429": "Too many requests"}
    if operation.roles:
        codes |= {"401": "Nobody is signed in", "403": "The role does not allow it"}
    if "<" in operation.path or operation.body or operation.query:
        codes |= {"404": "There is no such thing", "422": "The input cannot be used"}
    if operation.method != "GET":
        codes |= {"409": "A rule forbids it", "422": "The input cannot be used", "503": "The ledger does not hold"}
        codes |= {"507": "The disk is full"}
    if operation.body or operation.upload:
        codes |= {"415": "The media type does not fit"}
    codes |= OTHERS.get(operation.name, {})
    if operation.match:
        codes |= {"412": "Somebody else changed it", "428": "If-Match is missing"}
    problem = {"application/problem+json": {"schema": refs[(Problem, "serialization")]}}
    bad = {code: {"description": words, "content": problem} for code, words in sorted(codes.items())}
    rehearsed = {"200": {**good, "description": "A dry run: what would have been made"}}
    return {
        str(operation.status): good,
        **(rehearsed if operation.rehearsed and operation.status == 201 else {}),
        **bad,
    }
