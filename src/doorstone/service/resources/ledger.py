"""The ledger, read and checked."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict

from pydantic import Field

from doorstone.formats.wire import Asked
from doorstone.formats.wire_after import EntryPage, EntryShape, LedgerCheckShape
from doorstone.formats.wire_exceptions import StoryLineShape, StoryShape
from doorstone.service.operations import EVERYONE, Answer, Call, Operations
from doorstone.work import ledger, register
from doorstone.work.desk import Desk

operations = Operations("ledger")


class LedgerQuery(Asked):
    kind: str = ""
    object: str = ""
    cursor: int | None = Field(None, ge=1, le=2**53)
    limit: int = Field(50, ge=1, le=500)


@operations(
    "GET", "/ledger", "Every decision, newest first", roles=EVERYONE, query=LedgerQuery, answer=EntryPage, pages=True
)
def list_ledger(call: Call[LedgerQuery, None]) -> Answer:
    q = call.query
    entries = ledger.list_entries(call.desk, q.cursor, q.limit + 1, q.kind, q.object)
    page = entries[: q.limit]
    further = str(page[-1].seq) if len(entries) > q.limit else None
    items = [EntryShape.model_validate(entry) for entry in page]
    return Answer(EntryPage(items=items, next=further), next=further)


class StoryQuery(Asked):
    kind: str
    object: str


@operations(
    "GET", "/ledger/story", "What happened to one object, in sentences", roles=EVERYONE, query=StoryQuery,
    answer=StoryShape,
)  # fmt: skip
def tell_story(call: Call[StoryQuery, None]) -> StoryShape:
    found = register.story(call.desk, call.query.kind, call.query.object)
    return StoryShape(items=[StoryLineShape.model_validate(line) for line in found])


@operations(
    "GET", "/ledger/export", "The whole ledger, an entry a line, oldest first", roles=EVERYONE,
    media_type="application/x-ndjson",
)  # fmt: skip
def export_ledger(call: Call[None, None]) -> Answer:
    return Answer(_lines(call.desk), media_type="application/x-ndjson; charset=utf-8", file_name="ledger.ndjson")


def _lines(desk: Desk) -> Iterator[bytes]:
    after = 0
    while page := ledger.walk(desk, after, 500):
        yield "".join(json.dumps(asdict(entry), ensure_ascii=False) + "\n" for entry in page).encode()
        after = page[-1].seq


class CheckQuery(Asked):
    kept: str = Field("", max_length=100, description="A head that was noted elsewhere, as number:hash")


@operations(
    "GET", "/ledger/check", "Whether the chain holds", roles=EVERYONE, query=CheckQuery, answer=LedgerCheckShape
)
def check_ledger(call: Call[CheckQuery, None]) -> LedgerCheckShape:
    return LedgerCheckShape.model_validate(ledger.check_ledger(call.desk, call.query.kept))
