"""Overview and forecasts."""

from __future__ import annotations

from decimal import Decimal

from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.fleet import OverviewResponse
from doorstone.api.forecast import (
    AssumedResponse,
    BudgetPaperResponse,
    BudgetPlanResponse,
    BudgetRequest,
    DeviceForecastResponse,
    DeviceScenarioResponse,
    ExceptionWeightResponse,
    FleetForecastResponse,
    FleetScenarioRequest,
    FleetScenarioResponse,
    ForecastResponse,
    PlanLineResponse,
    ScenarioComparisonResponse,
    ScenarioRequest,
    WayCostResponse,
)
from doorstone.core.forecast.scenarios import Scenario
from doorstone.formats.safe_csv import csv_text
from doorstone.service.operations import EVERYONE, Answer, Call, Operations, page_alone
from doorstone.service.resources.devices import ReleaseQuery
from doorstone.work.context.errors import BadInputError
from doorstone.work.forecast import budgets, forecasts, paper, scenarios
from doorstone.work.snapshot.fix_results import results_by_title
from doorstone.work.snapshot.snapshot import snapshot

operations = Operations("forecast")


class FleetQuery(RequestModel):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")


@operations(
    "GET",
    "/overview",
    "The fleet against a release",
    roles=EVERYONE,
    query=FleetQuery,
    answer=OverviewResponse,
    cacheable=True,
)
def overview(call: Call[FleetQuery, None]) -> OverviewResponse:
    return OverviewResponse.model_validate(forecasts.overview(call.context, call.query.platform, call.query.release))


@operations(
    "GET",
    "/forecast",
    "When devices leave servicing",
    roles=EVERYONE,
    query=FleetQuery,
    answer=FleetForecastResponse,
    cacheable=True,
)
def fleet_forecast(call: Call[FleetQuery, None]) -> FleetForecastResponse:
    found = forecasts.fleet_forecast(call.context, call.query.platform, call.query.release)
    return FleetForecastResponse.model_validate(found)


@operations(
    "GET",
    "/devices/<device>/forecast",
    "What a device can still reach",
    roles=EVERYONE,
    query=ReleaseQuery,
    answer=DeviceForecastResponse,
)
def device_forecast(call: Call[ReleaseQuery, None]) -> DeviceForecastResponse:
    found = forecasts.device_forecast(call.context, call.path["device"], call.query.release)
    shape = DeviceForecastResponse.model_validate(found)
    recorded = results_by_title(snapshot(call.context), call.path["device"])
    for line, shown in ((found.forecast.technical, shape.forecast.technical),
                        (found.forecast.approved, shape.forecast.approved)):  # fmt: skip
        for move, one in zip(line.moves, shown.moves, strict=True):
            one.warnings += [f"{fix.title}: {recorded[fix.title]}" for fix in move.steps if fix.title in recorded]
    return shape


# --------------------------------------------------------------- scenarios


def _supposing(a: ScenarioRequest) -> Scenario:
    return Scenario(a.published, a.serviced, a.ends, frozenset(a.fixed), frozenset(a.granted), a.sorts)


@operations("GET", "/devices/<device>/scenarios", "Assumptions, exceptions and costs side by side", roles=EVERYONE,
            answer=ScenarioComparisonResponse)  # fmt: skip
def device_scenarios(call: Call[None, None]) -> ScenarioComparisonResponse:
    found = scenarios.device_scenarios(call.context, call.path["device"])
    return ScenarioComparisonResponse(
        device=found.device,
        as_of=found.as_of,
        runs=found.runs,
        assumed=[AssumedResponse.model_validate(one) for one in found.compared.assumed],
        exceptions=[ExceptionWeightResponse.model_validate(one) for one in found.compared.exceptions],
        ways=[WayCostResponse.model_validate(one) for one in found.ways],
    )


@operations("POST", "/devices/<device>/what-if", "A device's forecast under a supposition", roles=EVERYONE,
            body=ScenarioRequest, answer=DeviceScenarioResponse, asks=True)  # fmt: skip
