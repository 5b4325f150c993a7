"""The fleet as a whole: counts, comparison, what-if, fixes to take on a round, saved selections."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from doorstone.core.fixes import stop_before
from doorstone.formats.wire import Asked, KitRoute
from doorstone.formats.wire_fleet import (
    ComparisonShape,
    CountShape,
    DeviceFixesShape,
    FilterAsked,
    FilterShape,
    FixDoneAsked,
    FixDoneShape,
    FixRoundShape,
    FixStepShape,
    FleetShape,
    GroupShape,
    SelectionAsked,
    SelectionList,
    SelectionShape,
    SparedFixShape,
    SupposedShape,
    TogetherShape,
    WhatIfAsked,
)
from doorstone.service.operations import EVERYONE, HANDS, Answer, Call, Operations
from doorstone.store.devices import Filter
from doorstone.store.selections import SelectionRow
from doorstone.work import fixes, fixes_done, fleet, selections
from doorstone.work.fleet import SortAsked, WhatIf
from doorstone.work.picture import picture

operations = Operations("fleet")


class ChosenQuery(FilterAsked):
    """Which devices of which platform, against which release."""

    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    selection: str = Field("", description="A saved selection; the other conditions come on top of it")

    def filter(self) -> Filter:
        return _filter(self)


class FleetQuery(ChosenQuery):
    by: str = Field("site", description="Group by site, model, role or runs")


class CompareQuery(ChosenQuery):
    route: KitRoute = "in-place"
    other_release: str = Field("", description="The second side's release; the same if left out")
    other_route: KitRoute = "in-place"


class ReleaseQuery(Asked):
    release: str = Field("", description="Target release; the last published one if left out")


def _filter(asked: FilterAsked) -> Filter:
    a = asked
    return Filter(a.state, a.site, a.role, a.model, a.requirement, a.mark, a.words)


@operations("GET", "/fleet", "Counts over the fleet", roles=EVERYONE, query=FleetQuery, answer=FleetShape)
def fleet_view(call: Call[FleetQuery, None]) -> FleetShape:
    q = call.query
    found = fleet.fleet_view(call.desk, q.platform, q.release, q.filter(), q.selection, q.by)
    return FleetShape(
        platform=found.platform,
        release=found.release,
        by=found.by,
        devices=found.roll_up.devices,
        states=dict(found.states),
        requirements=[CountShape.model_validate(count) for count in found.roll_up.requirements],
        combinations=[TogetherShape.model_validate(one) for one in found.roll_up.combinations],
        groups=[GroupShape.model_validate(group) for group in found.groups],
    )


@operations(
    "GET", "/fleet/comparison", "Two releases or routes side by side", roles=EVERYONE, query=CompareQuery,
    answer=ComparisonShape,
)  # fmt: skip
def compare_fleet(call: Call[CompareQuery, None]) -> ComparisonShape:
    q = call.query
    one, other = (q.release, q.route), (q.other_release or q.release, q.other_route)
    return ComparisonShape.model_validate(fleet.compare(call.desk, q.platform, one, other, q.filter(), q.selection))


@operations(
    "POST", "/fleet/what-if", "Counts before and after what is supposed", roles=EVERYONE, body=WhatIfAsked,
    answer=SupposedShape,
)  # fmt: skip
def what_if(call: Call[None, WhatIfAsked]) -> SupposedShape:
    a = call.body
    sorts = tuple(SortAsked(s.requirement, s.sort, s.model) for s in a.sorts)
    asked = WhatIf(tuple(a.fixes), a.all_fixes, sorts, tuple(a.approve))
    found = fleet.what_if(call.desk, a.platform, a.release, asked, _filter(a.where), a.selection)
    return SupposedShape.model_validate(found)


@operations("GET", "/fixes", "The fixes of the fleet, by site", roles=EVERYONE, query=ChosenQuery, answer=FixRoundShape)
def fix_round(call: Call[ChosenQuery, None]) -> FixRoundShape:
    q = call.query
    return FixRoundShape.model_validate(fixes.fix_round(call.desk, q.platform, q.release, q.filter(), q.selection))


@operations("GET", "/fixes.csv", "The same as CSV", roles=EVERYONE, query=ChosenQuery, media_type="text/csv")
def fix_round_csv(call: Call[ChosenQuery, None]) -> Answer:
    q = call.query
    found = fixes.fix_round(call.desk, q.platform, q.release, q.filter(), q.selection)
    data = fixes.fix_round_csv(found).encode()
    return Answer(data, media_type="text/csv", file_name=f"fixes-{found.platform}-{found.release}.csv")


@operations(
    "GET", "/devices/<device>/fixes", "The fixes of one device, combined", roles=EVERYONE, query=ReleaseQuery,
    answer=DeviceFixesShape,
)  # fmt: skip
def device_fixes(call: Call[ReleaseQuery, None]) -> DeviceFixesShape:
    device = call.path["device"]
    found = fixes.device_fixes(call.desk, device, call.query.release)
    now = picture(call.desk)
    told = fixes_done.told_of(now, device)
    view = now.view(device)
    steps = [
        FixStepShape.model_validate(step).model_copy(
            update={"told": told.get(step.fix.title, ""), "stop": stop_before(step.fix, view)}
        )
        for step in found.plan.steps
    ]
    return DeviceFixesShape(
        device=found.device,
        release=found.release,
        steps=steps,
        spared=[SparedFixShape.model_validate(fix) for fix in found.plan.spared],
        left=list(found.plan.left),
        exact=found.plan.exact,
        minutes=found.plan.minutes,
        cost=found.plan.cost,
        state=found.state,
        after=found.after,
        done=[_fix_done(one) for one in fixes_done.fixes_of(now, device)],
    )


def _fix_done(one: fixes_done.FixDone) -> FixDoneShape:
    r = one.row
    done = datetime.fromisoformat(r.done_at)
    return FixDoneShape(
        id=one.id, device=r.device, title=r.title, outcome=r.outcome, done_at=done, by=r.by, note=r.note,
        word=one.word.value, seen=one.seen,
    )  # fmt: skip


@operations(
    "POST", "/devices/<device>/fixes", "Record a fix as done, or as tried and failed", roles=HANDS, body=FixDoneAsked,
    answer=FixDoneShape, status=201, creates=True, touches=lambda call: [call.path["device"]],
)  # fmt: skip
def record_fix(call: Call[None, FixDoneAsked]) -> FixDoneShape:
    a = call.body
    given = fixes_done.FixGiven(a.title, a.outcome, a.done_at, a.note)
    return _fix_done(fixes_done.record_fix(call.desk, call.actor, call.path["device"], given))


@operations("GET", "/selections", "Saved selections", roles=EVERYONE, answer=SelectionList)
def list_selections(call: Call[None, None]) -> SelectionList:
    return SelectionList(items=[_selection(row) for row in selections.list_selections(call.desk)])


@operations("PUT", "/selections/<name>", "Save a selection", roles=HANDS, body=SelectionAsked, answer=SelectionShape)
def save_selection(call: Call[None, SelectionAsked]) -> SelectionShape:
    a = call.body
    row = selections.save_selection(call.desk, call.actor, call.path["name"], a.platform, a.release, _filter(a.where))
    return _selection(row)


@operations("DELETE", "/selections/<name>", "Forget a selection", roles=HANDS, status=204)
def delete_selection(call: Call[None, None]) -> Answer:
    selections.delete_selection(call.desk, call.actor, call.path["name"])
    return Answer(b"")


def _selection(row: SelectionRow) -> SelectionShape:
    where = FilterShape.model_validate(row.chosen)
    return SelectionShape.model_validate(
        {"name": row.name, "platform": row.platform, "release": row.release, "where": where, "by": row.by, "at": row.at}
    )
