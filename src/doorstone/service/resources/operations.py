"""Health: whether the process answers, and whether its records can be read and written."""

from __future__ import annotations

import sqlite3

from doorstone import __version__
from doorstone.api.operations import HealthResponse, ReadyResponse
from doorstone.service.operations import PUBLIC, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.store.ledger import LedgerBrokenError

operations = Operations("health")


@operations("GET", "/healthz", "Whether the process answers", roles=PUBLIC, answer=HealthResponse)
def healthz(call: Call[None, None]) -> HealthResponse:
    return HealthResponse(status="ok")


@operations("GET", "/readyz", "Whether the records can be read and written", roles=PUBLIC, answer=ReadyResponse)
def readyz(call: Call[None, None]) -> ReadyResponse:
    try:
        call.context.database.probe()
    except (OSError, sqlite3.Error, LedgerBrokenError) as error:
        hint = "Look at the disk and the data folder, and run 'doorstone ledger verify'"
        raise ServiceProblemError(503, "not-ready", f"The records cannot be used: {error}", hint) from error
    return ReadyResponse(status="ready", version=__version__, today=call.context.today())
