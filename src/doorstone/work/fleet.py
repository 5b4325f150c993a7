"""The fleet against a release: grouped, compared between two releases or routes, and what if something were done."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Mapping
from decimal import Decimal
from operator import attrgetter

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.fleet import WhatIf, route_outcome, suppose, supposed_decisions
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import (
    State,
    with_exceptions,
)
from doorstone.core.sorting.counts import RollUp, roll_up
from doorstone.store.devices.profiles import ProfileCount
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.selecting import SelectedDevices, SelectionCase, among, cases, choose_devices, counts
from doorstone.work.snapshot.sheets import check_requirement, need_kit_route
from doorstone.work.snapshot.snapshot import Snapshot, snapshot, sorted_of
from doorstone.work.snapshot.standings import by_outcome, devices_of_profiles, profile_view, standings

BY = {"site": "site", "model": "model", "role": "role", "runs": "running_release"}
MOST_NAMED = 10


class Group(Struct, frozen=True):
    """The devices of one site, model, role or running release, by state."""

    name: str
    devices: int
    states: Mapping[str, int]


class FleetView(Struct, frozen=True):
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
    where: DeviceFilter | None = None,
    selection: str = "",
    by: str = "site",
) -> FleetView:
    """Counts per state, requirement and combination over the chosen devices, and by site, model, role or release."""
    if by not in BY:
        raise BadInputError(f"{by!r} is not what devices are grouped by", f"Use one of {', '.join(BY)}")
    chosen = choose_devices(context, platform_id, release, where or DeviceFilter(), selection)
    found = counts(context, chosen, by_site=by == "site", by_role=by == "role")
    groups: defaultdict[str, Counter[str]] = defaultdict(Counter)
    alike: dict[tuple[int, str], ProfileCount] = {}  # profiles with the same findings share their marks
    sizes: dict[tuple[int, str], int] = {}
    named = attrgetter(BY[by])
    for count in found:
        groups[named(count) or "unknown"][count.state] += count.devices
        key = id(count.marks), count.state
        alike[key] = count
        sizes[key] = sizes.get(key, 0) + count.devices
    states: Counter[str] = Counter()
    for (_, state), devices in sizes.items():
        states[state] += devices
    return FleetView(
        platform_id,
        chosen.release,
        by,
        _in_order(states),
        roll_up(chosen.platform, chosen.release, [(sorted_of(alike[key]), devices) for key, devices in sizes.items()]),
        tuple(Group(name, states.total(), _in_order(states)) for name, states in sorted(groups.items())),
    )


def _in_order(states: Mapping[str, int]) -> dict[str, int]:
    return {state.value: states[state] for state in State if states.get(state)}


# ------------------------------------------------------------------ compare


class Side(Struct, frozen=True):
    """One side of a comparison. `uncovered` counts devices per check that nothing covers, or gate that closes it."""

    release: str
    route: str
    outcomes: Mapping[str, int]
    uncovered: Mapping[str, int]


class Shift(Struct, frozen=True):
    """Devices that come out one way on one side and another way on the other; at most 10 are named."""

    one: str
    other: str
    count: int
    devices: tuple[str, ...]


class Comparison(Struct, frozen=True):
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
    where: DeviceFilter | None = None,
    selection: str = "",
) -> Comparison:
    """The chosen devices towards two targets, each a release and a route, side by side.

    Outcomes: clear, fixable, carried (overrides cover every check), uncovered (some check has none), no-path (a gate
    closes this route), floored, unsettled. The filter's state and marks are those of the first release.
    """
    chosen = choose_devices(context, platform_id, one[0], where or DeviceFilter(), selection)
    second = choose_devices(context, platform_id, other[0], DeviceFilter())
    for _, route in (one, other):
        need_kit_route(route)
    now = snapshot(context)
    sizes: Counter[int] = Counter()
    found = counts(context, chosen)
    for count in found:
        sizes[count.profile] += count.devices
    pairs: dict[tuple[str, str], list[int]] = {}
    sides: list[tuple[Counter[str], Counter[str]]] = [(Counter(), Counter()), (Counter(), Counter())]
    targets = ((chosen.release, one[1]), (second.release, other[1]))
    outcomes = [_route_outcomes(now, chosen.platform, release, Route(route), sizes) for release, route in targets]
    for profile, devices in sizes.items():
        words = []
        for at, found_on in enumerate(outcomes):
            word, uncovered = found_on[profile]
            sides[at][0][word] += devices
            sides[at][1].update(dict.fromkeys(uncovered, devices))
            words.append(word)
        pairs.setdefault((words[0], words[1]), []).append(profile)
    shifts = [
        Shift(a, b, sum(sizes[p] for p in profiles), _examples(now, chosen, profiles))
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


def _route_outcomes(
    now: Snapshot,
    platform: Platform,
    release: str,
    route: Route,
    profiles: Collection[int],
) -> dict[int, tuple[str, tuple[str, ...]]]:
    """How devices of each profile come out on a route; asked once for those alike."""
    decisions = now.decisions_for(platform)
    view_and_own = profile_view(now.context, platform, profiles)
    needs = {name for o in platform.overrides for name in o.needs.facts()}
    needs |= {name for gate in platform.path_gates(route) for name in gate.condition.facts()}
    return by_outcome(
        now.context, platform, decisions, release, profiles, f"route {route}",
        lambda profile: route_outcome(platform, release, route, *view_and_own(profile), decisions), needs,
    )  # fmt: skip


def _examples(
    now: Snapshot, chosen: SelectedDevices, profiles: Collection[int], apart: Collection[str] = ()
) -> tuple[str, ...]:
    """The first chosen devices of these profiles, those in `apart` left out."""
    found: list[str] = []
    for part in devices_of_profiles(now.context, chosen.platform, chosen.release, chosen.where, profiles):
        found += [row.id for row in among(now, chosen, part) if row.id not in apart]
        if len(found) >= MOST_NAMED:
            break
    return tuple(found[:MOST_NAMED])


# ------------------------------------------------------------------ what if


class ScenarioResult(Struct, frozen=True):
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
    context: Context,
    platform_id: str,
    release: str,
    scenario: WhatIf,
    where: DeviceFilter | None = None,
    selection: str = "",
) -> ScenarioResult:
    """The chosen devices before and after. Nothing is written. Raises `MissingError` for what there is not."""
    chosen = choose_devices(context, platform_id, release, where or DeviceFilter(), selection)
    platform = chosen.platform
    for name in (*scenario.approve, *(s.requirement for s in scenario.sorts)):
        check_requirement(platform, chosen.release, name)
    known = {fix.title for r in platform.requirements_at(chosen.release) for fix in r.fixes}
    if unknown := [title for title in scenario.fixes if title not in known]:
        raise MissingError(f"There is no fix {unknown[0]!r}", f"There is: {'; '.join(sorted(known)) or 'none'}")
    now = snapshot(context)
    views = now.profile_views(platform)
    models = [view.text("machine.model") for view, _ in views.values()]
    supposed = [*now.decisions_for(platform), *supposed_decisions(chosen.release, scenario.sorts, models)]
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
        fixes, then = suppose(platform, chosen.release, scenario, *views[case.profile], supposed, case.excepted)
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
        named += _examples(now, chosen, [case.profile for case in held if not case.named], apart)
        shifts.append(Shift(was, then, moves[was, then], tuple(sorted(named)[:MOST_NAMED])))
    devices = before.total()
    return ScenarioResult(
        platform_id, chosen.release, devices, _in_order(before), _in_order(after), tuple(shifts), made, minutes, cost
    )