def what_if_device(call: Call[None, ScenarioRequest]) -> DeviceScenarioResponse:
    before, after = scenarios.what_if_device(call.context, call.path["device"], _supposing(call.body))
    return DeviceScenarioResponse(
        before=ForecastResponse.model_validate(before), after=ForecastResponse.model_validate(after)
    )


@operations("POST", "/forecast/what-if", "The fleet's forecast under a supposition", roles=EVERYONE,
            body=FleetScenarioRequest, answer=FleetScenarioResponse, asks=True)  # fmt: skip
def what_if_fleet(call: Call[None, FleetScenarioRequest]) -> FleetScenarioResponse:
    found = scenarios.what_if_fleet(call.context, call.body.platform, _supposing(call.body.supposing))
    return FleetScenarioResponse.model_validate(found)


@operations("POST", "/plan", "What a budget buys: the most serviced device-months", roles=EVERYONE, body=BudgetRequest,
            answer=BudgetPlanResponse, asks=True)  # fmt: skip
def budget_plan(call: Call[None, BudgetRequest]) -> BudgetPlanResponse:
    return BudgetPlanResponse.model_validate(_plan(call))


@operations(
    "POST", "/plan.csv", "The plan as a table", roles=EVERYONE, body=BudgetRequest, media_type="text/csv", asks=True
)
def budget_plan_csv(call: Call[None, BudgetRequest]) -> Answer:
    lines = [PlanLineResponse.model_validate(line) for line in _plan(call).lines]
    columns = list(PlanLineResponse.model_fields)
    text = csv_text(columns, [[getattr(line, name) for name in columns] for line in lines])
    return Answer(text.encode(), media_type="text/csv; charset=utf-8", file_name="plan.csv")


def _plan(call: Call[None, BudgetRequest]) -> budgets.BudgetPlan:
    a = call.body
    where = a.where.chosen()
    return budgets.budget_plan(call.context, a.platform, a.budget, where, a.selection, a.without)


class PaperQuery(RequestModel):
    platform: str
    budgets: str = Field("5000", max_length=200, description="Amounts of money, parted by commas: side by side")

    def amounts(self) -> list[Decimal]:
        try:
            return [Decimal(f"{Decimal(word.strip()):f}") for word in self.budgets.split(",") if word.strip()]
        except ArithmeticError as error:
            raise BadInputError(f"{self.budgets!r} are no amounts of money", "Write them as 5000,20000") from error


@operations(
    "GET", "/budget-paper", "Budgets side by side, replacements per quarter, prices, minimum specification",
    roles=EVERYONE, query=PaperQuery, answer=BudgetPaperResponse, cacheable=True,
)  # fmt: skip
def budget_paper(call: Call[PaperQuery, None]) -> BudgetPaperResponse:
    found = paper.budget_paper(call.context, call.query.platform, call.query.amounts())
    return BudgetPaperResponse.model_validate(found)


@operations(
    "GET", "/budget-paper.csv", "The replacements per quarter as a table", roles=EVERYONE, query=PaperQuery,
    media_type="text/csv",
)  # fmt: skip
def budget_paper_csv(call: Call[PaperQuery, None]) -> Answer:
    found = paper.budget_paper(call.context, call.query.platform, call.query.amounts())
    rows = []
    for q in found.replacements.quarters:
        ends = [f"{why} ({devices})" for why, devices in q.ends.items()]
        rows.append([q.label, q.start, q.end, q.first_end, q.devices, q.price, q.cost, ends])
    text = csv_text(["quarter", "from", "through", "first by", "devices", "each", "cost", "runway ends because"], rows)
    return Answer(text.encode(), media_type="text/csv; charset=utf-8", file_name="budget.csv")


@operations(
    "GET", "/budget-paper/page", "The budget paper as a page to print", roles=EVERYONE, query=PaperQuery,
    media_type="text/html",
)  # fmt: skip
def budget_paper_page(call: Call[PaperQuery, None]) -> Answer:
    return page_alone(*paper.paper_page(call.context, call.query.platform, call.query.amounts()))
