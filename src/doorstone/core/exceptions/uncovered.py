"""Uncovered: what a device runs without permission, since when, what covered it last, and what would end that.

In: the installer checks that it fails at the release that it runs, its exceptions, the day on which the release came.
Out: an `Uncovered`, or nothing where exceptions in force name every such check.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, excepted
from doorstone.core.exceptions.run import Began, Run
from doorstone.core.platforms.platform import Platform


class UncoveredCause(StrEnum):
    """Why nothing covers the device: nobody asked for an exception, or the last one ended in this way."""

    NEVER = "never"
    WAITS = "waits"
    LAPSED = "lapsed"
    REVOKED = "revoked"
    CLOSED = "closed"
    STALE = "stale"


class EarlierException(Struct, frozen=True):
    """An exception of the device, and the day on which somebody ended it, if somebody did."""

    terms: ExceptionTerms
    ended: date | None = None


class Uncovered(Struct, frozen=True):
    """`last` is the exception that covered some of it last, or that waits; `why` is what put its approval in doubt."""

    requirements: tuple[str, ...]
    since: date
    cause: UncoveredCause
    last: str = ""
    why: str = ""
    waiting: str = ""
    """The newest request for some of it that waits for a decision."""
    began: Began = Began.READING
    """What began the present run without permission."""
    exact: bool = True
    """Whether `since` is the first day. If not, the history before that day was reduced: since at least."""


ENDED = {
    ExceptionState.APPROVED: UncoveredCause.LAPSED,  # past its last day, though nobody has written that down yet
    ExceptionState.LAPSED: UncoveredCause.LAPSED,
    ExceptionState.REVOKED: UncoveredCause.REVOKED,
    ExceptionState.CLOSED: UncoveredCause.CLOSED,
}


def uncovered(
    platform: Platform,
    release: str,
    checks: Collection[str],
    held: Sequence[EarlierException],
    run: Run,
    today: date,
) -> Uncovered | None:
    """What of `checks`, unmet at the `release` that the device runs, no exception in force names.

    An exception whose approval is stale does not count. `run` is the present run without permission.
    """
    reaching = [one for one in held if one.terms.reaches(platform, release)]
    missing = tuple(sorted(set(checks) - excepted((one.terms for one in held), platform, release, today)))
    if not missing:
        return None
    concerned = [one for one in reaching if one.terms.requirements & set(missing)]
    waiting = max((one.terms.id for one in concerned if one.terms.state is ExceptionState.REQUESTED), default="")
    doubted = [one for one in concerned if one.terms.in_force(today) and not one.terms.stands]
    if doubted:
        last = max(doubted, key=lambda one: one.terms.expiry)
        return Uncovered(
            missing, run.since, UncoveredCause.STALE, last.terms.id, last.terms.doubt, waiting, run.began, run.exact
        )
    over = [(end, one) for one in concerned if (end := _ended(one, today)) is not None]
    if over:
        _, last = max(over, key=lambda pair: (pair[0], pair[1].terms.id))
        cause = ENDED[last.terms.state]
        return Uncovered(missing, run.since, cause, last.terms.id, "", waiting, run.began, run.exact)
    cause = UncoveredCause.WAITS if waiting else UncoveredCause.NEVER
    return Uncovered(missing, run.since, cause, waiting, "", waiting, run.began, run.exact)


def _ended(one: EarlierException, today: date) -> date | None:
    """The first day without it; None for one that was never in force, or is yet to come."""
    terms = one.terms
    if terms.state not in ENDED:
        return None
    last = terms.expiry + timedelta(days=1)
    end = min(one.ended, last) if one.ended else last
    return end if terms.start < end <= today else None


class Remedy(Struct, frozen=True):
    """A fix that is possible on the device, and the requirements that it meets."""

    title: str
    meets: frozenset[str]


def ways_out(
    found: Uncovered,
    fixes: Sequence[Remedy],
    rollback_until: date | None,
    covers: Mapping[str, Collection[str]],
    *,
    askable: bool,
) -> tuple[str, ...]:
    """What would end the run without permission, the nearest way first. Never empty: every device can be replaced.

    `covers` maps an exception to the requirements that it names. A step that leaves a requirement uncovered says so.
    """
    missing = set(found.requirements)

    def step(words: str, met: Collection[str]) -> str:
        rest = sorted(missing - set(met))
        return words if not rest else f"{words}. {', '.join(rest)} would stay uncovered"

    steps = []
    if found.cause is UncoveredCause.STALE:
        steps.append(step(f"Reconfirm {found.last}", covers.get(found.last, ())))
    if found.waiting:
        steps.append(step(f"Decide {found.waiting}", covers.get(found.waiting, ())))
    elif found.cause is UncoveredCause.LAPSED and askable:
        steps.append(step(f"Renew {found.last}", covers.get(found.last, ())))
    if fixes:
        together = frozenset[str]().union(*(fix.meets for fix in fixes))
        steps += [f"Fix: {fix.title}" for fix in fixes[:-1]]
        steps.append(step(f"Fix: {fixes[-1].title}", together))
    if askable and not found.waiting:
        covered = covers.get(found.last, ()) if found.cause is UncoveredCause.LAPSED else ()
        if found.cause is not UncoveredCause.STALE and not missing <= set(covered):
            steps.append("Request an exception")
    if rollback_until is not None:
        steps.append(f"Roll back: possible through {rollback_until}")
    return (*steps, "Replace or retire the device")
