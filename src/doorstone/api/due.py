"""What is due, on the wire."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel
from doorstone.core.due.items import DueKind, LateCost


class CalendarResponse(ApiModel):
    """The address of one's calendar of due dates. It is shown once; a new one revokes it."""

    path: str


class DueResponse(ApiModel):
    """One thing to do by a day, and the object that it concerns."""

    kind: DueKind
    on: date
    overdue: bool
    late_cost: LateCost = Field(description="What it costs to be late: items come in the order of it")
    object_kind: Literal["exception", "device", "platform", "kit", "media", "task"]
    object: str
    words: str


class DueList(ApiModel):
    """What is due, the most costly to be late with first."""

    items: list[DueResponse]
