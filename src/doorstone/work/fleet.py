"""The fleet against a release: grouped, compared between two releases or routes, and what if something were done."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from doorstone.core.conditions import Outcome
from doorstone.core.facts import View
from doorstone.core.fixes.plan import plan_fixes
from doorstone.core.kits.overrides import choose
from doorstone.core.platforms.platform import Fix, Platform, Route, Sort
from doorstone.core.sorting.assessment import (
    Assessment,
    Decision,
    Finding,
    Scope,
    State,
    assess,
    fixed_view,
    with_exceptions,
)
from doorstone.core.sorting.counts import RollUp, roll_up
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import Filter
from doorstone.store.devices.profiles import ProfileCount
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.selecting import SelectedDevices, SelectionCase, among, cases, choose_devices, counts
from doorstone.work.snapshot.sheets import check_requirement, need_kit_route
from doorstone.work.snapshot.snapshot import Snapshot, snapshot, sorted_of
from doorstone.work.snapshot.standings import standings

BY = {"site": "site", "model": "model", "role": "role", "runs": "running_release"}
MOST_NAMED = 10
CARRIED, UNCOVERED, NO_PATH = "carried", "uncovered", "no-path"


@dataclass(frozen=True, slots=True)
class Group:
    """The devices of one site, model, role or running release, by state."""

    name: str
    devices: int
    states: Mapping[str, int]


@dataclass(frozen=True, slots=True)
class FleetView:
    platform: str
    release: str
    by: str
    states: Mapping[str, int]
    roll_up: RollUp
    groups: tuple[Group, ...]


def fleet_view(
    context: Context,
    platform_id: str,
    release: str = "",
    where: Filter | None = None,
    selection: str = "",
    by: str = "site",
) -> FleetView:
    """Counts per state, requirement and combination over the chosen devices, and by site, model, role or release."""
    if by not in BY:
        raise BadInputError(f"{by!r} is not what devices are grouped by", f"Use one of {', '.join(BY)}")
    chosen = choose_devices(context, platform_id, release, where or Filter(), selection)
    found = counts(context, chosen)
    groups: dict[str, Counter[str]] = {}
    for count in found:
        groups.setdefault(str(getattr(count, BY[by])) or "unknown", Counter())[count.state] += count.devices
    states: Counter[str] = Counter()
    for count in found:
        states[count.state] += count.devices
    return FleetView(
        platform_id,
        chosen.release,
        by,
        _in_order(states),
        roll_up(chosen.platform, chosen.release, [(sorted_of(c), c.devices) for c in found]),
        tuple(Group(name, states.total(), _in_order(states)) for name, states in sorted(groups.items())),
    )


def _in_order(states: Mapping[str, int]) -> dict[str, int]:
    return {state.value: states[state] for state in State if states.get(state)}


# ------------------------------------------------------------------ compare


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a comparison. `uncovered` counts devices per check that nothing covers, or gate that closes it."""

    release: str
    route: str
    outcomes: Mapping[str, int]
    uncovered: Mapping[str, int]


@dataclass(frozen=True, slots=True)
class Shift:
    """Devices that come out one way on one side and another way on the other; at most 10 are named."""

    one: str
    other: str
    count: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Comparison:
    platform: str
    devices: int
    one: Side
    other: Side
    shifts: tuple[Shift, ...]


def compare(
    context: Context,
    platform_id: str,
    one: tuple[str, str],
    other: tuple[str, str],
    where: Filter | None = None,
    selection: str = "",
) -> Comparison:
    """The chosen devices towards two targets, each a release and a route, side by side.

    Outcomes: clear, fixable, carried (overrides cover every check), uncovered (some check has none), no-path (a gate
    closes this route), floored, unsettled. The filter's state and marks are those of the first release.
    """
    chosen = choose_devices(context, platform_id, one[0], where or Filter(), selection)
    second = choose_devices(context, platform_id, other[0], Filter())
    for _, route in (one, other):
        need_kit_route(route)
    now = snapshot(context)
    views = now.profile_views(chosen.platform)
    sizes: Counter[int] = Counter()
    found = counts(context, chosen)
    for count in found:
        sizes[count.profile] += count.devices
    pairs: dict[tuple[str, str], list[int]] = {}
    sides: list[tuple[Counter[str], Counter[str]]] = [(Counter(), Counter()), (Counter(), Counter())]
    for profile, devices in sizes.items():
        words = []
        for at, (release, route) in enumerate(((chosen.release, one[1]), (second.release, other[1]))):
            word, uncovered = _outcome(now, chosen.platform, release, Route(route), *views[profile])
            sides[at][0][word] += devices
            sides[at][1].update(dict.fromkeys(uncovered, devices))
            words.append(word)
        pairs.setdefault((words[0], words[1]), []).append(profile)
    shifts = [
        Shift(a, b, sum(sizes[p] for p in profiles), _examples(now, chosen, found, profiles))
        for (a, b), profiles in sorted(pairs.items())
        if a != b
    ]
    return Comparison(
        platform_id,
        sizes.total(),
        Side(chosen.release, one[1], dict(sides[0][0]), dict(sides[0][1].most_common())),
        Side(second.release, other[1], dict(sides[1][0]), dict(sides[1][1].most_common())),
        tuple(sorted(shifts, key=lambda s: (-s.count, s.one, s.other))),
    )


