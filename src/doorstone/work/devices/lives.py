"""Lives of devices: take some out of service, or back into it; all of them, or none."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from datetime import date
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import (
    GONE,
    Life,
    LifeChange,
    carried_on,
    check_change,
    check_device,
    exception_without,
)
from doorstone.core.errors import MoveRefusedError
from doorstone.core.exceptions.life import ExceptionState
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import lives as store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.devices.lives import LifeRow
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.selecting import devices_of
from doorstone.work.snapshot.settling import place

MOST_AT_ONCE = 5_000
_ACTIONS = {
    Life.IN_SERVICE: "device returned",
    Life.SET_ASIDE: "device set aside",
    Life.RETIRED: "device retired",
    Life.REPLACED: "device replaced",
}


class DeviceLife(NamedTuple):
    """A device, its last change of life, and when it was read last; `read_since`: after it was gone."""

    row: DeviceRow
    last: LifeRow
    last_read_on: date | None
    read_since: bool


class LifeChanged(Struct, frozen=True):
    """What a change does to one device: exceptions that end with it, and those that go on without it."""

    device: str
    site: str
    was: Life
    life: Life
    ends: tuple[str, ...]
    leaves: tuple[str, ...]


def list_lives(context: Context, life: str = "", site: str = "") -> list[DeviceLife]:
    """The devices that are not in service, by id. Raises `BadInputError` for an unknown life."""
    if life and life not in set(Life):
        raise BadInputError(f"{life!r} is no life of a device", f"Use one of {', '.join(Life)}")
    with context.database.read() as db:
        found = store.not_in_service(db)
        rows = {row.id: row for row in device_store.named(db, [one.device for one in found])}
        read = device_store.read_on(db, rows)
    return [
        DeviceLife(rows[one.device], one, read.get(one.device), read_since(one.change, read.get(one.device)))
        for one in found
        if life in ("", one.change.life) and site in ("", rows[one.device].site)
    ]


def read_since(change: LifeChange, last: date | None) -> bool:
    """Whether a device that left service was read on a later day."""
    return change.life in GONE and last is not None and last > change.on


def device_lives(context: Context, device: str) -> list[LifeRow]:
    """Every change of a device's life, oldest first. Raises `MissingError`."""
    with context.database.read() as db:
        if not device_store.named(db, [device]):
            raise MissingError(f"There is no device {device!r}", "See them with 'doorstone device list'")
        return store.of_device(db, device)


def known(context: Context, devices: Iterable[str]) -> list[str]:
    """The devices among these that exist, by id."""
    with context.database.read() as db:
        return [row.id for row in device_store.named(db, devices)]


def chosen(context: Context, life: Life | None, devices: Iterable[str], selection: str, site: str) -> list[str]:
    """The devices named, those of a selection, and those at a site that are not in this life yet, by id.

    At a site, what is gone stays as it is unless it is brought back; without a life, all are chosen.
    Raises `MissingError` for an unknown selection.
    """
    names = set(devices)
    if selection:
        names.update(devices_of(context, "", "", DeviceFilter(), selection))
    if site:
        stays = {life} if life in (None, Life.IN_SERVICE) else {life, *GONE}
        with context.database.read() as db:
            names.update(row.id for row in device_store.at_site(db, site) if row.life not in stays)
    return sorted(names)


def change_lives(context: Context, actor: Actor, devices: Sequence[str], requested: LifeChange) -> list[LifeChanged]:
    """Bring devices into another life, all of them or none. Exceptions of those that are gone end for them.

    Raises `BadInputError` for what cannot be meant, `RefusedError` with an entry for each device that cannot have it.
    """
    names = sorted(set(devices))
    if not 0 < len(names) <= MOST_AT_ONCE:
        raise BadInputError(f"{len(names):,} devices are chosen", f"Choose 1 to {MOST_AT_ONCE:,}")
    change = replace(requested, reason=requested.reason.strip(), wiped_by=requested.wiped_by.strip())
    with rules():
        check_change(change, context.today())
    with context.database.write() as db:
        rows = {row.id: row for row in device_store.named(db, [*names, change.replaced_by])}
        before = store.last(db, names)
        _check(names, rows, before, change)
        made = [_change(context, db, actor, rows[name], before.get(name), change) for name in names]
        device_store.set_life(db, names, change.life)
        place(context, db, names)
    return made


