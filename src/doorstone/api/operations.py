"""Health of the service, on the wire."""

from __future__ import annotations

from datetime import date
from typing import Literal

from doorstone.api.common import ApiModel


class HealthResponse(ApiModel):
    status: Literal["ok"]


class ReadyResponse(ApiModel):
    status: Literal["ready"]
    version: str
    today: date
