"""What a changed sheet leaves to do: one task for each exception, kit, override or move that it touches.

In: what the change touches, each with its devices and whoever answers for it, and who keeps the sheet. Out: tasks.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum

from msgspec import Struct

from doorstone.core.errors import InvalidInputError, MoveRefusedError


class TaskKind(StrEnum):
    EXCEPTION = "look-again"
    KIT = "make-anew"
    OVERRIDE = "choose-another"
    STATE = "plan-anew"
    RUNWAY = "replace-earlier"


class TaskState(StrEnum):
    OPEN = "open"
    DONE = "done"
    DROPPED = "dropped"


class Touched(Struct, frozen=True):
    """An exception, kit or override that a change touches: how, on which devices, and who answers for it."""

    id: str
    devices: Sequence[str]
    words: Sequence[str]
    owner: str = ""


class NewTask(Struct, frozen=True):
    kind: TaskKind
    object_kind: str
    object: str
    devices: tuple[str, ...]
    words: str
    owner: str


WORSE = frozenset({"floored", "needs-exception", "unsettled"})
"""States in which devices need somebody who plans."""


def tasks_of(
    platform: str,
    exceptions: Iterable[Touched],
    kits: Iterable[Touched],
    overrides: Iterable[Touched],
    moves: Iterable[Touched],
    runways: Iterable[Touched],
    keeper: str,
) -> Iterator[NewTask]:
    """The tasks, in this order. `keeper` loads the sheet, and answers for what nobody else does.

    Of `moves` the `id` is the state that devices come to; of `runways` those that move to an earlier day are given.
    """
    for one in exceptions:
        words = f"Look again at {one.id}: {'; '.join(one.words)}"
        yield NewTask(TaskKind.EXCEPTION, "exception", one.id, tuple(one.devices), words, one.owner or keeper)
    for one in kits:
        words = f"Make {one.id} anew before it is used: {'; '.join(one.words)}"
        yield NewTask(TaskKind.KIT, "kit", one.id, tuple(one.devices), words, one.owner or keeper)
    for one in overrides:
        if one.devices:
            words = f"Choose another way than {one.id}: {'; '.join(one.words)}"
            yield NewTask(TaskKind.OVERRIDE, "platform", platform, tuple(one.devices), words, one.owner or keeper)
    for one in moves:
        if one.id in WORSE:
            words = f"Plan anew: {'; '.join(one.words)}"
            yield NewTask(TaskKind.STATE, "platform", platform, tuple(one.devices), words, one.owner or keeper)
    for one in runways:
        words = f"Replace earlier: {'; '.join(one.words)}"
        yield NewTask(TaskKind.RUNWAY, "platform", platform, tuple(one.devices), words, one.owner or keeper)


def check_task_change(before: str, after: str, note: str) -> None:
    """Raises `InvalidInputError` or `MoveRefusedError` for a change that the task cannot have."""
    if after not in set(TaskState):
        raise InvalidInputError(f"{after!r} is no state of a task", f"Use one of {', '.join(TaskState)}")
    if before != TaskState.OPEN and after == before:
        raise MoveRefusedError(f"It is {before} already", "Open it again first, if it is not")
    if after == TaskState.DROPPED and len(note.strip()) < 5:
        raise InvalidInputError("To drop a task takes a reason", "Say in a sentence why nothing is to be done")
    if len(note) > 1000 or not note.isprintable():
        raise InvalidInputError("The note cannot be used", "Use up to 1,000 letters, without line breaks")
