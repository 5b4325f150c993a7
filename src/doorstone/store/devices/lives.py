"""Lives of devices: every change, and the last one of each device that has any."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from datetime import date
from typing import NamedTuple

from doorstone.core.devices.life import Life, LifeChange
from doorstone.store.json_lists import json_list


class LifeRow(NamedTuple):
    """A change of a device's life, by whom and when it was recorded."""

    id: int
    device: str
    change: LifeChange
    by: str
    at: str


def add(db: sqlite3.Connection, device: str, change: LifeChange, by: str, at: str) -> int:
    look_on = change.look_on.isoformat() if change.look_on is not None else None
    cursor = db.execute(
        "INSERT INTO device_lives (device, life, from_on, reason, look_on, wiped_by, replaced_by, by, at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            device, change.life.value, change.on.isoformat(), change.reason, look_on, change.wiped_by,
            change.replaced_by, by, at,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def of_device(db: sqlite3.Connection, device: str) -> list[LifeRow]:
    """Every change of a device's life, oldest first."""
    return [_row(row) for row in db.execute("SELECT * FROM device_lives WHERE device = ? ORDER BY id", (device,))]


def last(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, LifeRow]:
    """Device -> its last change of life. Devices without any are left out."""
    rows = db.execute(
        "SELECT l.* FROM json_each(?) AS j CROSS JOIN device_lives AS l"
        " ON l.id = (SELECT MAX(id) FROM device_lives WHERE device = j.value)",
        (json_list(devices),),
    )
    return {row["device"]: _row(row) for row in rows}


def not_in_service(db: sqlite3.Connection) -> list[LifeRow]:
    """The last change of every device that is not in service, by device."""
    return list(last(db, out_of_service(db)).values())


def out_of_service(db: sqlite3.Connection) -> list[str]:
    """Every device that is not in service, by id."""
    return sorted(row["id"] for row in db.execute("SELECT id FROM devices WHERE life <> 'in-service'"))


def _row(row: sqlite3.Row) -> LifeRow:
    change = LifeChange(
        Life(row["life"]),
        date.fromisoformat(row["from_on"]),
        row["reason"],
        date.fromisoformat(row["look_on"]) if row["look_on"] else None,
        row["wiped_by"],
        row["replaced_by"],
    )
    return LifeRow(row["id"], row["device"], change, row["by"], row["at"])
