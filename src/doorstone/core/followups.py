"""Follow-ups: what must be done or looked at after an attempt that completed, in order, blocking ones first.

In: a platform, the overrides used, what is known of the device. Out: `Step`s with what to do and by when.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.errors import InvalidInputError, MoveRefusedError
from doorstone.core.facts import View
from doorstone.core.platforms.platform import Override, Platform


class StepKind(StrEnum):
    LOADER = "loader"
    SHEET = "sheet"
    PATCH = "patch"
    APPLICATION = "application"
    PERFORMANCE = "performance"
    SETTINGS = "settings"
    MEDIA = "media"
    ROLLBACK = "ends-rollback"


class Step(Struct, frozen=True):
    """One thing to do. `blocking`: the device is not finished without it. `due_on` is the last day to have done it."""

    name: str
    title: str
    todo: str
    kind: StepKind
    blocking: bool
    due_on: date


def follow_ups(
    platform: Platform,
    view: View,
    completed_on: date,
    rollback_days: int,
    overrides: Sequence[Override] = (),
    patches: Iterable[str] = (),
    applications: Iterable[str] = (),
    sets: Collection[str] = (),
    carry_over: str = "everything",
) -> tuple[Step, ...]:
    """Every follow-up of a completed attempt, in the order in which they are to be done.

    After a wipe (`carry_over` nothing) there is nothing to go back to, and applications have to be put in anew.
    """
    wiped = carry_over == "nothing"
    seen = {**view.values(), "upgrade.carry_over": carry_over}
    soon = completed_on + timedelta(days=1)
    week = completed_on + timedelta(days=7)
    steps: list[Step] = []
    if any(o.loader for o in overrides):
        todo = "Run sh loader-apply, then start without the stick: until then the device starts only with it."
        steps.append(Step("loader", "The loader is on the internal disk", todo, StepKind.LOADER, True, completed_on))
    for patch in patches:
        todo = "Put it in, then look whether what it is for works."
        steps.append(Step(f"patch {patch}", f"Patch for this model: {patch}", todo, StepKind.PATCH, True, soon))
    for known in platform.followups:
        if known.when.outcome(seen, view.as_of) is Outcome.UNMET or (wiped and known.ends_rollback):
            continue
        kind = StepKind.ROLLBACK if known.ends_rollback else StepKind.SHEET
        days = max(known.due_days, rollback_days + 1 if known.ends_rollback else 0)
        on = completed_on + timedelta(days=days)
        steps.append(Step(known.id, known.title, known.todo, kind, known.blocking, on))
    for application in sorted(applications):
        todo = "Start it, open something of yesterday's, save something new."
        if wiped:
            todo = "Put it in anew, bring its data back from the backup, then start it and save something new."
        steps.append(Step(f"application {application}", f"{application} works", todo, StepKind.APPLICATION, True, soon))
    todo = "Say whether it runs as before, slower or faster, and where that shows."
    steps.append(Step("performance", "How it runs", todo, StepKind.PERFORMANCE, False, week))
    for wanted in platform.sets:
        if wanted.id in sets:
            todo = "Run sh after-apply, then sh after-verify."
            steps.append(Step(f"set {wanted.id}", f"{wanted.title} are in place", todo, StepKind.SETTINGS, False, soon))
    if any(o.files or o.loader for o in overrides):
        todo = "Remove the working copy of the media; keep the original."
        steps.append(Step("media-copy", "The working copy of the media is gone", todo, StepKind.MEDIA, False, week))
    order = list(StepKind)
    return tuple(sorted(steps, key=lambda s: (not s.blocking, s.kind is StepKind.ROLLBACK, order.index(s.kind))))


def applications_on(view: View) -> tuple[str, ...]:
    """The applications that the organisation depends on and that run on the device, by name."""
    named = view.value("care.applications")
    return tuple(sorted(named)) if isinstance(named, frozenset) else ()


STEP_STATES = ("done", "failed", "skipped")
ANSWERS = ("as-before", "slower", "faster")
"""What is said of how a device runs after its upgrade."""


def unfinished(state: str, *, blocking: bool) -> bool:
    """Whether a device is not finished because of a follow-up in this state."""
    return blocking and state in ("open", "failed")


def check_settled(kind: StepKind, title: str, state: str, answer: str, reason: str) -> None:
    """Check what came of a follow-up. All but `done` need a reason; only "how it runs" takes an answer.

    Raises `InvalidInputError`.
    """
    if state not in STEP_STATES:
        raise InvalidInputError(f"{state!r} is not what comes of a follow-up", f"Use one of {', '.join(STEP_STATES)}")
    if state != "done" and len(reason.strip()) < 3:
        raise InvalidInputError(f"{state.capitalize()} takes a reason", "Say in a sentence why")
    asks = kind is StepKind.PERFORMANCE and state == "done"
    if asks != bool(answer) or (answer and answer not in ANSWERS):
        hint = f"Answer with one of {', '.join(ANSWERS)}" if asks else "Leave the answer out"
        wrong = f"{answer!r} is no answer to it" if answer else "it takes an answer"
        raise InvalidInputError(f"{title}: {wrong}", hint)


def check_ends_rollback(
    title: str, unfinished_titles: Sequence[str], rollback_until: date | None, as_of: date, *, confirmed: bool
) -> None:
    """Ending rollback needs a confirmation, and a device that is finished. Raises `MoveRefusedError`."""
    if unfinished_titles:
        listed = "; ".join(unfinished_titles)
        raise MoveRefusedError(
            f"{title}: it ends going back, and the device is not finished: {listed}", "Settle these first"
        )
    if not confirmed:
        still = f", which is possible through {rollback_until}" if rollback_until and rollback_until >= as_of else ""
        raise MoveRefusedError(f"{title}: this ends going back{still}", "Say once more that it is meant: confirm")


SETTING_STATES = ("right", "missing", "different", "near-miss")


def drift(before: Iterable[Mapping[str, str]], after: Iterable[Mapping[str, str]]) -> tuple[tuple[str, str, str], ...]:
    """The settings whose state differs between two verifications of a kit: (setting, was, is)."""
    was = {(row["place"], row["section"], row["name"]): row["state"] for row in before}
    return tuple(
        (f"{row['section']}/{row['name']}".lstrip("/"), was[key], row["state"])
        for row in after
        if (key := (row["place"], row["section"], row["name"])) in was and was[key] != row["state"]
    )
