"""Life of a device: in service, set aside, retired, or replaced by another; it can always come back.

Only a device in service counts, stands in plans and forecasts, and has anything due. The others keep their history.
In: how a device stands, a change, a day. Out: nothing, or an error with the reason; what the change leaves to do.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from enum import StrEnum

from msgspec import Struct

from doorstone.core.errors import InvalidInputError, MoveRefusedError

MOST_REASON = 1_000


class Life(StrEnum):
    IN_SERVICE = "in-service"
    SET_ASIDE = "set-aside"
    RETIRED = "retired"
    REPLACED = "replaced"


GONE = frozenset({Life.RETIRED, Life.REPLACED})
"""Lives in which a device needs no exception any more."""


def left_alone(device: str, life: Life) -> tuple[str, str] | None:
    """Why a device that is not in service is left alone, and what to do. None for a device in service."""
    if life is Life.IN_SERVICE:
        return None
    return f"{device} is {life.replace('-', ' ')}", "Bring it back into service first, or leave it out"


class LifeChange(Struct, frozen=True):
    """From `on` a device is in another life. `look_on`: the day to look again at one that is set aside.

    `wiped_by`: who erased the data of one that is gone, empty while nobody has; `replaced_by`: the device in its place.
    """

    life: Life
    on: date
    reason: str
    look_on: date | None = None
    wiped_by: str = ""
    replaced_by: str = ""


def check_change(change: LifeChange, as_of: date) -> None:
    """Refuse a change that lacks something, or holds something that does not belong to its life.

    Raises `InvalidInputError`.
    """
    if not 5 <= len(change.reason) <= MOST_REASON or not change.reason.isprintable():
        raise InvalidInputError(
            "The reason cannot be used", f"Say in a sentence why: 5 to {MOST_REASON} letters, without line breaks"
        )
    if len(change.wiped_by) > 100 or not change.wiped_by.isprintable():
        raise InvalidInputError("wiped_by cannot be used", "Name who erased the data in up to 100 letters")
    if change.on > as_of:
        raise InvalidInputError(f"{change.on} is yet to come", "Record it on the day, or give a day up to today")
    if change.life is Life.SET_ASIDE:
        if change.look_on is None or change.look_on <= as_of:
            raise InvalidInputError("A device is set aside until somebody looks again", "Give look_on, a day to come")
    elif change.look_on is not None:
        raise InvalidInputError(f"There is no day to look again at what is {change.life}", "Leave look_on out")
    if change.wiped_by and change.life not in GONE:
        raise InvalidInputError(f"The data of what is {change.life} stays", "Leave wiped_by out")
    if change.replaced_by and change.life is not Life.REPLACED:
        raise InvalidInputError(f"A device that is {change.life} has no successor", "Leave replaced_by out")


def check_device(device: str, before: LifeChange | None, change: LifeChange, lives: Mapping[str, Life]) -> None:
    """Refuse a change that this device cannot have. `before` is its last one; `lives` those of every device named.

    Raises `MoveRefusedError`.
    """
    was = before.life if before is not None else Life.IN_SERVICE
    if before is not None and change.on < before.on:
        hint = f"Give {before.on} or a later day"
        raise MoveRefusedError(f"{device} is {was} since {before.on}, which is later than {change.on}", hint)
    if change.life is was and not _adds(before, change):
        hint = "Leave it out" if was is Life.IN_SERVICE else "Bring it back first, or leave it out"
        raise MoveRefusedError(f"{device} is {was} already", hint)
    if change.life is Life.SET_ASIDE and was in GONE:
        raise MoveRefusedError(f"{device} is {was}", "Bring it back first")
    if change.life is Life.RETIRED and was is Life.REPLACED:
        raise MoveRefusedError(f"{device} is replaced already", "Leave it out")
    if change.life is Life.REPLACED and was is not Life.REPLACED and not change.replaced_by:
        raise MoveRefusedError(f"{device} is replaced by another device", f"Name it in replaced_by, or retire {device}")
    if change.replaced_by:
        if change.replaced_by == device:
            raise MoveRefusedError(f"{device} cannot replace itself", "Name the other device")
        other = lives.get(change.replaced_by)
        if other is None:
            raise MoveRefusedError(f"There is no device {change.replaced_by!r}", "Import a reading of it first")
        if other is not Life.IN_SERVICE:
            raise MoveRefusedError(f"{change.replaced_by} is {other} itself", "Name a device that is in service")


def _adds(before: LifeChange | None, change: LifeChange) -> bool:
    """Whether a change into the same life adds something: another day to look, or who erased the data."""
    if before is None or change.life is Life.IN_SERVICE:
        return False
    wiped = change.wiped_by not in ("", before.wiped_by)
    return wiped or (change.life is Life.SET_ASIDE and change.look_on != before.look_on)


def carried_on(before: LifeChange | None, change: LifeChange) -> LifeChange:
    """The change, completed from the one before. A life that goes on keeps its first day and its reason."""
    if before is None or before.life is not change.life or change.life not in GONE:
        return change
    reason = f"{before.reason.rstrip('.')}. {change.reason}"
    return LifeChange(change.life, before.on, reason, None, change.wiped_by, before.replaced_by)


class Ended(Struct, frozen=True):
    """What happens to an exception when some of its devices leave service: it ends, or goes on for those in `left`."""

    ends: bool
    left: tuple[str, ...]


def exception_without(devices: Iterable[str], gone: Iterable[str]) -> Ended:
    """What happens to an exception without these devices. It ends with its last device."""
    left = tuple(sorted(set(devices) - set(gone)))
    return Ended(not left, left)
