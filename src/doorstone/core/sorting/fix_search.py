"""The cheapest fixes that meet requirements: an exact search in which one fix may open the way for another.

In: requirements, values, a day. Out: fixes in the order in which they are made. A fix is possible once its `when` is
met by the values that those before it have left. Less is better, compared left to right: cost, minutes, number of
fixes, their places in the sheet. Exact for up to 16 fixes that touch one another, which is far more than sheets have.
"""

from __future__ import annotations

import heapq
from collections.abc import Collection, Mapping, Sequence
from datetime import date
from decimal import Decimal

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FactValue
from doorstone.core.platforms.platform import Fix, Requirement

MOST_EXACT = 16

Values = Mapping[str, FactValue]


class FixSearch(Struct, frozen=True):
    """What was found: `fixes` in order. `exact` is false where there were too many to try every set."""

    fixes: tuple[Fix, ...]
    exact: bool = True

    def after(self, values: Values) -> dict[str, FactValue]:
        """The values once every fix is made."""
        made = dict(values)
        for fix in self.fixes:
            made |= dict(fix.gives)
        return made


def is_met(requirement: Requirement, values: Values, as_of: date) -> bool:
    return requirement.condition.outcome(values, as_of) is Outcome.MET


def openers(requirement: Requirement, requirements: Sequence[Requirement]) -> tuple[Requirement, ...]:
    """The other requirements of a release whose fixes may help this one's: by what they give, or by opening the way."""
    needed = _looked_at(requirement.fixes) | requirement.condition.facts()
    found: list[Requirement] = []
    grown = True
    while grown:
        grown = False
        for other in requirements:
            if other.id != requirement.id and other not in found and any(needed & set(f.gives) for f in other.fixes):
                found.append(other)
                needed |= _looked_at(other.fixes)
                grown = True
    return tuple(found)


def _looked_at(fixes: Sequence[Fix]) -> set[str]:
    return set[str]().union(*(fix.when.facts() for fix in fixes))


def fixes_for(requirement: Requirement, others: Sequence[Requirement], values: Values, as_of: date) -> tuple[Fix, ...]:
    """The cheapest fixes after which this requirement is met, by one of its own; empty if there are none.

    `others` are unmet too: their fixes may open the way.
    """
    if not requirement.fixes:
        return ()
    pool = _distinct([requirement, *others])
    own = {_key(fix) for fix in requirement.fixes}
    return tuple(_search([requirement], pool[:MOST_EXACT], values, as_of, own))


def cheapest(wanted: Sequence[Requirement], unmet: Sequence[Requirement], values: Values, as_of: date) -> FixSearch:
    """The cheapest fixes after which most of `wanted` is met. The fixes of all that is `unmet` may be made for it."""
    chosen: list[Fix] = []
    exact = True
    for group, pool in _apart(wanted, unmet):
        if len(pool) <= MOST_EXACT:
            chosen += _search(group, pool, values, as_of)
        else:
            exact = False
            for requirement in group:
                known = {_key(fix) for fix in chosen}
                mine = fixes_for(requirement, openers(requirement, unmet), values, as_of)
                chosen += [fix for fix in mine if _key(fix) not in known]
    return FixSearch(tuple(chosen), exact)


def _apart(wanted: Sequence[Requirement], unmet: Sequence[Requirement]) -> list[tuple[list[Requirement], list[Fix]]]:
    """The wanted requirements in groups that share no fact with one another, each with the fixes that matter to it."""
    groups: list[tuple[set[str], list[Requirement], list[Requirement]]] = []
    for requirement in wanted:
        with_fixes = [requirement, *openers(requirement, unmet)]
        facts = requirement.condition.facts().union(*(_touched(r) for r in with_fixes))
        mine = (set(facts), [requirement], with_fixes)
        for other in [g for g in groups if g[0] & mine[0]]:
            groups.remove(other)
            mine = (mine[0] | other[0], other[1] + mine[1], other[2] + [r for r in mine[2] if r not in other[2]])
        groups.append(mine)
    place = {requirement.id: at for at, requirement in enumerate(unmet)}
    groups.sort(key=lambda group: place.get(group[1][0].id, 0))
    return [(mine, _distinct(sorted(owners, key=lambda r: place.get(r.id, 0)))) for _, mine, owners in groups]


def _touched(requirement: Requirement) -> set[str]:
    return _looked_at(requirement.fixes).union(*(fix.gives for fix in requirement.fixes))


def _key(fix: Fix) -> tuple[object, ...]:
    return (fix.title, fix.kind, str(fix.when), str(dict(fix.gives)))


def _distinct(requirements: Sequence[Requirement]) -> list[Fix]:
    """Every fix once: the same part meets two requirements and is bought once."""
    found: dict[tuple[object, ...], Fix] = {}
    for requirement in requirements:
        for fix in requirement.fixes:
            found.setdefault(_key(fix), fix)
    return list(found.values())


_Cost = tuple[Decimal, int, int, tuple[int, ...]]


def _search(
    wanted: Sequence[Requirement],
    pool: Sequence[Fix],
    values: Values,
    as_of: date,
    own: Collection[tuple[object, ...]] = (),
) -> list[Fix]:
    """Every set of fixes that can be made one after the other, the cheapest first; the best meets the most.

    With `own`, only sets with one of these fixes count.
    """
    start: _Cost = (Decimal(0), 0, 0, ())
    queue = [start]
    seen: set[tuple[int, ...]] = set()
    best: tuple[int, _Cost] = (0, start)
    while queue:
        cost = heapq.heappop(queue)
        order = cost[3]
        made = FixSearch(tuple(pool[at] for at in order)).after(values)
        key = _state(pool, order)
        if key in seen:
            continue
        seen.add(key)
        met = sum(is_met(requirement, made, as_of) for requirement in wanted)
        if own and not any(_key(pool[at]) in own for at in order):
            met = 0
        if met > best[0]:
            best = (met, cost)
        if met == len(wanted):
            break
        for at, fix in enumerate(pool):
            if at not in order and fix.when.outcome(made, as_of) is Outcome.MET:
                heapq.heappush(queue, (cost[0] + fix.cost, cost[1] + fix.minutes, cost[2] + 1, (*order, at)))
    return [pool[at] for at in best[1][3]]


def _state(pool: Sequence[Fix], order: Sequence[int]) -> tuple[int, ...]:
    """What tells one sequence from another: which fixes, and, where two give the same fact, which came last."""
    last: dict[str, int] = {}
    for at in order:
        last |= dict.fromkeys(pool[at].gives, at)
    return (*sorted(order), -1, *(at for _, at in sorted(last.items())))
