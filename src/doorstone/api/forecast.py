"""Forecasts on the wire: reachable releases, scenarios, costs, budget plans."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.devices import CourseResponse, DeviceFilter
from doorstone.api.platforms import ReleaseResponse
from doorstone.core.forecast.scenarios import Assumption
from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import State


class SpanResponse(ApiModel):
    first: date
    last: date
    days: int


class ReachableReleaseResponse(ApiModel):
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


class MoveResponse(ApiModel):
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


class UpgradePathResponse(ApiModel):
    moves: list[MoveResponse]
    runway: date | None
    gaps: list[SpanResponse]
    ended_by: str
    ended_kind: str


class ForecastResponse(ApiModel):
    release: str
    serviced_through: date | None
    gap_so_far: SpanResponse | None
    reaches: list[ReachableReleaseResponse]
    technical: UpgradePathResponse
    approved: UpgradePathResponse
    unread: str = Field(description="Why nothing is known of its servicing, if nothing is")


class DeviceForecastResponse(ApiModel):
    device: str
    as_of: date
    edition: str
    releases: list[ReleaseResponse]
    forecast: ForecastResponse
    course: CourseResponse


class MonthResponse(ApiModel):
    month: str
    technical: int
    approved: int
    causes: dict[str, int]


class FleetForecastResponse(ApiModel):
    platform: str
    as_of: date
    devices: int
    unknown: int
    past: int
    months: list[MonthResponse]
    ends: dict[str, int]
    courses: dict[str, int]


class AssumedResponse(ApiModel):
    assumption: Assumption
    technical: UpgradePathResponse
    approved: UpgradePathResponse


class ExceptionWeightResponse(ApiModel):
    exception: str
    requirements: list[str]
    with_it: date | None
    without_it: date | None
    fixed_technical: date | None
    fixed_approved: date | None
    changes: bool


class CostLineResponse(ApiModel):
    what: str
    quantity: Decimal
    unit: str
    each: Decimal
    total: Decimal


class WayCostResponse(ApiModel):
    way: Literal["stay", "take", "fix", "except", "extend", "replace"]
    until: date | None
    months: Decimal
    added: Decimal
    lines: list[CostLineResponse]
    cost: Decimal
    per_month: Decimal | None
    how: str


class ScenarioComparisonResponse(ApiModel):
    device: str
    as_of: date
    runs: str
    assumed: list[AssumedResponse]
    exceptions: list[ExceptionWeightResponse]
    ways: list[WayCostResponse]


class ScenarioRequest(RequestModel):
    """What is supposed. Whatever is left out is as it is."""

    published: dict[str, date] = Field({}, description="Release to another day of publication")
    serviced: dict[str, date] = Field({}, description="Release to another last serviced day, for every edition")
    ends: dict[str, str] = Field({}, description="Override to the first release without it; empty for none")
    fixed: list[str] = Field([], description="Requirements taken as met")
    granted: list[str] = Field([], description="Requirements taken as excepted from today on")
    sorts: dict[str, Sort] = Field({}, description="Requirement to another sort")


class DeviceScenarioResponse(ApiModel):
    before: ForecastResponse
    after: ForecastResponse


class FleetScenarioRequest(RequestModel):
    platform: str
    supposing: ScenarioRequest


class LeavingResponse(ApiModel):
    month: str
    before: int
    after: int


class FleetScenarioResponse(ApiModel):
    devices: int
    months: list[LeavingResponse]
    gained_days: int
    longer: int
    shorter: int


class BudgetRequest(RequestModel):
    platform: str
    budget: Decimal = Field(ge=0, le=10**9)
    selection: str = ""
    where: DeviceFilter = DeviceFilter()
    without: list[Literal["take", "fix", "except", "extend", "replace"]] = Field([], description="Ways left out")


class PlanLineResponse(ApiModel):
    way: str
    model: str
    count: int
    each: Decimal
    cost: Decimal
    months_each: Decimal
    how: str


class BudgetPlanResponse(ApiModel):
    platform: str
    budget: Decimal
    cost: Decimal
    months: Decimal
    without_money: Decimal
    at_most: Decimal
    devices: int
    lines: list[PlanLineResponse]


class BudgetColumnResponse(ApiModel):
    budget: Decimal
    cost: Decimal
    months: Decimal
    at_most: Decimal = Field(description="No plan for this budget gives more serviced device-months")
    ways: dict[str, int] = Field(description="Way to devices")


class PriceResponse(ApiModel):
    since: date
    price: Decimal


class QuarterResponse(ApiModel):
    label: str
    start: date
    end: date
    first_end: date = Field(description="The first day on which one of their runways ends")
    devices: int
    price: Decimal
    cost: Decimal
    ends: dict[str, int] = Field(description="What ends their runway, to devices")


class ReplacementsResponse(ApiModel):
    """Every device once: in a quarter, beyond what the sheet knows, or unknown."""

    quarters: list[QuarterResponse]
    beyond: int = Field(description="Devices whose runway is as long as the sheet looks: none to replace yet")
    beyond_until: date | None
    unknown: dict[str, int] = Field(description="What has to be read or settled first, to devices")


class SpecLineResponse(ApiModel):
    fact: str = Field(description="Empty where the requirement can be met in several ways")
    title: str
    asks: str
    requirement: str
    since: str
    floor_from: str = Field(description="Empty if set-up alone refuses")


class BudgetPaperResponse(ApiModel):
    """For the owner of the budget and whoever buys."""

    platform: str
    name: str
    as_of: date
    devices: int
    without_money: Decimal
    budgets: list[BudgetColumnResponse]
    prices: list[PriceResponse]
    replacements: ReplacementsResponse
    specification: list[SpecLineResponse]
