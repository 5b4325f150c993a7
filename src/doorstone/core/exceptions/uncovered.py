"""Uncovered: what a device runs without permission, since when, what covered it last, and what would end that.

In: the installer checks that it fails at the release that it runs, its exceptions, the day on which the release came.
Out: an `Uncovered`, or nothing where exceptions in force name every such check.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, excepted
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
    arrived: date,
    read: date,
    today: date,
) -> Uncovered | None:
    """What of `checks`, unmet at the `release` that the device runs since `arrived`, no exception in force names.

    One whose approval is in doubt does not count; it fell when the device was last `read`.
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
        since = max(arrived, min(read, today))
        return Uncovered(missing, since, UncoveredCause.STALE, last.terms.id, last.terms.doubt, waiting)
    over = [(end, one) for one in concerned if (end := _ended(one, today)) is not None]
    if over:
        end, last = max(over, key=lambda pair: (pair[0], pair[1].terms.id))
        return Uncovered(missing, max(arrived, end), ENDED[last.terms.state], last.terms.id, waiting=waiting)
    return Uncovered(
        missing, arrived, UncoveredCause.WAITS if waiting else UncoveredCause.NEVER, waiting, waiting=waiting
    )


def _ended(one: EarlierException, today: date) -> date | None:
    """The first day without it; None for one that was never in force, or is yet to come."""
    terms = one.terms
    if terms.state not in ENDED:
        return None
    last = terms.expiry + timedelta(days=1)
    end = min(one.ended, last) if one.ended else last
    return end if terms.start < end <= today else None


def ways_out(found: Uncovered, fixes: Sequence[str], rollback_until: date | None, askable: bool) -> tuple[str, ...]:
    """What would end it, the nearest way first. Never empty: every device can be replaced."""
    steps = []
    if found.cause is UncoveredCause.STALE:
        steps.append(f"Look again at {found.last}")
    if found.waiting:
        steps.append(f"Decide {found.waiting}")
    elif found.cause is UncoveredCause.LAPSED and askable:
        steps.append(f"Renew {found.last}")
    steps += [f"Fix: {title}" for title in fixes]
    if (
        askable
        and not found.waiting
        and found.cause in (UncoveredCause.NEVER, UncoveredCause.REVOKED, UncoveredCause.CLOSED)
    ):
        steps.append("Ask for an exception")
    if rollback_until is not None:
        steps.append(f"Go back: possible through {rollback_until}")
    return (*steps, "Replace or retire it")
