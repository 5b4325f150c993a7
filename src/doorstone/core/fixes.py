"""Fixes first: which fixes to make on a device, in which order, and which one spares another.

In: a platform, a release, a settled view. Out: the cheapest plan that meets every requirement that fixes can meet.
Exact for up to 12 fixes that matter, beyond that each requirement's own cheapest.
"""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FactValue, View
from doorstone.core.platforms import Fix, Platform, Requirement
from doorstone.core.sorting import Assessment, Finding, fixes_for

MOST_EXACT = 12


@dataclass(frozen=True, slots=True)
class FixStep:
    """One fix in its turn: `meets` are the requirements that are met once it is made, with those before it."""

    fix: Fix
    meets: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SparedFix:
    """A fix that applies as the device stands, and is not needed: `after` meets what it is for."""

    fix: Fix
    requirement: str
    after: str


@dataclass(frozen=True, slots=True)
class FixPlan:
    """The fixes of one device, in order. `left` are the requirements that no fix meets."""

    steps: tuple[FixStep, ...]
    spared: tuple[SparedFix, ...]
    left: tuple[str, ...]

    @property
    def minutes(self) -> int:
        return sum(step.fix.minutes for step in self.steps)

    @property
    def cost(self) -> Decimal:
        return sum((step.fix.cost for step in self.steps), Decimal(0))

    def given(self) -> dict[str, FactValue]:
        """The facts once every fix is made."""
        return {name: value for step in self.steps for name, value in step.fix.gives.items()}


def plan_fixes(assessment: Assessment, view: View) -> FixPlan:
    """The cheapest fixes, by cost, then minutes, then number, after which most of what is unmet is met.

    A fix may open the way for another: its `when` is asked of the device as those before it have left it.
    """
    unmet = [f.requirement for f in assessment.findings if f.finding is Finding.UNMET and not f.against]
    fixes = _distinct(unmet)
    chosen = _search(unmet, fixes, view) if len(fixes) <= MOST_EXACT else _each_its_own(unmet, view)
    values = view.values()
    steps = []
    open_ = list(unmet)
    for fix in chosen:
        values = {**values, **fix.gives}
        met = [r for r in open_ if r.condition.outcome(values, view.as_of) is Outcome.MET]
        open_ = [r for r in open_ if r not in met]
        steps.append(FixStep(fix, tuple(r.id for r in met)))
    return FixPlan(tuple(steps), _spared(unmet, steps, view), tuple(r.id for r in open_))


def _distinct(requirements: Sequence[Requirement]) -> list[Fix]:
    """Every fix once: the same part meets two requirements and is bought once."""
    found: dict[tuple[object, ...], Fix] = {}
    for requirement in requirements:
        for fix in requirement.fixes:
            found.setdefault((fix.title, fix.kind, str(fix.when), str(dict(fix.gives))), fix)
    return list(found.values())


_Cost = tuple[Decimal, int, int, tuple[int, ...]]


def _search(requirements: Sequence[Requirement], fixes: Sequence[Fix], view: View) -> list[Fix]:
    """Every set of fixes that can be made one after the other, the cheapest first; the best meets the most."""
    start: _Cost = (Decimal(0), 0, 0, ())
    queue = [start]
    seen: set[frozenset[int]] = set()
    best: tuple[int, _Cost] = (-1, start)
    while queue:
        cost = heapq.heappop(queue)
        order = cost[3]
        if frozenset(order) in seen:
            continue
        seen.add(frozenset(order))
        values = _after(view, [fixes[at] for at in order])
        met = sum(r.condition.outcome(values, view.as_of) is Outcome.MET for r in requirements)
        if met > best[0]:
            best = (met, cost)
        if met == len(requirements):
            break
        for at, fix in enumerate(fixes):
            if at not in order and fix.when.outcome(values, view.as_of) is Outcome.MET:
                heapq.heappush(queue, (cost[0] + fix.cost, cost[1] + fix.minutes, cost[2] + 1, (*order, at)))
    return [fixes[at] for at in best[1][3]]


def _after(view: View, fixes: Sequence[Fix]) -> dict[str, FactValue]:
    values: dict[str, FactValue] = dict(view.values())
    for fix in fixes:
        values |= dict(fix.gives)
    return values


def _each_its_own(requirements: Sequence[Requirement], view: View) -> list[Fix]:
    chosen: list[Fix] = []
    for requirement in requirements:
        chosen += [fix for fix in fixes_for(requirement, view) if fix.title not in {known.title for known in chosen}]
    return chosen


def _spared(requirements: Sequence[Requirement], steps: Sequence[FixStep], view: View) -> tuple[SparedFix, ...]:
    made = {step.fix.title for step in steps}
    by: Mapping[str, str] = {name: step.fix.title for step in steps for name in step.meets}
    values = view.values()
    return tuple(
        SparedFix(fix, requirement.id, by[requirement.id])
        for requirement in requirements
        for fix in requirement.fixes
        if fix.title not in made and requirement.id in by and fix.when.outcome(values, view.as_of) is Outcome.MET
    )


def after_fixes(platform: Platform, plan: FixPlan, view: View) -> View:
    """The device as the plan leaves it."""
    given = plan.given()
    return view.with_values(given) if given else view
