"""The ledger, read and checked."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import date

from msgspec.structs import asdict
from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.ledger import EntryPage, EntryResponse, LedgerCheckResponse, StoryLineResponse, StoryResponse
from doorstone.service.evidence_files import evidence_pack
from doorstone.service.operations import EVERYONE, Answer, Call, Operations
from doorstone.work.context.context import Context
from doorstone.work.exceptions import register
from doorstone.work.ledger import entries as ledger
from doorstone.work.ledger.evidence import EvidenceRequest

operations = Operations("ledger")


class LedgerQuery(RequestModel):
    kind: str = ""
    object: str = ""
    cursor: int | None = Field(None, ge=1, le=2**53)
    limit: int = Field(50, ge=1, le=500)


@operations(
    "GET", "/ledger", "Every decision, newest first", roles=EVERYONE, query=LedgerQuery, answer=EntryPage, pages=True
)
def list_ledger(call: Call[LedgerQuery, None]) -> Answer:
    q = call.query
    entries = ledger.list_entries(call.context, q.cursor, q.limit + 1, q.kind, q.object)
    page = entries[: q.limit]
    further = str(page[-1].seq) if len(entries) > q.limit else None
    items = [EntryResponse.model_validate(entry) for entry in page]
    return Answer(EntryPage(items=items, next=further), next=further)


class StoryQuery(RequestModel):
    kind: str
    object: str


@operations(
    "GET", "/ledger/story", "The history of one object, in sentences", roles=EVERYONE, query=StoryQuery,
    answer=StoryResponse,
)  # fmt: skip
def tell_story(call: Call[StoryQuery, None]) -> StoryResponse:
    found = register.story(call.context, call.query.kind, call.query.object)
    return StoryResponse(items=[StoryLineResponse.model_validate(line) for line in found])


@operations(
    "GET", "/ledger/export", "The whole ledger, an entry a line, oldest first", roles=EVERYONE,
    media_type="application/x-ndjson",
)  # fmt: skip
def export_ledger(call: Call[None, None]) -> Answer:
    return Answer(_lines(call.context), media_type="application/x-ndjson; charset=utf-8", file_name="ledger.ndjson")


def _lines(context: Context) -> Iterator[bytes]:
    after = 0
    while page := ledger.walk(context, after, 500):
        yield "".join(json.dumps(asdict(entry), ensure_ascii=False) + "\n" for entry in page).encode()
        after = page[-1].seq


class EvidenceQuery(RequestModel):
    devices: str = Field("", max_length=20_000, description="Device ids, parted by commas")
    selection: str = Field("", description="A saved selection")
    site: list[str] = Field([], max_length=500, description="Every device at this site; give it once for each site")
    everything: bool = Field(False, description="Every device of the organisation")
    exception: str = Field("", description="One exception, with its devices")
    start: date | None = Field(None, description="First day; from the first entry if left out")
    end: date | None = Field(None, description="Last day; today if left out")


@operations(
    "GET", "/evidence", "A signed archive with everything an auditor asks about a scope and a period", roles=EVERYONE,
    query=EvidenceQuery, media_type="application/zip",
)  # fmt: skip
def make_evidence(call: Call[EvidenceQuery, None]) -> Answer:
    q = call.query
    devices = tuple(name.strip() for name in q.devices.split(",") if name.strip())
    request = EvidenceRequest(devices, q.selection, tuple(q.site), q.exception, q.start, q.end, q.everything)
    name = f"evidence-{call.context.today()}.zip"
    return Answer(evidence_pack(call.context, request), media_type="application/zip", file_name=name)


class CheckQuery(RequestModel):
    kept: str = Field("", max_length=100, description="A head that was noted elsewhere, as number:hash")


@operations(
    "GET",
    "/ledger/check",
    "Check the chain of the ledger",
    roles=EVERYONE,
    query=CheckQuery,
    answer=LedgerCheckResponse,
)
def check_ledger(call: Call[CheckQuery, None]) -> LedgerCheckResponse:
    return LedgerCheckResponse.model_validate(ledger.check_ledger(call.context, call.query.kept))
