"""The budget paper: several budgets side by side, prices, replacements per quarter, what a new machine has to meet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import date
from decimal import Decimal

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.forecast.costs import WAYS, Price
from doorstone.core.forecast.paper import Replacements, SpecLine, replacements, specification
from doorstone.core.platforms.platform import Platform
from doorstone.formats.budget_page import budget_page
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.forecast.budgets import budget_plans
from doorstone.work.snapshot.sheets import get_sheet
from doorstone.work.snapshot.snapshot import snapshot

MOST_BUDGETS = 6


class BudgetColumn(Struct, frozen=True):
    """What one budget buys: its cost, serviced device-months, the most that any plan gives, and devices by way."""

    budget: Decimal
    cost: Decimal
    months: Decimal
    at_most: Decimal
    ways: Mapping[str, int]


class BudgetPaper(Struct, frozen=True):
    platform: str
    name: str
    as_of: date
    devices: int
    without_money: Decimal
    budgets: tuple[BudgetColumn, ...]
    prices: tuple[Price, ...]
    replacements: Replacements
    specification: tuple[SpecLine, ...]


def budget_paper(context: Context, platform_id: str, budgets: Sequence[Decimal]) -> BudgetPaper:
    """The paper for a platform. Raises `MissingError`, `BadInputError` for no budget or too many."""
    wanted = sorted(set(budgets))
    if not 0 < len(wanted) <= MOST_BUDGETS:
        raise BadInputError(f"{len(wanted)} budgets side by side", f"Give 1 to {MOST_BUDGETS} amounts")
    platform = get_sheet(context, platform_id).platform
    with context.database.read():
        stamp = context.stamp()
        depends_on = (stamp.ledger, stamp.devices, stamp.readings, context.today(), platform)
        key = ("budget paper", platform.id, tuple(wanted))
        return context.cached(key, depends_on, lambda: _paper(context, platform, wanted))


def _paper(context: Context, platform: Platform, wanted: Sequence[Decimal]) -> BudgetPaper:
    now, costs = snapshot(context), context.policy.costs
    columns, free = list[BudgetColumn](), Decimal(0)
    for plan in budget_plans(context, platform.id, wanted, DeviceFilter()):
        ways: Counter[str] = Counter()
        for line in plan.lines:
            ways[line.way] += line.count
        bought = {way: ways[way] for way in WAYS if ways[way]}
        columns.append(BudgetColumn(plan.budget, plan.cost, plan.months, plan.at_most, bought))
        free = plan.without_money
    ahead = now.fleet_forecasts(platform)
    prices = (Price(now.today, costs.price_on(now.today)), *(one for one in costs.prices if one.since > now.today))
    return BudgetPaper(
        platform.id,
        platform.name,
        now.today,
        sum(devices for _, devices in ahead),
        free,
        tuple(columns),
        prices,
        replacements(ahead, costs, now.today),
        tuple(specification(platform, now.today)),
    )


def paper_page(context: Context, platform_id: str, budgets: Sequence[Decimal]) -> tuple[str, str]:
    """The paper as an HTML page to print, and the digest of its style for the content policy."""
    return budget_page(budget_paper(context, platform_id, budgets))
