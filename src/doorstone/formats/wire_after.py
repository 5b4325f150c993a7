"""What goes over the wire after the kit: attempts, observations, standing, forecasts, overview, ledger, health."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from pydantic import Field

from doorstone.core.platforms import Standing, UpdateClass
from doorstone.core.sorting import State
from doorstone.formats.wire import Asked, CourseShape, ReleaseShape, Shape
from doorstone.formats.wire_time import Moment

# ------------------------------------------------- attempts and observations


class AttemptAsked(Asked):
    device: str
    kit: str = ""
    release: str = ""
    route: Literal["offered", "in-place", "clean"] = "in-place"
    carry_over: Literal["everything", "files", "nothing"] = "everything"
    outcome: Literal["completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned"]
    refused_by: list[str] = Field(default_factory=list)
    seen: str = Field("", max_length=4000)
    media: str = Field("", max_length=200)
    tool_version: str = Field("", max_length=200)
    started_at: Moment
    ended_at: Moment
    notice_accepted: bool = Field(False, description="The vendor's notice was shown and accepted")
    mismatch: str = Field("", max_length=200, description="With carry-over-lost: what did not match")


class AttemptShape(Shape):
    id: str
    device: str
    number: int
    kit: str | None
    platform: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: list[str]
    seen: str
    media: str
    tool_version: str
    unmet: list[str]
    started_at: Moment
    ended_at: Moment
    by: str
    notice_accepted: str = Field(description="The notice that was accepted, word for word; empty if none was")
    mismatch: str
    minutes: int = Field(description="How long it took")


class AttemptList(Shape):
    items: list[AttemptShape]


class ObservationAsked(Asked):
    device: str
    seen_on: date
    update_class: UpdateClass
    result: Literal["arrived", "offered", "not-offered"]
    reason: Literal["", "phased", "held", "unsupported", "unknown"] = ""
    source: str = Field("operator", max_length=64)
    detail: str = Field("", max_length=1000)


class ObservationShape(Shape):
    id: str
    device: str
    seen_on: date
    update_class: str
    result: str
    reason: str
    source: str
    detail: str
    by: str


class ObservationList(Shape):
    items: list[ObservationShape]


class SeenShape(Shape):
    seen_on: date
    result: str
    reason: str
    source: str
    detail: str


class ClassStandingShape(Shape):
    update_class: UpdateClass
    expected: Standing
    because: list[str]
    observed: SeenShape | None
    compared: Literal["as-expected", "better", "worse", "too-old", "not-observed"]


class AttributionShape(Shape):
    """What the requirements of one exception do to one update class."""

    exception: str
    update_class: UpdateClass
    alone: Standing
    shared_with: list[str]
    restored: Standing


class StandingShape(Shape):
    device: str
    release: str
    classes: list[ClassStandingShape]
    attributions: list[AttributionShape]


# ------------------------------------------------------------------ forecast


class SpanShape(Shape):
    first: date
    last: date
    days: int


class ReachShape(Shape):
    release: str
    way: str
    state: State
    route: str
    checks: list[str]
    fixes: list[str]
    overrides: list[str]
    exceptions: list[str]
    missing: list[str]
    why: str
    not_approved: str = Field(description="Why the exceptions in hand carry no kit, if they do not")
    warnings: list[str] = Field(description="What attempts have shown of these overrides, on the device or its model")
    data_lost: bool = Field(description="Whether the device is wiped on the way")


class MoveShape(Shape):
    release: str
    first: date
    latest: date
    way: str
    by_hand: bool
    fixes: list[str]
    overrides: list[str]
    exceptions: list[str]
    route: str
    warnings: list[str] = Field(description="What attempts have shown of its overrides, and of its fixes")


class LineShape(Shape):
    moves: list[MoveShape]
    runway: date | None
    gaps: list[SpanShape]
    ended_by: str
    ended_kind: str


class ForecastShape(Shape):
    release: str
    serviced_through: date | None
    gap_so_far: SpanShape | None
    reaches: list[ReachShape]
    technical: LineShape
    approved: LineShape
    unread: str = Field(description="Why nothing is known of its servicing, if nothing is")


class DeviceForecastShape(Shape):
    device: str
    as_of: date
    edition: str
    releases: list[ReleaseShape]
    forecast: ForecastShape
    course: CourseShape


class MonthShape(Shape):
    month: str
    technical: int
    approved: int
    causes: dict[str, int]


class FleetForecastShape(Shape):
    platform: str
    as_of: date
    devices: int
    unknown: int
    past: int
    months: list[MonthShape]
    ends: dict[str, int]
    courses: dict[str, int]


class RequirementCountShape(Shape):
    requirement: str
    title: str
    marks: dict[str, int]


class CombinationShape(Shape):
    requirements: list[str]
    devices: int


class RollUpShape(Shape):
    release: str
    devices: int
    states: dict[str, int]
    requirements: list[RequirementCountShape]
    combinations: list[CombinationShape]


class SiteCountShape(Shape):
    site: str
    states: dict[str, int]
    uncovered: int


class OverviewShape(Shape):
    platform: str
    name: str
    release: str
    as_of: date
    releases: list[ReleaseShape]
    running: dict[str, int]
    roll_up: RollUpShape
    sites: list[SiteCountShape]
    uncovered: int = Field(description="Devices that run what no exception in force permits")


# -------------------------------------------------------------------- ledger


class EntryShape(Shape):
    seq: int
    at: Moment
    actor: str
    via: str
    action: str
    kind: str
    object: str
    body: dict[str, Any]
    previous: str
    hash: str


class EntryPage(Shape):
    items: list[EntryShape]
    next: str | None


class LedgerCheckShape(Shape):
    entries: int
    ok: bool
    faults: list[str]
    head: str = Field(description="The last entry as number:hash, to be noted elsewhere")


class HealthShape(Shape):
    status: Literal["ok"]


class ReadyShape(Shape):
    status: Literal["ready"]
    version: str
    today: date
