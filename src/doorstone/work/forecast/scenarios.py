"""Scenarios: a device under several assumptions, what each exception adds, what each way costs, a budget plan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.facts import View
from doorstone.core.forecast.budget import Group, Option, plan
from doorstone.core.forecast.costs import WayCost, ways
from doorstone.core.forecast.device_forecast import Forecast, forecast
from doorstone.core.forecast.scenarios import (
    Scenario,
    ScenarioComparison,
    compare_scenarios,
    suppose,
    supposed_exceptions,
)
from doorstone.core.platforms.platform import Platform
from doorstone.store import followups as after_store
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.selecting import choose_devices, counts
from doorstone.work.snapshot.snapshot import Snapshot, snapshot


@dataclass(frozen=True, slots=True)
class DeviceScenarios:
    device: str
    as_of: date
    compared: ScenarioComparison
    ways: tuple[WayCost, ...]
    runs: str  # as-before, slower, faster, or nothing where nobody has said


def device_scenarios(context: Context, device: str) -> DeviceScenarios:
    """A device's forecast under each assumption, what each exception does, and what each way costs."""
    now, platform, view = _known(context, device)
    decisions, exceptions = now.decisions_for(platform), now.exceptions_of(device)
    with context.database.read() as db:
        runs = after_store.last_answer(db, device)
    known = now.experience(platform).of(device, now.device(device).model)
    found = compare_scenarios(platform, device, view, decisions, exceptions, known)
    costs = ways(platform, device, view, decisions, exceptions, context.policy.costs, slower=runs == "slower")
    return DeviceScenarios(device, now.today, found, costs, runs)


def _known(context: Context, device: str) -> tuple[Snapshot, Platform, View]:
    now = snapshot(context)
    now.need_in_service(device)
    platform, view = now.need_sheet(device).platform, now.view(device)
    runs = view.text("os.release")
    if not platform.has(runs):
        raise MissingError(f"{device} runs release {runs or 'unread'}, which the sheet does not know", "Read it again")
    return now, platform, view


def what_if_device(context: Context, device: str, given: Scenario) -> tuple[Forecast, Forecast]:
    """A device's forecast as it is, and as it would be. Nothing is written."""
    now, platform, view = _known(context, device)
    decisions, exceptions = now.decisions_for(platform), now.exceptions_of(device)
    other = supposed(platform, given)
    known = now.experience(platform).of(device, now.device(device).model)
    before = forecast(platform, device, view, decisions, exceptions, experience=known)
    more = supposed_exceptions(platform, device, given, now.today)
    return before, forecast(other, device, view, decisions, [*exceptions, *more], experience=known)


def supposed(platform: Platform, given: Scenario) -> Platform:
    """The platform under a supposition. Raises `BadInputError` for what the sheet does not know."""
    try:
        return suppose(platform, given)
    except KeyError as error:
        known = f"It knows releases {', '.join(r.id for r in platform.releases)}"
        raise BadInputError(f"{platform.name} does not know {error.args[0]!r}", known) from error


@dataclass(frozen=True, slots=True)
class Leaving:
    """How many devices leave servicing in a month, before and under the supposition."""

    month: str
    before: int
    after: int


@dataclass(frozen=True, slots=True)
class FleetSupposed:
    devices: int
    months: tuple[Leaving, ...]
    gained_days: int
    longer: int
    shorter: int


