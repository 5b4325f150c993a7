"""Health: whether the process answers, and whether its records can be read."""

from __future__ import annotations

from doorstone import __version__
from doorstone.formats.wire_after import HealthShape, ReadyShape
from doorstone.service.operations import PUBLIC, Call, Operations

operations = Operations("health")


@operations("GET", "/healthz", "Whether the process answers", roles=PUBLIC, answer=HealthShape)
def healthz(call: Call[None, None]) -> HealthShape:
    return HealthShape(status="ok")


@operations("GET", "/readyz", "Whether the records can be read", roles=PUBLIC, answer=ReadyShape)
def readyz(call: Call[None, None]) -> ReadyShape:
    with call.desk.database.read() as db:
        db.execute("SELECT 1 FROM ledger LIMIT 1").fetchone()
    return ReadyShape(status="ready", version=__version__, today=call.desk.today())
