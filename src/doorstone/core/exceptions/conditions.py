"""Conditions to keep: what an exception was granted on, and whether it is still kept.

In: a condition with a test of facts or a day until which somebody attests it, a settled view, a day.
Out: a `ConditionStatus` with a word and what was seen.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.conditions import Condition, Outcome
from doorstone.core.facts import View


class ConditionState(StrEnum):
    KEPT = "kept"
    BROKEN = "broken"
    UNREAD = "unread"
    DUE = "due"
    OVERDUE = "overdue"


class ExceptionCondition(Struct, frozen=True):
    """One condition. With a `condition` facts decide; else it is attested by `due_on`, then every `every_days`."""

    number: int
    text: str
    condition: Condition | None = None
    due_on: date | None = None
    every_days: int | None = None

    def next_due(self, attested: date | None) -> date | None:
        """The day by which it is to be attested next; None once nothing more is due."""
        if self.condition is not None or self.due_on is None:
            return None
        if attested is None:
            return self.due_on
        return attested + timedelta(days=self.every_days) if self.every_days else None


class ConditionStatus(Struct, frozen=True):
    """How a condition stands on a day. `measured` is what the facts say, `due_on` when it is to be attested next."""

    number: int
    text: str
    word: ConditionState
    measured: str = ""
    due_on: date | None = None

    @property
    def holds(self) -> bool:
        return self.word in (ConditionState.KEPT, ConditionState.DUE)


def by_facts(to_keep: ExceptionCondition, view: View) -> ConditionStatus:
    """Whether one device keeps a condition that facts decide."""
    assert to_keep.condition is not None
    words = {
        Outcome.MET: ConditionState.KEPT,
        Outcome.UNMET: ConditionState.BROKEN,
        Outcome.UNREAD: ConditionState.UNREAD,
    }
    leaves = [leaf.explain(view) for leaf in to_keep.condition.leaves()]
    measured = ", ".join(f"{leaf.fact} {leaf.measured or 'unread'}" for leaf in leaves)
    return ConditionStatus(
        to_keep.number, to_keep.text, words[to_keep.condition.outcome(view.values(), view.as_of)], measured
    )


def worst(words: Iterable[ConditionState]) -> ConditionState:
    """One word for several devices: broken if any breaks the condition, else unread if any is unread, else kept."""
    found = set(words)
    return next((w for w in (ConditionState.BROKEN, ConditionState.UNREAD) if w in found), ConditionState.KEPT)


def by_word(to_keep: ExceptionCondition, attested: date | None, as_of: date) -> ConditionStatus:
    """How an attested condition stands: kept once attested, due until its day, overdue after it."""
    due = to_keep.next_due(attested)
    if due is not None and as_of > due:
        word = ConditionState.OVERDUE
    elif attested is not None or to_keep.due_on is None:
        word = ConditionState.KEPT
    else:
        word = ConditionState.DUE
    measured = f"attested on {attested}" if attested else ""
    return ConditionStatus(to_keep.number, to_keep.text, word, measured, due)