def _outcome(
    now: Snapshot, platform: Platform, release: str, route: Route, view: View, own: str
) -> tuple[str, tuple[str, ...]]:
    closed = [
        g.id for g in platform.path_gates(route) if g.condition.outcome(view.values(), view.as_of) is Outcome.UNMET
    ]
    assessment = assess(platform, release, view, now.decisions_for(platform), own)
    if closed and assessment.state not in (State.FLOORED, State.UNSETTLED):
        return NO_PATH, tuple(closed)
    if assessment.state is not State.NEEDS_EXCEPTION:
        return assessment.state.value, ()
    checks = tuple(f.requirement.id for f in assessment.unmet("installer-check"))
    values = fixed_view(view, assessment.findings).values()
    choice = choose(platform, release, route, values, view.as_of, checks, checks)
    return (CARRIED, ()) if choice.best else (UNCOVERED, choice.uncovered or checks)


def _examples(
    now: Snapshot,
    chosen: SelectedDevices,
    found: Iterable[ProfileCount],
    profiles: Iterable[int],
    apart: Collection[str] = (),
) -> tuple[str, ...]:
    """The first chosen devices of these profiles, those in `apart` left out."""
    with now.context.database.read() as db:
        rows = [row for row in device_store.of_profiles(db, profiles) if row.id not in apart]
    return tuple(sorted(row.id for row in among(now, chosen, found, rows))[:MOST_NAMED])


# ------------------------------------------------------------------ what if


@dataclass(frozen=True, slots=True)
class SortScenario:
    """Were a requirement sorted so, for one model or for all."""

    requirement: str
    sort: str
    model: str = ""


@dataclass(frozen=True, slots=True)
class WhatIf:
    """What to suppose of the chosen devices: these fixes made (by title, or all), sorts decided, checks approved."""

    fixes: tuple[str, ...] = ()
    all_fixes: bool = False
    sorts: tuple[SortScenario, ...] = ()
    approve: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ScenarioResult:
    """Counts before and after, which devices move, and what the fixes take."""

    platform: str
    release: str
    devices: int
    before: Mapping[str, int]
    after: Mapping[str, int]
    moves: tuple[Shift, ...]
    fixes_made: int
    minutes: int
    cost: Decimal


def what_if(
    context: Context, platform_id: str, release: str, asked: WhatIf, where: Filter | None = None, selection: str = ""
) -> ScenarioResult:
    """The chosen devices before and after. Nothing is written. Raises `MissingError` for what there is not."""
    chosen = choose_devices(context, platform_id, release, where or Filter(), selection)
    platform = chosen.platform
    for name in (*asked.approve, *(s.requirement for s in asked.sorts)):
        check_requirement(platform, chosen.release, name)
    known = {fix.title for r in platform.requirements_at(chosen.release) for fix in r.fixes}
    if unknown := [title for title in asked.fixes if title not in known]:
        raise MissingError(f"There is no fix {unknown[0]!r}", f"There is: {'; '.join(sorted(known)) or 'none'}")
    now = snapshot(context)
    views = now.profile_views(platform)
    supposed = [*now.decisions_for(platform), *_decisions(chosen.release, asked.sorts, views.values())]
    found = counts(context, chosen)
    plain = standings(context, platform, chosen.release).of
    before: Counter[str] = Counter()
    after: Counter[str] = Counter()
    moved: dict[tuple[str, str], list[SelectionCase]] = {}
    apart: set[str] = set()
    moves: Counter[tuple[str, str]] = Counter()
    made = minutes = 0
    cost = Decimal(0)
    for case in cases(context, chosen, found):
        stands = plain[case.profile]
        was = with_exceptions(stands.state, stands.marks, case.excepted).value
        fixes, then = _suppose(platform, chosen.release, asked, case, views[case.profile], supposed)
        made += len(fixes) * case.devices
        minutes += sum(fix.minutes for fix in fixes) * case.devices
        cost += sum((fix.cost for fix in fixes), Decimal(0)) * case.devices
        before[was] += case.devices
        after[then] += case.devices
        if was != then:
            moves[was, then] += case.devices
            moved.setdefault((was, then), []).append(case)
        apart.update(case.named)
    shifts = []
    for (was, then), held in sorted(moved.items()):
        named = [name for case in held for name in case.named]
        named += _examples(now, chosen, found, [case.profile for case in held if not case.named], apart)
        shifts.append(Shift(was, then, moves[was, then], tuple(sorted(named)[:MOST_NAMED])))
    devices = before.total()
    return ScenarioResult(
        platform_id, chosen.release, devices, _in_order(before), _in_order(after), tuple(shifts), made, minutes, cost
    )


def _decisions(release: str, sorts: Iterable[SortScenario], views: Iterable[tuple[View, str]]) -> list[Decision]:
    """The supposed decisions, later than all others. One for all is one for every model there is."""
    models = sorted({view.text("machine.model") for view, _ in views})
    return [
        Decision("what-if", s.requirement, release, Scope.MODEL, model, Sort(s.sort), "", "", "", datetime.max)
        for s in sorts
        for model in ([s.model] if s.model else models)
    ]


def _suppose(
    platform: Platform,
    release: str,
    asked: WhatIf,
    case: SelectionCase,
    view: tuple[View, str],
    decisions: list[Decision],
) -> tuple[list[Fix], str]:
    shown, own = view
    now = assess(platform, release, shown, decisions, own)
    fixes = _fixes(now, shown, asked)
    if fixes:
        given = {name: value for fix in fixes for name, value in fix.gives.items()}
        now = assess(platform, release, shown.with_values(given), decisions, own)
    marks = {f.requirement.id: f.mark for f in now.findings}
    return fixes, with_exceptions(now.state, marks, case.excepted | set(asked.approve)).value


def _fixes(assessment: Assessment, view: View, asked: WhatIf) -> list[Fix]:
    """The fixes that would be made on a device like this: those of its plan that are asked for."""
    unmet = any(f.finding is Finding.UNMET for f in assessment.findings)
    if not unmet or not (asked.all_fixes or asked.fixes):
        return []
    return [s.fix for s in plan_fixes(assessment, view).steps if asked.all_fixes or s.fix.title in asked.fixes]