def what_if_fleet(context: Context, platform_id: str, given: Scenario) -> FleetSupposed:
    """When devices would leave servicing, technically, before and under the supposition. Nothing is written."""
    now = snapshot(context)
    sheet = now.sheets.get(platform_id)
    if sheet is None:
        raise MissingError(f"There is no platform {platform_id!r}", f"Known: {', '.join(now.sheets) or 'none'}")
    platform, other = sheet.platform, supposed(sheet.platform, given)
    decisions = now.decisions_for(platform)
    before: Counter[str] = Counter()
    after: Counter[str] = Counter()
    gained = longer = shorter = devices = 0
    with context.database.read() as db:
        sizes = profile_store.sizes(db, platform_id)
    for number, (view, own) in now.profile_views(platform).items():
        size = sizes[number]
        if not platform.has(view.text("os.release")):
            continue
        devices += size
        more = supposed_exceptions(platform, own, given, now.today)
        one = forecast(platform, own, view, decisions, []).technical.runway
        two = forecast(other, own, view, decisions, more).technical.runway
        for runway, months in ((one, before), (two, after)):
            if runway is not None:
                months[runway.isoformat()[:7]] += size
        if one != two:
            longer += size * ((two or date.min) > (one or date.min))
            shorter += size * ((two or date.min) < (one or date.min))
            gained += size * ((two or now.today) - (one or now.today)).days
    leaving = tuple(Leaving(m, before[m], after[m]) for m in sorted({*before, *after}))
    return FleetSupposed(devices, leaving, gained, longer, shorter)


# ------------------------------------------------------------------- for a budget


@dataclass(frozen=True, slots=True)
class PlanLine:
    """So many devices of a model that take the same way, what that costs each and how long it keeps each serviced."""

    way: str
    model: str
    count: int
    each: Decimal
    cost: Decimal
    months_each: Decimal
    how: str


@dataclass(frozen=True, slots=True)
class BudgetPlan:
    """`months` are serviced device-months in all, `at_most` what no plan for this budget can exceed."""

    platform: str
    budget: Decimal
    cost: Decimal
    months: Decimal
    without_money: Decimal
    at_most: Decimal
    devices: int
    lines: tuple[PlanLine, ...]


def budget_plan(
    context: Context,
    platform_id: str,
    budget: Decimal,
    where: DeviceFilter,
    selection: str = "",
    without: Sequence[str] = (),
) -> BudgetPlan:
    """Which way each device takes so that a budget buys the most serviced device-months. `without` leaves ways out.

    Exceptions are taken as granted: what they cost is the work by hand.
    """
    if not 0 <= budget <= 10**9:
        raise BadInputError(f"{budget} is no budget", "Give an amount of money from 0 to 1,000,000,000")
    now = snapshot(context)
    chosen = choose_devices(context, platform_id, "", where, selection)
    platform, decisions = chosen.platform, now.decisions_for(chosen.platform)
    sizes: Counter[int] = Counter()
    for count in counts(context, chosen):
        sizes[count.profile] += count.devices
    groups: list[Group] = []
    offered: dict[tuple[int, str], dict[str, WayCost]] = {}
    for number, (view, own) in now.profile_views(platform).items():
        if number not in sizes or not platform.has(view.text("os.release")):
            continue
        key, size = (number, view.text("machine.model")), sizes[number]
        every = ways(platform, own, view, decisions, [], context.policy.costs)
        offered[key] = {way.way: way for way in every if way.way == "stay" or way.way not in without}
        options = tuple(Option(name, int(w.cost * 100), int(w.months * 10)) for name, w in offered[key].items())
        groups.append(Group(key, size, options))
    made, nothing = plan(groups, int(budget * 100)), plan(groups, 0)
    held: Counter[tuple[str, str, Decimal, Decimal, str]] = Counter()
    for one in made.chosen:
        assert isinstance(one.key, tuple)
        way = offered[one.key][one.option.way]
        held[way.way, one.key[1], way.cost, way.months, way.how] += one.devices
    lines = [
        PlanLine(way, model, n, each, each * n, months, how) for (way, model, each, months, how), n in held.items()
    ]
    return BudgetPlan(
        platform_id,
        budget,
        Decimal(made.cost) / 100,
        Decimal(made.tenths) / 10,
        Decimal(nothing.tenths) / 10,
        Decimal(made.bound) / 10,
        sum(group.devices for group in groups),
        tuple(sorted(lines, key=lambda line: (-line.cost, line.way, line.model, line.how))),
    )