def _check(names: Sequence[str], rows: dict[str, DeviceRow], before: dict[str, LifeRow], change: LifeChange) -> None:
    errors = []
    lives = {name: row.life for name, row in rows.items()} | (
        dict.fromkeys(names, change.life) if change.life is not Life.IN_SERVICE else {}
    )
    for name in names:
        if name not in rows:
            errors.append(
                ErrorEntry(name, f"There is no device {name!r}", "See them with 'doorstone device list'", name)
            )
            continue
        try:
            check_device(name, before[name].change if name in before else None, change, lives)
        except MoveRefusedError as error:
            errors.append(ErrorEntry(name, error.detail, error.hint, name))
    if errors:
        if len(names) == 1:
            raise (MissingError if names[0] not in rows else RefusedError)(errors[0].detail, errors[0].hint)
        raise RefusedError("Nothing was changed", "Leave out or correct each named", errors)


def _change(
    context: Context, db: sqlite3.Connection, actor: Actor, row: DeviceRow, last: LifeRow | None, requested: LifeChange
) -> LifeChanged:
    change = carried_on(last.change if last is not None else None, requested)
    number = store.add(db, row.id, change, actor.name, context.now())
    ends, leaves = _end_exceptions(context, db, actor, row.id, change) if change.life in GONE else ([], [])
    body = {
        "device": row.id,
        "was": row.life.value,
        "life": change.life.value,
        "on": change.on.isoformat(),
        "reason": change.reason,
        "look_on": change.look_on.isoformat() if change.look_on else None,
        "wiped_by": change.wiped_by,
        "replaced_by": change.replaced_by,
        "exceptions": [*ends, *leaves],
    }
    named = [change.replaced_by] if change.replaced_by else []
    record(context, db, actor, _ACTIONS[change.life], "life", id_of("LF", number), body, devices=named)
    return LifeChanged(row.id, row.site, row.life, change.life, tuple(ends), tuple(leaves))


def _end_exceptions(
    context: Context, db: sqlite3.Connection, actor: Actor, device: str, change: LifeChange
) -> tuple[list[str], list[str]]:
    """End the device's exceptions with it: those that name no other device close, the others go on without it."""
    ends, leaves = [], []
    note = f"{device} is {change.life}: {change.reason}"
    for row in sorted(exception_store.of_device(db, device), key=lambda row: row.id):
        if device not in row.devices or row.state not in (ExceptionState.REQUESTED, ExceptionState.APPROVED):
            continue
        name = id_of("EX", row.id)
        if exception_without(row.devices, [device]).ends:
            after = ExceptionState.CLOSED if row.state == ExceptionState.APPROVED else ExceptionState.WITHDRAWN
            exception_store.decide(db, row.id, row.version, after, actor.name, context.now(), note, False)
            body = {"state": after.value, "note": note, "version": row.version + 1}
            record(context, db, actor, f"exception {after}", "exception", name, body, devices=[device])
            ends.append(name)
        else:
            _leave(context, db, actor, row, device, note)
            leaves.append(name)
    return ends, leaves


def _leave(context: Context, db: sqlite3.Connection, actor: Actor, row: ExceptionRow, device: str, note: str) -> None:
    exception_store.leave_out(db, row.id, [device], [], note)
    exception_store.touch(db, row.id)
    body = {"left_out": device, "note": note, "version": row.version + 1}
    record(context, db, actor, "exception goes on", "exception", id_of("EX", row.id), body, devices=[device])
