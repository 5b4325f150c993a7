"""The fleet as a whole: counts, comparison, what-if, fixes to take on a round, saved selections."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from doorstone.api.common import KitRoute, RequestModel
from doorstone.api.devices import DeviceFilter, SelectionList, SelectionRequest, SelectionResponse
from doorstone.api.fixes import (
    DeviceFixesResponse,
    FixDoneRequest,
    FixDoneResponse,
    FixRoundResponse,
    FixStepResponse,
    SparedFixResponse,
)
from doorstone.api.fleet import (
    CombinationResponse,
    ComparisonResponse,
    FleetResponse,
    GroupResponse,
    RequirementCountResponse,
    WhatIfRequest,
    WhatIfResponse,
)
from doorstone.core.fixes.plan import stop_before
from doorstone.core.fleet import SortScenario, WhatIf
from doorstone.service.operations import EVERYONE, HANDS, Answer, Call, Operations
from doorstone.store.devices.selections import SelectionRow
from doorstone.work import fleet
from doorstone.work.devices import selections
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes import plans as fixes
from doorstone.work.snapshot.fix_results import FixDone, fixes_of, results_by_title
from doorstone.work.snapshot.snapshot import snapshot

operations = Operations("fleet")


class ChosenQuery(DeviceFilter):
    """Which devices of which platform, against which release."""

    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    selection: str = Field("", description="A saved selection; the other conditions come on top of it")


class FixRoundQuery(ChosenQuery):
    visits: int = Field(100, ge=1, le=10_000, description="Devices listed of each action at a site; all are counted")


class FleetQuery(ChosenQuery):
    by: str = Field("site", description="Group by site, model, role or runs")


class CompareQuery(ChosenQuery):
    route: KitRoute = "in-place"
    other_release: str = Field("", description="The second side's release; the same if left out")
    other_route: KitRoute = "in-place"


class ReleaseQuery(RequestModel):
    release: str = Field("", description="Target release; the last published one if left out")


@operations(
    "GET", "/fleet", "Counts over the fleet", roles=EVERYONE, query=FleetQuery, answer=FleetResponse, cacheable=True
)
def fleet_view(call: Call[FleetQuery, None]) -> FleetResponse:
    q = call.query
    found = fleet.fleet_view(call.context, q.platform, q.release, q.chosen(), q.selection, q.by)
    return FleetResponse(
        platform=found.platform,
        release=found.release,
        by=found.by,
        devices=found.roll_up.devices,
        states=dict(found.states),
        requirements=[RequirementCountResponse.model_validate(count) for count in found.roll_up.requirements],
        combinations=[CombinationResponse.model_validate(one) for one in found.roll_up.combinations],
        groups=[GroupResponse.model_validate(group) for group in found.groups],
    )


@operations(
    "GET", "/fleet/comparison", "Two releases or routes side by side", roles=EVERYONE, query=CompareQuery,
    answer=ComparisonResponse, cacheable=True,
)  # fmt: skip
def compare_fleet(call: Call[CompareQuery, None]) -> ComparisonResponse:
    q = call.query
    one, other = (q.release, q.route), (q.other_release or q.release, q.other_route)
    return ComparisonResponse.model_validate(
        fleet.compare(call.context, q.platform, one, other, q.chosen(), q.selection)
    )


@operations(
    "POST", "/fleet/what-if", "Counts before and after supposed changes", roles=EVERYONE, body=WhatIfRequest,
    answer=WhatIfResponse, asks=True)  # fmt: skip
def what_if(call: Call[None, WhatIfRequest]) -> WhatIfResponse:
    a = call.body
    sorts = tuple(SortScenario(s.requirement, s.sort, s.model) for s in a.sorts)
    scenario = WhatIf(tuple(a.fixes), a.all_fixes, sorts, tuple(a.approve))
    found = fleet.what_if(call.context, a.platform, a.release, scenario, a.where.chosen(), a.selection)
    return WhatIfResponse.model_validate(found)


@operations(
    "GET",
    "/fixes",
    "The fixes of the fleet, by site",
    roles=EVERYONE,
    query=FixRoundQuery,
    answer=FixRoundResponse,
    cacheable=True,
)
def fix_round(call: Call[FixRoundQuery, None]) -> FixRoundResponse:
    q = call.query
    return FixRoundResponse.model_validate(
        fixes.fix_round(call.context, q.platform, q.release, q.chosen(), q.selection, q.visits)
    )


@operations("GET", "/fixes.csv", "The same as CSV", roles=EVERYONE, query=ChosenQuery, media_type="text/csv")
def fix_round_csv(call: Call[ChosenQuery, None]) -> Answer:
    q = call.query
    found = fixes.fix_round(call.context, q.platform, q.release, q.chosen(), q.selection)
    data = fixes.fix_round_csv(found).encode()
    return Answer(data, media_type="text/csv", file_name=f"fixes-{found.platform}-{found.release}.csv")


@operations(
    "GET", "/devices/<device>/fixes", "The fixes of one device, combined", roles=EVERYONE, query=ReleaseQuery,
    answer=DeviceFixesResponse,
)  # fmt: skip
def device_fixes(call: Call[ReleaseQuery, None]) -> DeviceFixesResponse:
    device = call.path["device"]
    found = fixes.device_fixes(call.context, device, call.query.release)
    now = snapshot(call.context)
    recorded = results_by_title(now, device)
    view = now.view(device)
    steps = [
        FixStepResponse.model_validate(step).model_copy(
            update={"recorded": recorded.get(step.fix.title, ""), "stop": stop_before(step.fix, view)}
        )
        for step in found.plan.steps
    ]
    return DeviceFixesResponse(
        device=found.device,
        release=found.release,
        steps=steps,
        spared=[SparedFixResponse.model_validate(fix) for fix in found.plan.spared],
        left=list(found.plan.left),
        exact=found.plan.exact,
        minutes=found.plan.minutes,
        cost=found.plan.cost,
        state=found.state,
        after=found.after,
        done=[_fix_done(one) for one in fixes_of(now, device)],
    )


def _fix_done(one: FixDone) -> FixDoneResponse:
    r = one.row
    done = datetime.fromisoformat(r.done_at)
    return FixDoneResponse(
        id=one.id, device=r.device, title=r.title, outcome=r.outcome, done_at=done, by=r.by, note=r.note,
        word=one.word.value, seen=one.seen,
    )  # fmt: skip


@operations(
    "POST", "/devices/<device>/fixes", "Record a fix as done, or as tried and failed", roles=HANDS, body=FixDoneRequest,
    answer=FixDoneResponse, status=201, creates=True, affected_devices=lambda call: [call.path["device"]],
)  # fmt: skip
def record_fix(call: Call[None, FixDoneRequest]) -> FixDoneResponse:
    a = call.body
    given = fixes_done.NewFixResult(a.title, a.outcome, a.done_at, a.note)
    return _fix_done(fixes_done.record_fix(call.context, call.actor, call.path["device"], given))


@operations("GET", "/selections", "Saved selections", roles=EVERYONE, answer=SelectionList)
def list_selections(call: Call[None, None]) -> SelectionList:
    return SelectionList(items=[_selection(row) for row in selections.list_selections(call.context)])


@operations(
    "PUT", "/selections/<name>", "Save a selection", roles=HANDS, body=SelectionRequest, answer=SelectionResponse
)
def save_selection(call: Call[None, SelectionRequest]) -> SelectionResponse:
    a = call.body
    row = selections.save_selection(
        call.context, call.actor, call.path["name"], a.platform, a.release, a.where.chosen()
    )
    return _selection(row)


@operations("DELETE", "/selections/<name>", "Delete a selection", roles=HANDS, status=204)
def delete_selection(call: Call[None, None]) -> Answer:
    selections.delete_selection(call.context, call.actor, call.path["name"])
    return Answer(b"")


def _selection(row: SelectionRow) -> SelectionResponse:
    where = DeviceFilter.model_validate(row.chosen)
    return SelectionResponse.model_validate(
        {"name": row.name, "platform": row.platform, "release": row.release, "where": where, "by": row.by, "at": row.at}
    )
