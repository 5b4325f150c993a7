"""Settlements of disputes."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from typing import Any

from msgspec import Struct

from doorstone.store.json_lists import json_list


class SettlementRow(Struct, frozen=True):
    id: int
    device: str
    kind: str
    subject: str
    value: Any
    seen_until: str
    reason: str
    by: str
    at: str


def add(
    db: sqlite3.Connection, device: str, kind: str, subject: str, value: Any, seen_until: str, reason: str, by: str,
    at: str,
) -> int:  # fmt: skip
    cursor = db.execute(
        "INSERT INTO settlements (device, kind, subject, value, seen_until, reason, by, at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (device, kind, subject, json.dumps(value), seen_until, reason, by, at),
    )
    return int(cursor.lastrowid or 0)


def of_device(db: sqlite3.Connection, device: str) -> list[SettlementRow]:
    """The settlements of a device's disputes, oldest first."""
    rows = db.execute("SELECT * FROM settlements WHERE device = ? ORDER BY id", (device,))
    return [_row(row) for row in rows]


def devices(db: sqlite3.Connection, among: Iterable[str]) -> set[str]:
    """The devices among these with a settled dispute."""
    rows = db.execute(
        "SELECT DISTINCT s.device FROM json_each(?) AS j CROSS JOIN settlements AS s ON s.device = j.value",
        (json_list(among),),
    )
    return {row["device"] for row in rows}


def every_device(db: sqlite3.Connection, platform: str) -> set[str]:
    """The devices of a platform with a settled dispute."""
    sql = "SELECT DISTINCT s.device FROM settlements AS s JOIN devices AS d ON d.id = s.device WHERE d.platform = ?"
    return {row["device"] for row in db.execute(sql, (platform,))}


def get(db: sqlite3.Connection, number: int) -> SettlementRow | None:
    row = db.execute("SELECT * FROM settlements WHERE id = ?", (number,)).fetchone()
    return _row(row) if row else None


def _row(row: sqlite3.Row) -> SettlementRow:
    return SettlementRow(**{**dict(row), "value": json.loads(row["value"])})
