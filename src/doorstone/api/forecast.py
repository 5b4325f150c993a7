"""Forecasts on the wire: reachable releases, scenarios, costs, budget plans."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel, UncoveredBrief
from doorstone.api.devices import CourseResponse, DeviceFilter
from doorstone.api.platforms import ReleaseResponse
from doorstone.core.forecast.scenarios import Assumption
from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import State


class SpanResponse(ApiModel):
    """Days without servicing: the first, the last, and how many."""

    first: date
    last: date
    days: int


class ReachableReleaseResponse(ApiModel):
    """How a device stands to one release: what carries it there, and what is missing."""

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
    """One move of a path: to which release, in which days, and what it takes."""

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
    """Moves one after the other, the runway that they give, and what ends it."""

    moves: list[MoveResponse]
    runway: date | None
    gaps: list[SpanResponse]
    ended_by: str
    ended_kind: str


class ForecastResponse(ApiModel):
    """The paths of a device: by what is possible, and by what is approved."""

    release: str
    serviced_through: date | None
    gap_so_far: SpanResponse | None
    reaches: list[ReachableReleaseResponse]
    technical: UpgradePathResponse
    approved: UpgradePathResponse
    unread: str = Field(description="Why nothing is known of its servicing, if nothing is")


class DeviceForecastResponse(ApiModel):
    """A device's forecast, and the course that follows from it."""

    device: str
    as_of: date
    edition: str
    releases: list[ReleaseResponse]
    forecast: ForecastResponse
    course: CourseResponse
    uncovered: UncoveredBrief | None = Field(description="What it runs without permission; null if it is covered")


class MonthResponse(ApiModel):
    """How many runways end in a month, and what ends them."""

    month: str
    technical: int
    approved: int
    causes: dict[str, int]


class FleetForecastResponse(ApiModel):
    """When the runways of a platform's devices end, month by month."""

    platform: str
    as_of: date
    devices: int
    unknown: int
    past: int
    months: list[MonthResponse]
    ends: dict[str, int]
    courses: dict[str, int]


class AssumedResponse(ApiModel):
    """A device's paths under one assumption about releases to come."""

    assumption: Assumption
    technical: UpgradePathResponse
    approved: UpgradePathResponse


class ExceptionWeightResponse(ApiModel):
    """What an exception adds to a device's runway, and what a fix would give instead."""

    exception: str
    requirements: list[str]
    with_it: date | None
    without_it: date | None
    fixed_technical: date | None
    fixed_approved: date | None
    changes: bool


class CostLineResponse(ApiModel):
    """One line of a way's cost."""

    what: str
    quantity: Decimal
    unit: str
    each: Decimal
    total: Decimal


class WayCostResponse(ApiModel):
    """What one way costs on a device, and how long it lasts."""

    way: Literal["stay", "take", "fix", "except", "extend", "replace"]
    until: date | None
    months: Decimal
    added: Decimal
    lines: list[CostLineResponse]
    cost: Decimal
    per_month: Decimal | None
    how: str


class ScenarioComparisonResponse(ApiModel):
    """A device under several assumptions: its paths, its exceptions' worth, the cost of each way."""

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
    """A device's forecast as it is, and under what was supposed."""

    before: ForecastResponse
    after: ForecastResponse


class FleetScenarioRequest(RequestModel):
    """A scenario to suppose for a whole platform."""

    platform: str
    supposing: ScenarioRequest


class LeavingResponse(ApiModel):
    """How many runways end in a month, before and after what was supposed."""

    month: str
    before: int
    after: int


class FleetScenarioResponse(ApiModel):
    """What a scenario changes for a platform, in devices and days of servicing."""

    devices: int
    months: list[LeavingResponse]
    gained_days: int
    longer: int
    shorter: int


class BudgetRequest(RequestModel):
    """A sum to spend on devices, and which ways may be bought."""

    platform: str
    budget: Decimal = Field(ge=0, le=10**9)
    selection: str = ""
    where: DeviceFilter = DeviceFilter()
    without: list[Literal["take", "fix", "except", "extend", "replace"]] = Field([], description="Ways left out")


class PlanLineResponse(ApiModel):
    """One way bought for devices of one model."""

    way: str
    model: str
    count: int
    each: Decimal
    cost: Decimal
    months_each: Decimal
    how: str


class BudgetPlanResponse(ApiModel):
    """What to buy with a budget, and the serviced device-months that it gives."""

    platform: str
    budget: Decimal
    cost: Decimal
    months: Decimal
    without_money: Decimal
    at_most: Decimal
    devices: int
    lines: list[PlanLineResponse]


class BudgetColumnResponse(ApiModel):
    """What one budget would buy."""

    budget: Decimal
    cost: Decimal
    months: Decimal
    at_most: Decimal = Field(description="No plan for this budget gives more serviced device-months")
    ways: dict[str, int] = Field(description="Way to devices")


class PriceResponse(ApiModel):
    """The price of a new device from a day on."""

    since: date
    price: Decimal


class QuarterResponse(ApiModel):
    """Devices to replace in a quarter, and their price."""

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
    """What a device that is bought has to have."""

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
