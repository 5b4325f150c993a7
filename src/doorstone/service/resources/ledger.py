"""The ledger, read and checked."""

from __future__ import annotations

from pydantic import Field

from doorstone.formats.wire import Asked
from doorstone.formats.wire_after import EntryPage, EntryShape, LedgerCheckShape
from doorstone.service.operations import EVERYONE, Answer, Call, Operations
from doorstone.work import ledger

operations = Operations("ledger")


class LedgerQuery(Asked):
    kind: str = ""
    object: str = ""
    cursor: int | None = Field(None, ge=1)
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


@operations("GET", "/ledger/check", "Whether the chain holds", roles=EVERYONE, answer=LedgerCheckShape)
def check_ledger(call: Call[None, None]) -> LedgerCheckShape:
    return LedgerCheckShape.model_validate(ledger.check_ledger(call.desk))
