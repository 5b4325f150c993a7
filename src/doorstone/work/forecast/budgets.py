"""Budget plans: which way each device takes so that a budget buys the most serviced device-months."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from decimal import Decimal

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.forecast.budget import Group, Option, Plan, plans
from doorstone.core.forecast.costs import WayCost, WayPrices
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.snapshot.selecting import choose_devices, counts
from doorstone.work.snapshot.snapshot import snapshot


class PlanLine(Struct, frozen=True):
    """So many devices of a model that take the same way, what that costs each and how long it keeps each serviced."""

    way: str
    model: str
    count: int
    each: Decimal
    cost: Decimal
    months_each: Decimal
    how: str


class BudgetPlan(Struct, frozen=True):
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
    return budget_plans(context, platform_id, [budget], where, selection, without)[0]


def budget_plans(
    context: Context,
    platform_id: str,
    budgets: Sequence[Decimal],
    where: DeviceFilter,
    selection: str = "",
    without: Sequence[str] = (),
) -> list[BudgetPlan]:
    """A plan for each budget, over the same devices. Raises `MissingError`, `BadInputError` for what is no budget."""
    for budget in budgets:
        if not budget.is_finite() or not 0 <= budget <= 10**9:
            raise BadInputError(f"{budget} is no budget", "Give an amount of money from 0 to 1,000,000,000")
    now = snapshot(context)
    chosen = choose_devices(context, platform_id, "", where, selection)
    sizes: Counter[tuple[int, str]] = Counter()
    for count in counts(context, chosen):
        sizes[count.profile, count.model] += count.devices
    ahead = now.two_forecasts(chosen.platform, {number for number, _ in sizes})
    priced = WayPrices(now.today, context.policy.costs)
    devices: Counter[tuple[int, str]] = Counter()
    offered: dict[tuple[int, str], dict[str, WayCost]] = {}
    for (profile, model), size in sizes.items():
        whole, plain = ahead[profile]
        if whole is None or plain is None:
            continue
        every = priced.ways_of(whole, plain)
        key = id(every), model  # devices of a model that have the same ways are one group
        if key not in offered:
            offered[key] = {way.way: way for way in every if way.way == "stay" or way.way not in without}
        devices[key] += size
    groups = [
        Group(key, size, tuple(Option(name, int(w.cost * 100), int(w.months * 10)) for name, w in offered[key].items()))
        for key, size in devices.items()
    ]
    nothing, *made = plans(groups, [0, *(int(budget * 100) for budget in budgets)])
    return [
        _planned(platform_id, budget, plan, nothing, groups, offered)
        for budget, plan in zip(budgets, made, strict=True)
    ]


def _planned(
    platform: str,
    budget: Decimal,
    made: Plan,
    nothing: Plan,
    groups: Sequence[Group],
    offered: dict[tuple[int, str], dict[str, WayCost]],
) -> BudgetPlan:
    held: Counter[tuple[str, str, Decimal, Decimal, str]] = Counter()
    for one in made.chosen:
        assert isinstance(one.key, tuple)
        way = offered[one.key][one.option.way]
        held[way.way, one.key[1], way.cost, way.months, way.how] += one.devices
    lines = [
        PlanLine(way, model, n, each, each * n, months, how) for (way, model, each, months, how), n in held.items()
    ]
    return BudgetPlan(
        platform,
        budget,
        Decimal(made.cost) / 100,
        Decimal(made.tenths) / 10,
        Decimal(nothing.tenths) / 10,
        Decimal(made.bound) / 10,
        sum(group.devices for group in groups),
        tuple(sorted(lines, key=lambda line: (-line.cost, line.way, line.model, line.how))),
    )
