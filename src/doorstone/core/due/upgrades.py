"""Due after upgrades: follow-ups, going back, checks of updates, attempts that went wrong, fixes, settings gone."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date, timedelta

from msgspec import Struct

from doorstone.core.attempts.outcomes import AttemptOutcome
from doorstone.core.due.items import HANDS, KEEPERS, Due, DueDevice, DueKind
from doorstone.core.platforms.platform import Platform
from doorstone.core.updates import ClassStanding


class OpenFollowUp(Struct, frozen=True):
    id: str
    device: DueDevice
    title: str
    blocking: bool
    due_on: date


class LastAttempt(Struct, frozen=True):
    """The newest attempt on a device, if it went wrong. `undecided` are its unmet requirements not sorted since."""

    id: str
    device: DueDevice
    release: str
    outcome: AttemptOutcome
    ended_on: date
    refused_by: Sequence[str]
    seen: str
    overrides: Collection[str]
    undecided: Sequence[str]


def follow_up_due(step: OpenFollowUp) -> Due:
    words = f"{step.device.id}: {step.title}" + (" (the device is not finished without it)" if step.blocking else "")
    return _due(DueKind.FOLLOW_UP, step.due_on, step.device, words, part=step.id)


def rollback_due(device: DueDevice, runs: str, until: date) -> Due:
    return _due(DueKind.ROLLBACK, until, device, f"{device.id} can go back from {runs} through this day")


def surprises(device: DueDevice, standing: Iterable[ClassStanding]) -> Iterator[Due]:
    """Updates that come, or stay away, otherwise than the sheet has it."""
    for found in standing:
        if found.compared in ("better", "worse") and found.observed is not None:
            kind = found.update_class
            words = f"{device.id}: {kind} updates are {found.compared} than the sheet has it ({found.expected})"
            yield _due(DueKind.SURPRISE, found.observed.seen_on, device, words, part=kind.value)


def begun_by(every_days: int, ahead: date) -> date:
    """The day by which a device has to run by exception for a look at it to be due by `ahead`.

    Earlier looks only put the next one off.
    """
    return ahead - timedelta(days=every_days)


def first_days(running: Iterable[tuple[str, date]], last: date) -> dict[str, date]:
    """Device -> the first day since when it runs by any exception: a later one puts no look at it off.

    Days after `last` are left out.
    """
    found: dict[str, date] = {}
    for device, since in running:
        if since <= last:
            found[device] = min(since, found.get(device, since))
    return found


def check_due(
    device: DueDevice,
    runs: str,
    since: date,
    seen_on: Iterable[date],
    every_days: int,
    ahead: date,
    permitted: bool = True,
) -> Due | None:
    """The next look at a device that runs `runs` by exception since a day; None if that is later than `ahead`.

    `permitted` is False where the exception has ended and the device runs on by it.
    """
    on = max([since, *seen_on]) + timedelta(days=every_days)
    if on > ahead:
        return None
    by = "by exception" if permitted else "by an exception that has ended"
    words = f"{device.id} runs {runs} {by}: see which updates arrive and what is offered"
    return _due(DueKind.CHECK, on, device, words)


def attempt_due(platform: Platform, last: LastAttempt) -> Due | None:
    """What an attempt that went wrong asks for, until the device is tried again or somebody decides."""
    device, release = last.device.id, last.release
    if last.outcome is AttemptOutcome.FAILED_TO_START and last.undecided:
        words = (
            f"{device} did not start on {release} with {', '.join(last.undecided)} unmet ({last.id}): "
            "is one of them a floor? Sort it, or try again"
        )
        return _due(DueKind.FLOOR_FOUND, last.ended_on, last.device, words, last.id, KEEPERS)
    if last.outcome is AttemptOutcome.REFUSED:
        return _due(DueKind.REFUSED, last.ended_on, last.device, _refused(platform, last), last.id, HANDS | KEEPERS)
    if last.outcome is AttemptOutcome.ROLLED_BACK:
        words = f"{device} went back from {release} ({last.id}): try again, or close its exception"
        return _due(DueKind.WENT_BACK, last.ended_on, last.device, words, last.id)
    return None


def _refused(platform: Platform, last: LastAttempt) -> str:
    device, release, by = last.device.id, last.release, ", ".join(last.refused_by)
    if not by:
        seen = f": “{last.seen}”" if last.seen else ""
        return (
            f"set-up refused {device} on {release} by no check that was named ({last.id}){seen}: "
            "name it in a new attempt, or add the check to the sheet"
        )
    blamed = [o.id for o in platform.overrides if o.id in last.overrides and o.covers & set(last.refused_by)]
    if blamed:
        return (
            f"{' and '.join(blamed)} did not keep set-up from refusing {device} on {release} by {by} "
            f"({last.id}): if it has ended, say so in the sheet; choose another"
        )
    return (
        f"set-up refused {device} on {release} by {by}, which no override of the kit covers ({last.id}): "
        "read the device again, or ask for an exception"
    )


def fix_due(name: str, device: DueDevice, title: str, result: str, done_on: date) -> Due:
    """A fix that failed, or that the next reading does not show; `result` says which."""
    words = f"{device.id}: {title}, {result}: look again, or except what it was for"
    return _due(DueKind.FIX_NOT_SEEN, done_on, device, words, part=name)


def drift_due(kit: str, device: DueDevice, wrong: Sequence[str], verified_on: date, *, valid: bool) -> Due:
    """Settings that differ from what a kit put in. `wrong` names each with its state; `valid`: the kit may be used."""
    what = "apply the kit again" if valid else "the kit is no longer valid, so make a new kit and apply it"
    words = f"{device.id}: {', '.join(wrong)} since {kit} ({verified_on}): {what}, and verify"
    return _due(DueKind.DRIFT, verified_on, device, words, part=kit)


def _due(kind: DueKind, on: date, device: DueDevice, words: str, part: str = "", roles: frozenset[str] = HANDS) -> Due:
    return Due(kind, on, "device", device.id, words, roles=roles, sites=frozenset({device.site}), part=part)
