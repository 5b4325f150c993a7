"""Saved selections: a name for a filter of devices."""

from __future__ import annotations

import json
import sqlite3

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.devices.filter import DeviceFilter


class SelectionRow(Struct, frozen=True):
    """`release` is the one that state, requirement and mark are asked against; empty for the target of the day."""

    name: str
    platform: str
    release: str
    chosen: DeviceFilter
    by: str
    at: str


def save(db: sqlite3.Connection, row: SelectionRow) -> None:
    db.execute(
        "INSERT OR REPLACE INTO selections (name, platform, release, chosen, by, at) VALUES (?, ?, ?, ?, ?, ?)",
        (row.name, row.platform, row.release, json.dumps(asdict(row.chosen)), row.by, row.at),
    )


def every(db: sqlite3.Connection) -> list[SelectionRow]:
    return [_row(row) for row in db.execute("SELECT * FROM selections ORDER BY name")]


def get(db: sqlite3.Connection, name: str) -> SelectionRow | None:
    row = db.execute("SELECT * FROM selections WHERE name = ?", (name,)).fetchone()
    return _row(row) if row else None


def delete(db: sqlite3.Connection, name: str) -> bool:
    return db.execute("DELETE FROM selections WHERE name = ?", (name,)).rowcount == 1


def _row(row: sqlite3.Row) -> SelectionRow:
    return SelectionRow(**{**dict(row), "chosen": DeviceFilter(**json.loads(row["chosen"]))})
