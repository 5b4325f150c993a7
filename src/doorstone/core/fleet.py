"""The fleet compared, and what if: how a device comes out on a route, and how it would stand after some action.

In: a platform, a view, decisions. Out: a word for the outcome, or the fixes made and the state after them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from datetime import datetime

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.facts import View
from doorstone.core.fixes.plan import plan_fixes
from doorstone.core.kits.overrides import choose
from doorstone.core.platforms.platform import Fix, Platform, Route, Sort
from doorstone.core.sorting.assessment import (
    Assessment,
    Decision,
    Finding,
    Scope,
    State,
    assess,
    fixed_view,
    with_exceptions,
)

CARRIED, UNCOVERED, NO_PATH = "carried", "uncovered", "no-path"
"""How a device comes out on a route, beside its states: overrides cover every check, some check has none, no way."""


def route_outcome(
    platform: Platform, release: str, route: Route, view: View, own: str, decisions: Sequence[Decision]
) -> tuple[str, tuple[str, ...]]:
    """How a device comes out on a route: its state, or one of the words above.

    Beside it, the checks that nothing covers, or the gates that close the route. `own` is the device if decisions are
    on it alone, else empty.
    """
    gates = platform.path_gates(route)
    closed = tuple(g.id for g in gates if g.condition.outcome(view.values(), view.as_of) is Outcome.UNMET)
    assessment = assess(platform, release, view, decisions, own)
    if closed and assessment.state not in (State.FLOORED, State.UNSETTLED):
        return NO_PATH, closed
    if assessment.state is not State.NEEDS_EXCEPTION:
        return assessment.state.value, ()
    checks = tuple(f.requirement.id for f in assessment.unmet("installer-check"))
    values = fixed_view(view, assessment.findings).values()
    choice = choose(platform, release, route, values, view.as_of, checks, checks)
    return (CARRIED, ()) if choice.best else (UNCOVERED, choice.uncovered or checks)


class SortScenario(Struct, frozen=True):
    """Were a requirement sorted so, for one model or for all."""

    requirement: str
    sort: str
    model: str = ""


class WhatIf(Struct, frozen=True):
    """What to suppose of devices: these fixes made (by title, or all), sorts decided, checks approved."""

    fixes: tuple[str, ...] = ()
    all_fixes: bool = False
    sorts: tuple[SortScenario, ...] = ()
    approve: tuple[str, ...] = ()


def supposed_decisions(release: str, sorts: Iterable[SortScenario], models: Iterable[str]) -> list[Decision]:
    """The supposed decisions, later than all others. One for all is one for every model there is."""
    known = sorted(set(models))
    return [
        Decision("what-if", s.requirement, release, Scope.MODEL, model, Sort(s.sort), "", "", "", datetime.max)
        for s in sorts
        for model in ([s.model] if s.model else known)
    ]


def suppose(
    platform: Platform,
    release: str,
    scenario: WhatIf,
    view: View,
    own: str,
    decisions: Sequence[Decision],
    excepted: Collection[str],
) -> tuple[list[Fix], str]:
    """The fixes that would be made on a device, and its state then. `excepted` are requirements that exceptions in
    force name.
    """
    found = assess(platform, release, view, decisions, own)
    fixes = _fixes(found, view, scenario)
    if fixes:
        given = {name: value for fix in fixes for name, value in fix.gives.items()}
        found = assess(platform, release, view.with_values(given), decisions, own)
    marks = {f.requirement.id: f.mark for f in found.findings}
    return fixes, with_exceptions(found.state, marks, {*excepted, *scenario.approve}).value


def _fixes(assessment: Assessment, view: View, scenario: WhatIf) -> list[Fix]:
    """The fixes of a device's plan that are asked for."""
    unmet = any(f.finding is Finding.UNMET for f in assessment.findings)
    if not unmet or not (scenario.all_fixes or scenario.fixes):
        return []
    return [s.fix for s in plan_fixes(assessment, view).steps if scenario.all_fixes or s.fix.title in scenario.fixes]
