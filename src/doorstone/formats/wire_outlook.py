"""What goes over the wire of looking further: follow-ups, verifications, rates, outlooks, costs, plans."""

from __future__ import annotations

import json
from datetime import date
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from doorstone.core.outlook import Assumption
from doorstone.core.platforms import Sort
from doorstone.formats.wire import Asked, Shape
from doorstone.formats.wire_after import AttemptAsked, ForecastShape, LineShape, ObservationAsked
from doorstone.formats.wire_fleet import FilterAsked
from doorstone.formats.wire_time import Moment

# ------------------------------------------------------------ attempts, observations


class AttemptBatchAsked(Asked):
    items: list[AttemptAsked] = Field(min_length=1, max_length=500)


class ObservationBatchAsked(Asked):
    items: list[ObservationAsked] = Field(min_length=1, max_length=20_000)


class BatchShape(Shape):
    recorded: int
    known: int = Field(description="Already there, and left alone")


class DraftShape(Shape):
    """What the next attempt on a device starts from."""

    device: str
    number: int
    kit: str = Field(description="The newest that stands; empty if none does")
    media: str
    tool_version: str
    met: list[str] = Field(description="What earlier attempts met, in order")


class RateShape(Shape):
    key: str
    tried: int
    done: int
    low: float = Field(description="Lower end of the 95 % interval (Wilson), a share")
    high: float


class RateList(Shape):
    items: list[RateShape]


# -------------------------------------------------------------------- follow-ups


class FollowUpShape(Shape):
    id: str
    attempt: str
    device: str
    name: str
    title: str
    todo: str
    kind: str
    blocking: bool
    due_on: date
    state: Literal["open", "done", "failed", "skipped"]
    answer: str
    reason: str
    by: str
    at: str


class FollowUpsShape(Shape):
    device: str
    attempt: str
    steps: list[FollowUpShape]
    blocked: bool = Field(description="Something is open that the device is not finished without")
    rollback_until: date | None


class FollowUpAsked(Asked):
    state: Literal["done", "failed", "skipped"]
    answer: Literal["", "as-before", "slower", "faster"] = ""
    reason: str = Field("", max_length=500)
    confirm: bool = Field(False, description="Said twice: that doing it ends going back is meant")


def _as_text(value: Any) -> Any:
    """A value of a JSON store as the text that is kept: a list or number as JSON writes it."""
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


_Kept = Annotated[str, BeforeValidator(_as_text)]


class SettingStateShape(Asked):
    place: str = ""
    section: str = ""
    name: str
    state: Literal["right", "missing", "different", "near-miss"]
    expected: _Kept = ""
    found: _Kept = ""
    near: str = ""
    slip: str = ""


class VerifyReportAsked(Asked):
    """What `verify` of a kit printed on a device."""

    kit: str
    ok: bool
    settings: list[SettingStateShape] = Field(max_length=5000)


class ChangedShape(Shape):
    setting: str
    was: str
    now: str


class VerifiedShape(Shape):
    id: str
    kit: str
    device: str
    at: Moment
    by: str
    ok: bool
    settings: list[dict[str, str]]
    changed: list[ChangedShape]


class VerifiedList(Shape):
    items: list[VerifiedShape]


# ---------------------------------------------------------------------- outlook


class AssumedShape(Shape):
    assumption: Assumption
    technical: LineShape
    approved: LineShape


class ExceptionWeightShape(Shape):
    exception: str
    requirements: list[str]
    with_it: date | None
    without_it: date | None
    fixed_technical: date | None
    fixed_approved: date | None
    changes: bool


class CostLineShape(Shape):
    what: str
    quantity: Decimal
    unit: str
    each: Decimal
    total: Decimal


class WayCostShape(Shape):
    way: Literal["stay", "take", "fix", "except", "extend", "replace"]
    until: date | None
    months: Decimal
    added: Decimal
    lines: list[CostLineShape]
    cost: Decimal
    per_month: Decimal | None
    how: str


class OutlookShape(Shape):
    device: str
    as_of: date
    runs: str
    assumed: list[AssumedShape]
    exceptions: list[ExceptionWeightShape]
    ways: list[WayCostShape]


class SupposingAsked(Asked):
    """What is supposed. Whatever is left out is as it is."""

    published: dict[str, date] = Field({}, description="Release to another day of publication")
    serviced: dict[str, date] = Field({}, description="Release to another last serviced day, for every edition")
    ends: dict[str, str] = Field({}, description="Override to the first release without it; empty for none")
    fixed: list[str] = Field([], description="Requirements taken as met")
    granted: list[str] = Field([], description="Requirements taken as excepted from today on")
    sorts: dict[str, Sort] = Field({}, description="Requirement to another sort")


class DeviceSupposedShape(Shape):
    before: ForecastShape
    after: ForecastShape


class FleetSupposingAsked(Asked):
    platform: str
    supposing: SupposingAsked


class LeavingShape(Shape):
    month: str
    before: int
    after: int


class FleetSupposedShape(Shape):
    devices: int
    months: list[LeavingShape]
    gained_days: int
    longer: int
    shorter: int


class BudgetAsked(Asked):
    platform: str
    budget: Decimal = Field(ge=0, le=10**9)
    selection: str = ""
    where: FilterAsked = FilterAsked()
    without: list[Literal["take", "fix", "except", "extend", "replace"]] = Field([], description="Ways left out")


class PlanLineShape(Shape):
    way: str
    model: str
    count: int
    each: Decimal
    cost: Decimal
    months_each: Decimal
    how: str


class BudgetPlanShape(Shape):
    platform: str
    budget: Decimal
    cost: Decimal
    months: Decimal
    without_money: Decimal
    at_most: Decimal
    devices: int
    lines: list[PlanLineShape]
