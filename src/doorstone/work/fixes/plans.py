"""Fixes first: the plan for one device, and the list to take on a round of the sites."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from decimal import Decimal
from itertools import chain, islice
from operator import attrgetter

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.fixes.plan import FixPlan, after_fixes, plan_fixes
from doorstone.core.platforms.platform import Fix
from doorstone.core.sorting.assessment import Assessment, State, assess, with_exceptions
from doorstone.core.sorting.counts import sorted_as
from doorstone.formats.safe_csv import csv_text
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.selecting import SelectedDevices, among, choose_devices, counts
from doorstone.work.snapshot.snapshot import Snapshot, assess_device, snapshot
from doorstone.work.snapshot.standings import by_outcome, profile_view

MOST_KEPT = 1_000
"""Devices of a profile, up to which they are read once for all sites."""
_ID = attrgetter("id")
_Planned = tuple[FixPlan, Assessment]
"""The fixes to make on devices of a profile, and how these then stand, exceptions apart."""


class DeviceFixes(Struct, frozen=True):
    """The plan for one device, its state today and once every fix is made."""

    device: str
    release: str
    plan: FixPlan
    state: State
    after: State


class FixVisit(Struct, frozen=True):
    """One fix to make on one device, with what it is for and the state that the whole plan brings."""

    device: str
    name: str
    role: str
    step: int
    of: int
    meets: tuple[str, ...]
    after: str


class FixAction(Struct, frozen=True):
    """One fix at a site: on how many devices, and the visits to some of these, by device."""

    title: str
    kind: str
    minutes: int
    cost: Decimal
    count: int
    visits: tuple[FixVisit, ...]


class SiteRound(Struct, frozen=True):
    site: str
    devices: int
    minutes: int
    cost: Decimal
    actions: tuple[FixAction, ...]


class Part(Struct, frozen=True):
    """Something to buy before going: how many, and what they cost together."""

    title: str
    count: int
    cost: Decimal


class FixRound(Struct, frozen=True):
    """The fleet's fixes, by site and action. `pointless` counts devices that stay floored whatever is fixed."""

    platform: str
    release: str
    devices: int
    minutes: int
    cost: Decimal
    sites: tuple[SiteRound, ...]
    parts: tuple[Part, ...]
    pointless: int


def device_fixes(context: Context, device: str, release: str = "") -> DeviceFixes:
    """Which fixes to make on a device, combined, and how it then stands. Raises `MissingError`."""
    assessment = assess_device(context, device, release)
    now = snapshot(context)
    platform = now.need_sheet(device).platform
    view = now.view(device)
    plan = plan_fixes(assessment, view)
    decisions = now.decisions_for(platform)
    excepted = now.excepted(platform, assessment.release).get(device, frozenset())
    after = assess(platform, assessment.release, after_fixes(platform, plan, view), decisions, device)
    return DeviceFixes(device, assessment.release, plan, assessment.state, _with(after, excepted))


def _with(assessment: Assessment, excepted: Collection[str]) -> State:
    return with_exceptions(assessment.state, {f.requirement.id: f.mark for f in assessment.findings}, excepted)


def fix_round(
    context: Context,
    platform_id: str,
    release: str = "",
    where: DeviceFilter | None = None,
    selection: str = "",
    visits: int | None = None,
) -> FixRound:
    """Every fix worth making on the chosen devices, by site and action; planned once per profile.

    Of each action at a site at most so many `visits` are listed, all without a limit; what counts and costs are all.
    """
    chosen = choose_devices(context, platform_id, release, where or DeviceFilter(), selection)
    now = snapshot(context)
    decisions = now.decisions_for(chosen.platform)
    excepted = now.excepted(chosen.platform, chosen.release)
    found = counts(context, chosen, by_site=True)

    profiles = {count.profile for count in found}
    view_and_own = profile_view(context, chosen.platform, profiles)

    def planned(profile: int) -> _Planned | None:
        """The plan for devices of a profile; None if there is nothing to fix."""
        view, own = view_and_own(profile)
        plan = plan_fixes(assess(chosen.platform, chosen.release, view, decisions, own), view)
        if not plan.steps:
            return None
        fixed = after_fixes(chosen.platform, plan, view)
        return plan, assess(chosen.platform, chosen.release, fixed, decisions, own)

    every = by_outcome(context, chosen.platform, decisions, chosen.release, profiles, "fix plans", planned)
    worth = {profile: one for profile, one in every.items() if one is not None}
    pointless = {profile for profile, (_, after) in worth.items() if after.state is State.FLOORED}
    plans: dict[int, _Planned] = {profile: one for profile, one in worth.items() if profile not in pointless}
    placed: dict[str, Counter[int]] = {}
    for count in found:
        if count.profile in plans:
            placed.setdefault(count.site, Counter())[count.profile] += count.devices
    after = {profile: sorted_as(assessment) for profile, (_, assessment) in plans.items()}

    def visit(row: DeviceRow, title: str) -> FixVisit:
        fixed, (plan, _) = after[row.profile or 0], plans[row.profile or 0]
        state = with_exceptions(State(fixed.state), fixed.marks, excepted.get(row.id, frozenset()))
        at, step = next((at, step) for at, step in enumerate(plan.steps, 1) if step.fix.title == title)
        return FixVisit(row.id, row.name, row.role, at, len(plan.steps), step.meets, state.value)

    everywhere: Counter[int] = Counter()
    for mine in placed.values():
        everywhere.update(mine)
    with context.database.read() as db:
        finder = _Finder(db, now, chosen, everywhere)
        sites = tuple(
            _site(site, mine, plans, lambda at, devices: finder.find(at, devices, visits), visit)
            for site, mine in sorted(placed.items())
        )
    actions = [action for site in sites for action in site.actions]
    bought = {a.title: a.cost for a in actions if a.kind == "part"}
    number = {title: sum(a.count for a in actions if a.title == title) for title in bought}
    return FixRound(
        platform_id,
        chosen.release,
        sum(site.devices for site in sites),
        sum(site.minutes for site in sites),
        sum((site.cost for site in sites), Decimal(0)),
        sites,
        tuple(Part(title, number[title], cost * number[title]) for title, cost in sorted(bought.items())),
        sum(count.devices for count in found if count.profile in pointless),
    )


