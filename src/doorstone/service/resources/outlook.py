"""Looking further: outlooks of a device, what if, and a plan for a budget."""

from __future__ import annotations

from doorstone.core.outlook import Supposing
from doorstone.formats.tables import csv_text
from doorstone.formats.wire_after import ForecastShape
from doorstone.formats.wire_outlook import (
    AssumedShape,
    BudgetAsked,
    BudgetPlanShape,
    DeviceSupposedShape,
    ExceptionWeightShape,
    FleetSupposedShape,
    FleetSupposingAsked,
    OutlookShape,
    PlanLineShape,
    SupposingAsked,
    WayCostShape,
)
from doorstone.service.operations import EVERYONE, Answer, Call, Operations
from doorstone.store.devices import Filter
from doorstone.work import outlook

operations = Operations("outlook")


def _supposing(a: SupposingAsked) -> Supposing:
    return Supposing(a.published, a.serviced, a.ends, frozenset(a.fixed), frozenset(a.granted), a.sorts)


@operations("GET", "/devices/<device>/outlook", "Assumptions, exceptions and costs side by side", roles=EVERYONE,
            answer=OutlookShape)  # fmt: skip
def device_outlook(call: Call[None, None]) -> OutlookShape:
    found = outlook.device_outlook(call.desk, call.path["device"])
    return OutlookShape(
        device=found.device,
        as_of=found.as_of,
        runs=found.runs,
        assumed=[AssumedShape.model_validate(one) for one in found.outlook.assumed],
        exceptions=[ExceptionWeightShape.model_validate(one) for one in found.outlook.exceptions],
        ways=[WayCostShape.model_validate(one) for one in found.ways],
    )


@operations("POST", "/devices/<device>/what-if", "A device's forecast under a supposition", roles=EVERYONE,
            body=SupposingAsked, answer=DeviceSupposedShape)  # fmt: skip
def what_if_device(call: Call[None, SupposingAsked]) -> DeviceSupposedShape:
    before, after = outlook.what_if_device(call.desk, call.path["device"], _supposing(call.body))
    return DeviceSupposedShape(before=ForecastShape.model_validate(before), after=ForecastShape.model_validate(after))


@operations("POST", "/forecast/what-if", "The fleet's forecast under a supposition", roles=EVERYONE,
            body=FleetSupposingAsked, answer=FleetSupposedShape)  # fmt: skip
def what_if_fleet(call: Call[None, FleetSupposingAsked]) -> FleetSupposedShape:
    found = outlook.what_if_fleet(call.desk, call.body.platform, _supposing(call.body.supposing))
    return FleetSupposedShape.model_validate(found)


@operations("POST", "/plan", "What a budget buys: the most serviced device-months", roles=EVERYONE, body=BudgetAsked,
            answer=BudgetPlanShape)  # fmt: skip
def budget_plan(call: Call[None, BudgetAsked]) -> BudgetPlanShape:
    return BudgetPlanShape.model_validate(_plan(call))


@operations("POST", "/plan.csv", "The plan as a table", roles=EVERYONE, body=BudgetAsked, media_type="text/csv")
def budget_plan_csv(call: Call[None, BudgetAsked]) -> Answer:
    lines = [PlanLineShape.model_validate(line) for line in _plan(call).lines]
    columns = list(PlanLineShape.model_fields)
    text = csv_text(columns, [[getattr(line, name) for name in columns] for line in lines])
    return Answer(text.encode(), media_type="text/csv; charset=utf-8", file_name="plan.csv")


def _plan(call: Call[None, BudgetAsked]) -> outlook.BudgetPlan:
    a = call.body
    where = Filter(**a.where.model_dump())
    return outlook.budget_plan(call.desk, a.platform, a.budget, where, a.selection, a.without)
