"""Operations: what the API offers, declared once. The routes, the access check and the OpenAPI document come of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from pydantic import BaseModel

from doorstone.work.desk import Actor, Desk

Q = TypeVar("Q")
B = TypeVar("B")

VIEWER, TECHNICIAN, APPROVER, ADMINISTRATOR = "viewer", "technician", "approver", "administrator"
EVERYONE = frozenset({VIEWER, TECHNICIAN, APPROVER, ADMINISTRATOR})
HANDS = frozenset({TECHNICIAN, ADMINISTRATOR})
DECIDERS = frozenset({APPROVER, ADMINISTRATOR})
ADMINISTRATORS = frozenset({ADMINISTRATOR})
PUBLIC: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Call(Generic[Q, B]):
    """One call: the desk, who calls (None only where the operation is public), path, query, body, If-Match."""

    desk: Desk
    caller: Actor | None
    path: dict[str, str]
    query: Q
    body: B
    version: int | None = None

    @property
    def actor(self) -> Actor:
        assert self.caller is not None
        return self.caller


@dataclass(frozen=True, slots=True)
class Answer:
    """What an operation gives back. `etag` is the object's version, `next` the cursor of the next page."""

    body: BaseModel | bytes
    etag: str | None = None
    next: str | None = None
    media_type: str = "application/json"
    file_name: str | None = None


Handler = Callable[[Call[Any, Any]], Answer | BaseModel]


@dataclass(frozen=True, slots=True)
class Operation:
    """One method on one path. `roles` empty means public; `match` asks for If-Match; `creates` takes a key."""

    method: str
    path: str
    name: str
    summary: str
    tag: str
    roles: frozenset[str]
    query: type[BaseModel] | None
    body: type[BaseModel] | None
    answer: type[BaseModel] | None
    media_type: str
    status: int
    creates: bool
    match: bool
    pages: bool
    handler: Handler


class Operations:
    """The operations of one resource, gathered by its decorator."""

    def __init__(self, tag: str) -> None:
        self.tag = tag
        self.all: list[Operation] = []

    def __call__(
        self,
        method: str,
        path: str,
        summary: str,
        *,
        roles: frozenset[str],
        query: type[BaseModel] | None = None,
        body: type[BaseModel] | None = None,
        answer: type[BaseModel] | None = None,
        media_type: str = "application/json",
        status: int = 200,
        creates: bool = False,
        match: bool = False,
        pages: bool = False,
    ) -> Callable[[Handler], Handler]:
        def declare(handler: Handler) -> Handler:
            self.all.append(
                Operation(
                    method, path, handler.__name__, summary, self.tag, roles, query, body, answer,
                    media_type, status, creates, match, pages, handler,
                )
            )  # fmt: skip
            return handler

        return declare
