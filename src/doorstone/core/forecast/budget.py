"""Plans for budgets: which way each device takes so that the money buys the most serviced device-months.

In: per group of like devices its number and its ways (cost in cents, months in tenths), budgets. Out: a `Plan` for
each: the choice, what it costs and gives, and the most that any choice could give.

This is the multiple-choice knapsack problem. It is solved exactly, as an integer program: so many devices of each group
take each way. Of the plans that give the most, one with the least cost is taken. If the solver reaches its limit of
nodes before it has proved a plan, the plan is the best one found, and `bound` says how far it may be from the best.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from typing import Any

from msgspec import Struct

MOST_NODES = 20_000
"""Nodes of the search after which the best plan found is taken. A count, not a time: the same input, the same plan."""
MOST_SECONDS = 5.0


class Option(Struct, frozen=True):
    """One way: what it costs (cents) and how many tenths of a serviced month it gives."""

    way: str
    cost: int
    tenths: int


class Group(Struct, frozen=True):
    """So many devices with the same ways to choose from; one that costs nothing is among them."""

    key: Hashable
    devices: int
    options: tuple[Option, ...]


class ChosenOption(Struct, frozen=True):
    key: Hashable
    option: Option
    devices: int


class Plan(Struct, frozen=True):
    """`cost` in cents, `tenths` of months in all; no choice within the budget gives more than `bound`."""

    chosen: tuple[ChosenOption, ...]
    cost: int
    tenths: int
    bound: int


def plan(groups: Sequence[Group], budget: int) -> Plan:
    """The plan for a budget in cents. Raises `ValueError` if a group has no way that costs nothing."""
    return plans(groups, [budget])[0]


def plans(groups: Sequence[Group], budgets: Iterable[int]) -> list[Plan]:
    """The plan for each budget in cents, over the same groups. Raises as `plan` does."""
    alike: dict[tuple[Option, ...], list[Group]] = {}
    for group in groups:
        alike.setdefault(_worth_taking(group), []).append(group)
    return [_plan(groups, alike, budget) for budget in budgets]


def _worth_taking(group: Group) -> tuple[Option, ...]:
    """The options of a group by cost, without those that give no more than a cheaper one."""
    if not any(option.cost == 0 for option in group.options):
        raise ValueError(f"{group.key} has no way that costs nothing")
    kept: list[Option] = []
    for option in sorted(group.options, key=lambda o: (o.cost, -o.tenths)):
        if not kept or option.tenths > kept[-1].tenths:
            kept.append(option)
    return tuple(kept)


def _plan(groups: Sequence[Group], alike: dict[tuple[Option, ...], list[Group]], budget: int) -> Plan:
    sizes = {options: sum(group.devices for group in held) for options, held in alike.items()}
    taken, bound = _best(sizes, budget)
    chosen: dict[Hashable, list[ChosenOption]] = {}
    for options, held in alike.items():
        left = list(taken[options])
        for group in held:  # devices of groups with the same options are interchangeable
            wanted = group.devices
            for at, option in enumerate(options):
                if count := min(left[at], wanted):
                    chosen.setdefault(group.key, []).append(ChosenOption(group.key, option, count))
                    left[at] -= count
                    wanted -= count
    parts = tuple(part for group in groups for part in chosen.get(group.key, ()))
    cost = sum(part.option.cost * part.devices for part in parts)
    tenths = sum(part.option.tenths * part.devices for part in parts)
    return Plan(parts, cost, tenths, max(bound, tenths))


_Taken = dict[tuple[Option, ...], list[int]]


def _best(sizes: dict[tuple[Option, ...], int], budget: int) -> tuple[_Taken, int]:
    """How many devices take each option, and the most tenths of months that any choice could give."""
    start = sum(options[0].tenths * devices for options, devices in sizes.items())
    most = sum(options[-1].tenths * devices for options, devices in sizes.items())
    if sum(options[-1].cost * devices for options, devices in sizes.items()) <= budget:
        return {options: [0] * (len(options) - 1) + [devices] for options, devices in sizes.items()}, most
    if budget < min((option.cost for options in sizes for option in options if option.cost), default=budget + 1):
        return {options: [devices] + [0] * (len(options) - 1) for options, devices in sizes.items()}, start
    first, bound = _solve(sizes, budget, None)
    if first is None:
        return {options: [devices] + [0] * (len(options) - 1) for options, devices in sizes.items()}, bound
    gives = _tenths(first)
    cheaper, _ = _solve(sizes, budget, gives) if gives == bound else (None, 0)
    return (cheaper if cheaper is not None and _cost(cheaper) < _cost(first) else first), bound


def _solve(sizes: dict[tuple[Option, ...], int], budget: int, at_least: int | None) -> tuple[_Taken | None, int]:
    """Solve once: for the most months within the budget, or for the least cost that gives `at_least` so many."""
    import numpy as np  # takes a third of a second, and few calls plan a budget
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_array

    every = [(number, option) for number, options in enumerate(sizes) for option in options]
    costs = np.array([option.cost for _, option in every], dtype=float)
    tenths = np.array([option.tenths for _, option in every], dtype=float)
    devices = np.array(list(sizes.values()), dtype=float)
    rows, columns = [number for number, _ in every], range(len(every))
    one_way_each = csr_array((np.ones(len(every)), (rows, columns)), shape=(len(sizes), len(every)))
    limits: list[Any] = [LinearConstraint(one_way_each, devices, devices), LinearConstraint(costs[None, :], ub=budget)]
    if at_least is not None:
        limits.append(LinearConstraint(tenths[None, :], lb=at_least))
    found = milp(
        c=-tenths if at_least is None else costs,
        constraints=limits,
        integrality=np.ones(len(every)),
        bounds=Bounds(0, devices[rows]),
        options={"mip_rel_gap": 0, "node_limit": MOST_NODES, "time_limit": MOST_SECONDS},
    )
    bound = int(-found.mip_dual_bound + 1e-6) if found.mip_dual_bound is not None else int(tenths.sum())
    if found.x is None:
        return None, bound
    counts = iter(np.rint(found.x).astype(int).tolist())
    taken = {options: [next(counts) for _ in options] for options in sizes}
    whole = all(sum(held) == sizes[options] for options, held in taken.items())
    return (taken if whole and _cost(taken) <= budget else None), bound


def _cost(taken: _Taken) -> int:
    return sum(o.cost * n for options, held in taken.items() for o, n in zip(options, held, strict=True))


def _tenths(taken: _Taken) -> int:
    return sum(o.tenths * n for options, held in taken.items() for o, n in zip(options, held, strict=True))
