"""Health: whether the process answers, and whether its records can be read."""

from __future__ import annotations

from doorstone import __version__
from doorstone.formats.wire_after import HealthShape, ReadyShape
from doorstone.service.operations import PUBLIC, Call, Operations
from doorstone.work.ledger import list_entries

operations = Operations("health")


@operations("GET", "/healthz", "Whether the process answers", roles=PUBLIC, answer=HealthShape)
def healthz(call: Call[None, None]) -> HealthShape:
    return HealthShape(status="ok")


@operations("GET", "/readyz", "Whether the records can be read", roles=PUBLIC, answer=ReadyShape)
def readyz(call: Call[None, None]) -> ReadyShape:
    list_entries(call.desk, limit=1)
    return ReadyShape(status="ready", version=__version__, today=call.desk.today())
