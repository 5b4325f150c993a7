"""How attempts end, what may be recorded of one, and until when a device can go back."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date, datetime, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.errors import InvalidInputError
from doorstone.core.platforms.platform import Platform, Route


class AttemptOutcome(StrEnum):
    COMPLETED = "completed"
    REFUSED = "refused"
    CARRY_OVER_LOST = "carry-over-lost"
    FAILED_TO_START = "failed-to-start"
    ROLLED_BACK = "rolled-back"
    ABANDONED = "abandoned"


ARRIVED = frozenset({AttemptOutcome.COMPLETED, AttemptOutcome.CARRY_OVER_LOST})
"""After these the device runs the release."""


class EndedAttempt(Struct, frozen=True):
    """An attempt as its end is known. `ended_at` is an ISO 8601 time."""

    id: int
    release: str
    route: str
    outcome: AttemptOutcome
    ended_at: str

    @property
    def ended_on(self) -> date:
        return date.fromisoformat(self.ended_at[:10])


def check_outcome(outcome: str, started_at: datetime, ended_at: datetime, now: datetime, mismatch: str) -> None:
    """Raises `InvalidInputError` for an unknown outcome, an impossible time or a mismatch that does not belong."""
    if outcome not in set(AttemptOutcome):
        raise InvalidInputError(f"{outcome!r} is not an outcome", f"Use one of {', '.join(AttemptOutcome)}")
    if ended_at < started_at:
        raise InvalidInputError(f"It ended {ended_at}, before it started", "Correct the times")
    if mismatch and outcome != AttemptOutcome.CARRY_OVER_LOST:
        raise InvalidInputError("Only carry-over-lost has a mismatch", "Correct the outcome, or leave it out")
    if ended_at > now:
        raise InvalidInputError(f"It ended {ended_at}, which is yet to come", "Record it once it has ended")


def check_correction(named: str, wrong: EndedAttempt, device: str, *, arrives: bool, runs: str) -> None:
    """Raises `InvalidInputError` unless it is clear which release the `device` of a wrong attempt runs after all.

    `named` is the wrong attempt's id; `arrives`: what is recorded in its place brings a release to the same device.
    """
    arrived = wrong.outcome in ARRIVED
    if arrived and not arrives and not runs:
        detail = f"{named} said that {device} runs {wrong.release}"
        raise InvalidInputError(detail, "Say which release it runs after all: runs, or --runs")
    if runs and (arrives or not arrived):
        raise InvalidInputError(f"{named} leaves no doubt about what {device} runs", "Leave runs out")


def check_refused_by(platform: Platform, release: str, refused_by: Iterable[str]) -> None:
    """Raises `InvalidInputError` for a requirement that the release does not have."""
    known = {requirement.id for requirement in platform.requirements_at(release)}
    if unknown := [name for name in refused_by if name not in known]:
        raise InvalidInputError(
            f"{release} asks for no {', '.join(unknown)}", f"Name the check: {', '.join(sorted(known))}"
        )


def arrived_on(attempts: Iterable[EndedAttempt], release: str) -> date | None:
    """The day of the last attempt that brought a release; None if no attempt did."""
    return max((a.ended_on for a in attempts if a.release == release and a.outcome in ARRIVED), default=None)


def rollback_until(
    platform: Platform, runs: str, attempts: Iterable[EndedAttempt], ended_rollback: Collection[int]
) -> date | None:
    """The last day on which a device can go back from the release that it `runs`; None if it cannot.

    The last attempt that changed the device decides: it brought the release over the running system, was not taken
    back, and is not in `ended_rollback`, the attempts after which the previous release was removed.
    """
    changed = [a for a in attempts if a.outcome in ARRIVED or a.outcome is AttemptOutcome.ROLLED_BACK]
    last = max(changed, key=lambda a: a.ended_at, default=None)
    if last is None or last.outcome is AttemptOutcome.ROLLED_BACK or last.id in ended_rollback:
        return None
    if last.release != runs or last.route == Route.CLEAN or not platform.has(runs):
        return None
    return last.ended_on + timedelta(days=platform.release(runs).rollback_days)
