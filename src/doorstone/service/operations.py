"""Operations: what the API offers, declared once. Routes, access checks and the OpenAPI document are made from them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, BinaryIO, Generic, TypeVar

from msgspec import Struct
from pydantic import BaseModel

from doorstone.service.import_worker import ImportWorker
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context

Q = TypeVar("Q")
B = TypeVar("B")

VIEWER, TECHNICIAN, APPROVER, ADMINISTRATOR = "viewer", "technician", "approver", "administrator"
REPORTER = "reporter"
EVERYONE = frozenset({VIEWER, TECHNICIAN, APPROVER, ADMINISTRATOR})
HANDS = frozenset({TECHNICIAN, ADMINISTRATOR})
DECIDERS = frozenset({APPROVER, ADMINISTRATOR})
ADMINISTRATORS = frozenset({ADMINISTRATOR})
READERS_IN = HANDS | {REPORTER}
PUBLIC: frozenset[str] = frozenset()


class Call(Struct, Generic[Q, B], frozen=True):
    """One call: the context, who calls (None only where the operation is public), path, query, body, If-Match.

    `jobs` runs what takes longer than an answer may; `file` is the body of an upload, as it comes in. `dry`: what it
    does is taken back afterwards.
    """

    context: Context
    caller: Actor | None
    path: dict[str, str]
    query: Q
    body: B
    version: int | None = None
    jobs: ImportWorker | None = None
    file: BinaryIO | None = None
    dry: bool = False

    @property
    def actor(self) -> Actor:
        assert self.caller is not None
        return self.caller


class Answer(Struct, frozen=True):
    """The answer of an operation. `etag` is the object's version, `next` the cursor of the next page.

    `policy` is a content security policy for a page that stands alone. `digest` is that of the body, where it is known.
    """

    body: BaseModel | bytes | Iterator[bytes]
    etag: str | None = None
    next: str | None = None
    media_type: str = "application/json"
    file_name: str | None = None
    policy: str | None = None
    digest: str | None = None


def page_alone(text: str, style: str) -> Answer:
    """An HTML page that stands alone. Its policy allows nothing but its own style, known by its digest."""
    policy = f"default-src 'none'; style-src '{style}'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    return Answer(text.encode(), media_type="text/html; charset=utf-8", policy=policy)


DEPUTY_HEADER = "Doorstone-In-Place-Of"
"""Names the person in whose place the caller acts."""
PERSONAL_TAGS = frozenset({"people", "notifications", "operations"})
"""People, roles, passwords, second factors, subjects, tokens, deputies, webhooks and settings."""
PERSONAL_NAMES = frozenset({"change_risk"})
NOT_REHEARSED = frozenset({"sign_out"})
DRY_IMPORTS = frozenset({"import_readings", "begin_import"})
LARGE = frozenset({"fix_round", "list_uncovered"})
"""Kept answers that grow with the fleet: of each operation the last is kept, whatever was asked."""

Handler = Callable[[Call[Any, Any]], Answer | BaseModel]
AffectedDevices = Callable[[Call[Any, Any]], Iterable[str]]
"""The devices that a call changes something of: by their sites, whoever has a greater role there may."""


class Operation(Struct, frozen=True):
    """One method on one path. `roles` empty means public; `match` asks for If-Match; `creates` takes a key.

    `upload` takes a body of any size and kind, which the handler reads as it comes. With `affected_devices`, a role
    that is held only at the sites of those devices counts as well. `cacheable`: the answer is the same for everybody
    and rests on the day, the ledger and the devices' own count, so it is made once while they stand still. `own`: the
    operation takes a signed-in person, or the token of their own command line. `asks`: what it is asked with stands
    in a body, yet it records nothing.
    """

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
    upload: bool
    affected_devices: AffectedDevices | None
    cacheable: bool
    own: bool
    asks: bool
    handler: Handler

    @property
    def personal(self) -> bool:
        """Whether nobody may do it on behalf of another person: it changes who may do what, or a setting."""
        return not self.reads and bool(self.roles) and (self.tag in PERSONAL_TAGS or self.name in PERSONAL_NAMES)

    @property
    def reads(self) -> bool:
        """Whether it records nothing."""
        return self.method == "GET" or self.asks

    @property
    def rehearsed(self) -> bool:
        """Whether it accepts `dry_run`: it is done in a transaction that is taken back, or is a dry import."""
        return self.method != "GET" and bool(self.roles) and not self.upload and self.name not in NOT_REHEARSED


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
        upload: bool = False,
        affected_devices: AffectedDevices | None = None,
        cacheable: bool = False,
        own: bool = False,
        asks: bool = False,
    ) -> Callable[[Handler], Handler]:
        def declare(handler: Handler) -> Handler:
            self.all.append(
                Operation(
                    method, path, handler.__name__, summary, self.tag, roles, query, body, answer,
                    media_type, status, creates, match, pages, upload, affected_devices, cacheable, own, asks, handler,
                )
            )  # fmt: skip
            return handler

        return declare
