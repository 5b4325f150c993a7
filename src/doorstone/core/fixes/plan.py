"""Fixes first: which fixes to make on a device, in which order, and which one spares another.

In: a platform, a release, a settled view. Out: the cheapest plan that meets every requirement that fixes can meet.
Exact for up to 16 fixes that touch one another; beyond that each requirement's own cheapest, and the plan says so.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FactValue, View
from doorstone.core.platforms.platform import Fix, Platform, Requirement
from doorstone.core.sorting.assessment import Assessment, Finding
from doorstone.core.sorting.fix_search import cheapest, is_met


class FixStep(Struct, frozen=True):
    """One fix in its turn: `meets` are the requirements that are met once it is made, with those before it."""

    fix: Fix
    meets: tuple[str, ...]


class SparedFix(Struct, frozen=True):
    """A fix that applies as the device stands, and is not needed: `after` meets what it is for."""

    fix: Fix
    requirement: str
    after: str


class FixPlan(Struct, frozen=True):
    """The fixes of one device, in order. `left` are requirements that no fix meets; `exact` whether all were tried."""

    steps: tuple[FixStep, ...]
    spared: tuple[SparedFix, ...]
    left: tuple[str, ...]
    exact: bool = True

    @property
    def minutes(self) -> int:
        return sum(step.fix.minutes for step in self.steps)

    @property
    def cost(self) -> Decimal:
        return sum((step.fix.cost for step in self.steps), Decimal(0))

    def given(self) -> dict[str, FactValue]:
        """The device's facts once every fix is made."""
        return {name: value for step in self.steps for name, value in step.fix.gives.items()}


def plan_fixes(assessment: Assessment, view: View) -> FixPlan:
    """The cheapest fixes, by cost, then minutes, then number, after which most of what is unmet is met.

    A fix may open the way for another: its `when` is asked of the device as those before it have left it.
    """
    unmet = [f.requirement for f in assessment.findings if f.finding is Finding.UNMET and not f.against]
    found = cheapest(unmet, unmet, view.values(), view.as_of)
    values = dict(view.values())
    steps = []
    open_ = list(unmet)
    for fix in found.fixes:
        values |= dict(fix.gives)
        met = [r for r in open_ if is_met(r, values, view.as_of)]
        open_ = [r for r in open_ if r not in met]
        steps.append(FixStep(fix, tuple(r.id for r in met)))
    left = tuple(r.id for r in unmet if not is_met(r, values, view.as_of))
    return FixPlan(tuple(steps), _spared(unmet, steps, view), left, found.exact)


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


TOUCHES_KEYS = ("firmware-setting", "disk-conversion")


def stop_before(fix: Fix, view: View) -> str:
    """Why a fix must not be made yet; empty if it may be made. After it, keys bound to the chip could lock the owner
    out.
    """
    if fix.kind not in TOUCHES_KEYS or view.value("disk.encrypted") is not True:
        return ""
    if view.value("care.recovery_key_saved") is True:
        return ""
    return "The disk is encrypted and no recovery key is saved: save it first, or the owner may be locked out"


def after_fixes(platform: Platform, plan: FixPlan, view: View) -> View:
    """The device as the plan leaves it."""
    given = plan.given()
    return view.with_values(given) if given else view
