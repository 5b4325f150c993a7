"""Changes of what rules rest on: a device's site, role and criticality, one by one or many at once.

Approvals that rest on a changed device need a second look.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from doorstone.store.devices import devices as store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError
from doorstone.work.context.ids import id_of
from doorstone.work.devices.lives import MOST_AT_ONCE


class DeviceChange(Struct, frozen=True):
    """New attributes of a device that rules rest on; None leaves one as it is."""

    site: str | None = None
    role: str | None = None
    critical: bool | None = None

    def given(self) -> dict[str, str | bool]:
        wanted = {"site": self.site, "role": self.role, "critical": self.critical}
        return {key: value for key, value in wanted.items() if value is not None}


class DeviceChanged(Struct, frozen=True):
    """What changed of a device, both sides by attribute, and the approvals that need a second look."""

    device: str
    was: dict[str, str | bool]
    now: dict[str, str | bool]
    stale: tuple[str, ...]


def change_device(context: Context, actor: Actor, name: str, change: DeviceChange, note: str) -> DeviceChanged:
    """Change a device. Raises `MissingError`, `BadInputError` without a note or where nothing would change."""
    return change_devices(context, actor, [name], change, note)[0]


def change_devices(
    context: Context, actor: Actor, devices: Sequence[str], change: DeviceChange, note: str
) -> list[DeviceChanged]:
    """Change many devices alike, all of them or none; those that are so already are left as they are.

    Raises `BadInputError` without a note or where nothing would change, `MissingError` for one unknown device,
    `RefusedError` with an entry for each of several.
    """
    names, given = sorted(set(devices)), change.given()
    if len(note.strip()) < 5:
        raise BadInputError("A change of what rules rest on takes a note", "Say in a sentence why")
    for key in ("site", "role"):
        if not str(given.get(key, "")).isprintable() or len(str(given.get(key, ""))) > 100:
            raise BadInputError(f"The {key} cannot be used", "Use up to 100 letters, without line breaks")
    if not 0 < len(names) <= MOST_AT_ONCE:
        raise BadInputError(f"{len(names):,} devices are chosen", f"Choose 1 to {MOST_AT_ONCE:,}")
    with context.database.write() as db:
        held = store.records(db, names)
        _check_known(names, held)
        made = [
            done for name in names if (done := _change(context, db, actor, held, name, given, note.strip())) is not None
        ]
        if not made:
            which = names[0] if len(names) == 1 else f"the {len(names):,} devices"
            raise BadInputError(f"Nothing of {which} would change", "Name another site, role or criticality")
    return made


def _check_known(names: Sequence[str], held: dict[str, store.Record]) -> None:
    hint = "See them with 'doorstone device list'"
    errors = [ErrorEntry(name, f"There is no device {name!r}", hint, name) for name in names if name not in held]
    if errors and len(names) == 1:
        raise MissingError(errors[0].detail, hint)
    if errors:
        raise RefusedError("Nothing was changed", "Leave out or correct each named", errors)


def _change(
    context: Context, db: sqlite3.Connection, actor: Actor, held: dict[str, store.Record], name: str,
    given: dict[str, str | bool], note: str,
) -> DeviceChanged | None:  # fmt: skip
    before = held[name]
    was = {key: bool(getattr(before, key)) if key == "critical" else getattr(before, key) for key in given}
    changed = {key: value for key, value in given.items() if was[key] != value}
    if not changed:
        return None
    stored: dict[str, Any] = {key: int(value) if key == "critical" else value for key, value in changed.items()}
    store.put(db, held, [before._replace(**stored)])
    words = [f"{key} was {_in_words(was[key])}, is {_in_words(value)}" for key, value in sorted(changed.items())]
    stale = tuple(id_of("EX", number) for number in exception_store.unsettle(db, name, "; ".join(words)))
    before_it = {key: was[key] for key in changed}
    body = {"was": before_it, "is": changed, "note": note, "stale": list(stale)}
    record(context, db, actor, "device changed", "device", name, body, devices=[name])
    return DeviceChanged(name, before_it, changed, stale)


def _in_words(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) or "none"
