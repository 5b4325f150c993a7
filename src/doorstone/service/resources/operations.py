"""Health: whether the process answers, whether its records can be read and written, and the check-up."""

from __future__ import annotations

import sqlite3

from pydantic import Field

from doorstone import __version__
from doorstone.api.common import RequestModel
from doorstone.api.operations import CheckUpResponse, HealthResponse, ReadyResponse
from doorstone.service.operations import ADMINISTRATORS, PUBLIC, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.store.ledger import LedgerBrokenError
from doorstone.work.operations import doctor as doctors

health = Operations("health")
operations = Operations("operations")


@health("GET", "/healthz", "Whether the process answers", roles=PUBLIC, answer=HealthResponse)
def healthz(call: Call[None, None]) -> HealthResponse:
    return HealthResponse(status="ok")


@health("GET", "/readyz", "Whether the records can be read and written", roles=PUBLIC, answer=ReadyResponse)
def readyz(call: Call[None, None]) -> ReadyResponse:
    try:
        call.context.database.probe()
    except (OSError, sqlite3.Error, LedgerBrokenError) as error:
        hint = "Look at the disk and the data folder, and run 'doorstone ledger verify'"
        raise ServiceProblemError(503, "not-ready", f"The records cannot be used: {error}", hint) from error
    return ReadyResponse(status="ready", version=__version__, today=call.context.today())


class DoctorQuery(RequestModel):
    deep: bool = Field(False, description="Read all records and the whole ledger as well; takes long on large ones")


@operations(
    "GET", "/doctor", "Check-up of the service: records, disk, history, imports, deliveries, rounds",
    roles=ADMINISTRATORS, query=DoctorQuery, answer=CheckUpResponse,
)  # fmt: skip
def doctor(call: Call[DoctorQuery, None]) -> CheckUpResponse:
    return CheckUpResponse.model_validate(doctors.look_over(call.context, deep=call.query.deep))
