"""Plans for budgets: which way each device takes so that the money buys the most serviced device-months.

In: per group of like devices its number and its ways (cost in cents, months in tenths), budgets. Out: a `Plan` for
each: the choice, what it costs and gives, and the most that any choice could give: the optimum of the linear
relaxation, as in P. Sinha and A. A. Zoltners, "The multiple-choice knapsack problem", Operations Research 27 (1979).
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence

from msgspec import Struct


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


class _Step(Struct, frozen=True):
    """From one option of a group to the next better one on its hull."""

    group: int
    at: int
    cost: int
    gain: int


def plan(groups: Sequence[Group], budget: int) -> Plan:
    """The plan for a budget in cents. Raises `ValueError` if a group has no way that costs nothing."""
    return plans(groups, [budget])[0]


def plans(groups: Sequence[Group], budgets: Iterable[int]) -> list[Plan]:
    """The plan for each budget in cents, over the same groups. Raises as `plan` does."""
    known: dict[tuple[Option, ...], list[Option]] = {}
    for group in groups:
        if group.options not in known:
            known[group.options] = _hull(group)
    hulls = [known[group.options] for group in groups]
    steps = [
        _Step(number, at, hull[at].cost - hull[at - 1].cost, hull[at].tenths - hull[at - 1].tenths)
        for number, hull in enumerate(hulls)
        for at in range(1, len(hull))
    ]
    steps.sort(key=lambda s: (-s.gain / s.cost, s.group, s.at))
    return [_plan(groups, hulls, steps, budget) for budget in budgets]


def _plan(groups: Sequence[Group], hulls: Sequence[list[Option]], steps: Sequence[_Step], budget: int) -> Plan:
    """The plan for a budget by the steps of all groups, those that give most for their money first."""
    start = sum(hull[0].tenths * group.devices for hull, group in zip(hulls, groups, strict=True))
    placed = [{0: group.devices} for group in groups]
    left, tenths, bound, full = budget, start, float(start), True
    room = float(budget)
    for step in steps:
        ready = placed[step.group].get(step.at - 1, 0)
        could = groups[step.group].devices
        if full:  # the relaxation takes steps in this order and a part of the last
            share = min(could * step.cost, room)
            bound += share * step.gain / step.cost
            room -= share
            full = room > 0
        taken = min(ready, left // step.cost)
        if taken:
            placed[step.group][step.at - 1] -= taken
            placed[step.group][step.at] = placed[step.group].get(step.at, 0) + taken
            left -= taken * step.cost
            tenths += taken * step.gain
    chosen = tuple(
        ChosenOption(group.key, hull[at], count)
        for group, hull, held in zip(groups, hulls, placed, strict=True)
        for at, count in sorted(held.items())
        if count
    )
    return Plan(chosen, budget - left, tenths, max(tenths, int(bound + 1e-6)))


def _hull(group: Group) -> list[Option]:
    """The options of a group worth taking: from the free one on, each next gives less for its money."""
    free = [option for option in group.options if option.cost == 0]
    if not free:
        raise ValueError(f"{group.key} has no way that costs nothing")
    hull = [max(free, key=lambda o: o.tenths)]
    for option in sorted(group.options, key=lambda o: (o.cost, -o.tenths)):
        if option.cost == 0 or option.tenths <= hull[-1].tenths:
            continue
        while len(hull) > 1 and _slope(hull[-2], hull[-1]) <= _slope(hull[-2], option):
            hull.pop()
        if option.cost > hull[-1].cost:
            hull.append(option)
        else:
            hull[-1] = option
    return hull


def _slope(one: Option, other: Option) -> float:
    return (other.tenths - one.tenths) / (other.cost - one.cost)