def _site(
    site: str,
    devices: Mapping[int, int],
    plans: Mapping[int, _Planned],
    find: Callable[[str, Mapping[int, int]], list[DeviceRow]],
    visit: Callable[[DeviceRow, str], FixVisit],
) -> SiteRound:
    """The round of a site, of `devices` by profile."""
    fixes: dict[str, Fix] = {}
    where: dict[str, dict[int, int]] = {}
    for profile in sorted(devices):
        for step in plans[profile][0].steps:
            fixes.setdefault(step.fix.title, step.fix)
            where.setdefault(step.fix.title, {})[profile] = devices[profile]
    actions = [
        FixAction(
            title, fix.kind, fix.minutes, fix.cost, sum(where[title].values()),
            tuple(visit(row, title) for row in find(site, where[title])),
        )
        for title, fix in fixes.items()
    ]  # fmt: skip
    ordered = sorted(actions, key=lambda a: (a.kind == "part", a.kind, a.title))
    return SiteRound(
        site,
        sum(devices.values()),
        sum(a.minutes * a.count for a in ordered),
        sum((a.cost * a.count for a in ordered), Decimal(0)),
        tuple(ordered),
    )


class _Finder:
    """Finds chosen devices of a site. Those of small profiles are read once for all sites.

    `sizes` says how many devices are of each profile, at all sites.
    """

    def __init__(
        self, db: sqlite3.Connection, now: Snapshot, chosen: SelectedDevices, sizes: Mapping[int, int]
    ) -> None:
        self._db, self._now, self._chosen, self._sizes = db, now, chosen, sizes
        self._small: dict[int, dict[str, list[DeviceRow]]] = {}

    def find(self, site: str, devices: Mapping[int, int], most: int | None) -> list[DeviceRow]:
        """Those of profiles, by id: at most so many, of the first profiles. `devices` counts those of each."""
        if most is None:
            return sorted(self._among(device_store.of_profiles(self._db, devices, site)), key=_ID)
        found: list[DeviceRow] = []
        part: list[int] = []
        waiting = 0
        for at, (profile, number) in enumerate(devices.items(), 1):
            part.append(profile)
            waiting += number
            if at == len(devices) or len(found) + waiting >= most:
                found += self._first(site, part, most)
                part, waiting = [], 0
                if len(found) >= most:
                    break
        return sorted(found, key=_ID)[:most]

    def _first(self, site: str, profiles: Iterable[int], most: int) -> Iterator[DeviceRow]:
        """Those of these profiles; of a large one only so many, those with the lowest ids."""
        large = [profile for profile in profiles if self._sizes[profile] > MOST_KEPT]
        small = [profile for profile in profiles if self._sizes[profile] <= MOST_KEPT]
        if missing := [profile for profile in small if profile not in self._small]:
            self._small.update((profile, {}) for profile in missing)
            for row in device_store.of_profiles(self._db, missing):
                self._small[row.profile or 0].setdefault(row.site, []).append(row)
        yield from self._among(chain.from_iterable(self._small[profile].get(site, ()) for profile in small))
        for profile in large:
            yield from islice(self._among(device_store.of_profiles(self._db, [profile], site)), most)

    def _among(self, rows: Iterable[DeviceRow]) -> Iterator[DeviceRow]:
        return among(self._now, self._chosen, rows)


def fix_round_csv(found: FixRound) -> str:
    """The round as CSV, a row for each fix of each device; cells that would be formulas are made text."""
    columns = ["site", "action", "kind", "device", "name", "role", "step", "minutes", "cost", "meets", "state after"]
    rows = [
        [
            *(site.site, a.title, a.kind, v.device, v.name, v.role, f"{v.step} of {v.of}"),
            *(a.minutes, a.cost, v.meets, v.after),
        ]
        for site in found.sites
        for a in site.actions
        for v in a.visits
    ]
    return csv_text(columns, rows)
