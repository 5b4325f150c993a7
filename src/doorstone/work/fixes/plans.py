"""Fixes first: the plan for one device, and the list to take on a round of the sites."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from decimal import Decimal

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.fixes.plan import FixPlan, after_fixes, plan_fixes
from doorstone.core.platforms.platform import Fix
from doorstone.core.sorting.assessment import Assessment, State, assess, with_exceptions
from doorstone.core.sorting.counts import Sorted, sorted_as
from doorstone.formats.safe_csv import csv_text
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.selecting import among, choose_devices, counts
from doorstone.work.snapshot.snapshot import assess_device, snapshot
from doorstone.work.snapshot.standings import by_outcome, profile_view

_Planned = tuple[FixPlan, Assessment]
"""The fixes to make on devices of a profile, and how these then stand, exceptions apart."""


@dataclass(frozen=True, slots=True)
class DeviceFixes:
    """The plan for one device, its state today and once every fix is made."""

    device: str
    release: str
    plan: FixPlan
    state: State
    after: State


@dataclass(frozen=True, slots=True)
class FixVisit:
    """One fix to make on one device, with what it is for and the state that the whole plan brings."""

    device: str
    name: str
    role: str
    step: int
    of: int
    meets: tuple[str, ...]
    after: str


@dataclass(frozen=True, slots=True)
class FixAction:
    title: str
    kind: str
    minutes: int
    cost: Decimal
    visits: tuple[FixVisit, ...]


@dataclass(frozen=True, slots=True)
class SiteRound:
    site: str
    devices: int
    minutes: int
    cost: Decimal
    actions: tuple[FixAction, ...]


@dataclass(frozen=True, slots=True)
class Part:
    """Something to buy before going: how many, and what they cost together."""

    title: str
    count: int
    cost: Decimal


@dataclass(frozen=True, slots=True)
class FixRound:
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
    context: Context, platform_id: str, release: str = "", where: DeviceFilter | None = None, selection: str = ""
) -> FixRound:
    """Every fix worth making on the chosen devices, by site, action and device; planned once per profile."""
    chosen = choose_devices(context, platform_id, release, where or DeviceFilter(), selection)
    now = snapshot(context)
    decisions = now.decisions_for(chosen.platform)
    excepted = now.excepted(chosen.platform, chosen.release)
    found = counts(context, chosen)

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
    with context.database.read() as db:
        rows = list(among(now, chosen, device_store.of_profiles(db, plans)))
    after = {profile: sorted_as(assessment) for profile, (_, assessment) in plans.items()}
    by_site: dict[str, list[DeviceRow]] = {}
    for row in rows:
        by_site.setdefault(row.site, []).append(row)
    sites = tuple(_site(site, mine, plans, after, excepted) for site, mine in sorted(by_site.items()))
    actions = [action for site in sites for action in site.actions]
    bought = {a.title: a.cost for a in actions if a.kind == "part"}
    number = {title: sum(len(a.visits) for a in actions if a.title == title) for title in bought}
    return FixRound(
        platform_id,
        chosen.release,
        len(rows),
        sum(site.minutes for site in sites),
        sum((site.cost for site in sites), Decimal(0)),
        sites,
        tuple(Part(title, number[title], cost * number[title]) for title, cost in sorted(bought.items())),
        sum(count.devices for count in found if count.profile in pointless),
    )


def _site(
    site: str,
    rows: list[DeviceRow],
    plans: Mapping[int, _Planned],
    after: Mapping[int, Sorted],
    excepted: Mapping[str, frozenset[str]],
) -> SiteRound:
    visits: dict[str, list[FixVisit]] = {}
    fixes: dict[str, Fix] = {}
    for row in sorted(rows, key=lambda r: r.id):
        plan, _ = plans[row.profile or 0]
        fixed = after[row.profile or 0]
        state = with_exceptions(State(fixed.state), fixed.marks, excepted.get(row.id, frozenset()))
        for at, step in enumerate(plan.steps, 1):
            fixes.setdefault(step.fix.title, step.fix)
            visit = FixVisit(row.id, row.name, row.role, at, len(plan.steps), step.meets, state.value)
            visits.setdefault(step.fix.title, []).append(visit)
    actions = [FixAction(title, fix.kind, fix.minutes, fix.cost, tuple(visits[title])) for title, fix in fixes.items()]
    ordered = sorted(actions, key=lambda a: (a.kind == "part", a.kind, a.title))
    return SiteRound(
        site,
        len(rows),
        sum(a.minutes * len(a.visits) for a in ordered),
        sum((a.cost * len(a.visits) for a in ordered), Decimal(0)),
        tuple(ordered),
    )


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
