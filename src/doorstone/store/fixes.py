"""Fixes that were made on devices, or tried and failed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from typing import Any

from msgspec import Struct


class FixDoneRow(Struct, frozen=True):
    """`gives` are the facts after it, as JSON holds them; `done_at` when it was made, `at` when that was recorded."""

    id: int
    device: str
    title: str
    outcome: str
    gives: Mapping[str, Any]
    done_at: str
    note: str
    by: str
    at: str


def add(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO fixes_done (device, title, outcome, gives, done_at, note, by, at)"
        " VALUES (:device, :title, :outcome, :gives, :done_at, :note, :by, :at)",
        {**values, "gives": json.dumps(values["gives"], sort_keys=True)},
    )
    return int(cursor.lastrowid or 0)


def get(db: sqlite3.Connection, number: int) -> FixDoneRow | None:
    row = db.execute("SELECT * FROM fixes_done WHERE id = ?", (number,)).fetchone()
    return _row(row) if row else None


def of_device(db: sqlite3.Connection, device: str) -> list[FixDoneRow]:
    """The fixes recorded on a device, oldest first."""
    rows = db.execute("SELECT * FROM fixes_done WHERE device = ? ORDER BY done_at, id", (device,))
    return [_row(row) for row in rows]


def devices(db: sqlite3.Connection) -> list[str]:
    """Every device on which a fix was recorded."""
    return [row[0] for row in db.execute("SELECT DISTINCT device FROM fixes_done ORDER BY device")]


def _row(row: sqlite3.Row) -> FixDoneRow:
    return FixDoneRow(**{**dict(row), "gives": json.loads(row["gives"])})
