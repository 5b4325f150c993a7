"""Health of the service, on the wire."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel
from doorstone.api.times import Moment
from doorstone.core.operations import Level


class HealthResponse(ApiModel):
    """The process answers."""

    status: Literal["ok"]


class ReadyResponse(ApiModel):
    """The service is ready to be used."""

    status: Literal["ready"]
    version: str
    today: date


class VitalsResponse(ApiModel):
    """What was measured. Sizes are bytes; times are UTC."""

    at: Moment
    schema_version: int
    newest_schema_version: int
    ledger_day: date | None
    records_bytes: int
    free_bytes: int
    devices: int
    in_service: int
    classes: int
    readings: int
    old_readings: int = Field(description="Past their days: something rests on them, or their turn has not come")
    contents: int
    values: int
    oldest_reading: date | None
    entries: int
    waiting_deliveries: int
    oldest_waiting: Moment | None
    given_up_deliveries: int
    open_imports: int
    failed_imports: int
    last_round: Moment | None
    failed_round: str
    faults: list[str] | None = Field(description="Null unless all records and the whole ledger were read")


class CheckResponse(ApiModel):
    """One check of the service's own state, and what to do about it."""

    name: str
    level: Level
    words: str
    hint: str


class CheckUpResponse(ApiModel):
    """The service's own state: what was measured, and what was checked."""

    level: Level = Field(description="That of the worst check")
    vitals: VitalsResponse
    checks: list[CheckResponse]
