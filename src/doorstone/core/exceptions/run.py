"""The run without permission: since when a device has failed a check that no valid exception names, and what began it.

In: how the device stood in the past, as states from a day on, and the days on which exceptions permitted something.
Out: the present unbroken run, day by day: its first day, and what changed on that day.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

DAY = timedelta(days=1)


class Began(StrEnum):
    """What began a run without permission, or a state."""

    READING = "reading"
    SHEET = "sheet"
    DECISION = "decision"
    UPGRADE = "upgrade"
    LAPSED = "lapsed"
    REVOKED = "revoked"
    CLOSED = "closed"
    STALE = "stale"


class PastState(Struct, frozen=True):
    """From the day `since` on: the release that the device runs, and the installer checks that it fails there."""

    since: date
    release: str
    checks: frozenset[str]
    by: Began


class Permission(Struct, frozen=True):
    """An exception that permitted the device to fail `requirements` at `releases`, from `first` through `last`."""

    exception: str
    requirements: frozenset[str]
    releases: frozenset[str]
    first: date
    last: date
    ended_by: Began

    def names(self, state: PastState, day: date) -> frozenset[str]:
        """The checks of a state that it permits on a day."""
        fits = self.first <= day <= self.last and state.release in self.releases
        return self.requirements & state.checks if fits else frozenset()


class Run(Struct, frozen=True):
    """The present run without permission. Not `exact`: the history before its first day was reduced."""

    since: date
    began: Began
    exact: bool = True


def present_run(
    states: Sequence[PastState], permissions: Sequence[Permission], today: date, *, whole: bool = True
) -> Run | None:
    """The run that lasts until today; None if the device is covered today.

    `states` are given by day, the earliest first, the last one being today's; `whole`: nothing is known to be missing
    before the first of them.
    """
    if not states or not _missing(states, permissions, today):
        return None
    first = states[0].since
    changes = {state.since for state in states}
    changes |= {day for p in permissions for day in (p.first, p.last + DAY)}
    since = today
    for day in sorted((day for day in changes if first <= day <= today), reverse=True):
        since = day
        if day == first:
            return Run(first, states[0].by, whole)
        if not _missing(states, permissions, day - DAY):
            break
    return Run(since, _cause(states, permissions, since))


def _state(states: Sequence[PastState], day: date) -> PastState:
    return max((state for state in states if state.since <= day), key=lambda state: state.since, default=states[0])


def _missing(states: Sequence[PastState], permissions: Iterable[Permission], day: date) -> frozenset[str]:
    """The checks that the device failed on a day and that nothing permitted."""
    state = _state(states, day)
    return state.checks.difference(*(permission.names(state, day) for permission in permissions))


def _cause(states: Sequence[PastState], permissions: Sequence[Permission], since: date) -> Began:
    """What changed on the first day of a run: the state of the device, if the permissions of the day before would not
    have covered it, else the permission that ended.
    """
    state = _state(states, since)
    before = state.checks.difference(*(p.names(state, since - DAY) for p in permissions))
    if before and state.since == since:
        return state.by
    missing = _missing(states, permissions, since)
    ended = [p for p in permissions if p.last == since - DAY and p.requirements & missing]
    return max(ended, key=lambda p: (len(p.requirements & missing), p.exception)).ended_by if ended else state.by
