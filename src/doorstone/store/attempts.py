"""Attempts at upgrades, and observations of updates afterwards."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class AttemptRow:
    id: int
    device: str
    number: int
    kit: int | None
    platform: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: str
    seen: str
    media: str
    tool_version: str
    unmet: tuple[str, ...]
    started_at: str
    ended_at: str
    by: str


@dataclass(frozen=True, slots=True)
class ObservationRow:
    id: int
    device: str
    seen_on: str
    update_class: str
    result: str
    reason: str
    source: str
    detail: str
    by: str


def add(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    """Add an attempt; it gets the device's next number."""
    number = db.execute(
        "SELECT COALESCE(MAX(number), 0) + 1 FROM attempts WHERE device = ?", (values["device"],)
    ).fetchone()[0]
    cursor = db.execute(
        "INSERT INTO attempts (device, number, kit, platform, release, route, carry_over, outcome, refused_by, seen,"
        " media, tool_version, unmet, started_at, ended_at, by) VALUES (:device, :number, :kit, :platform,"
        " :release, :route, :carry_over, :outcome, :refused_by, :seen, :media, :tool_version, :unmet, :started_at,"
        " :ended_at, :by)",
        {**values, "number": number, "unmet": json.dumps(values["unmet"])},
    )
    return int(cursor.lastrowid or 0)


def every(db: sqlite3.Connection, device: str | None = None) -> list[AttemptRow]:
    """Newest first."""
    rows = db.execute("SELECT * FROM attempts WHERE ? IS NULL OR device = ? ORDER BY id DESC", (device, device))
    return [_attempt(row) for row in rows]


def get(db: sqlite3.Connection, number: int) -> AttemptRow | None:
    row = db.execute("SELECT * FROM attempts WHERE id = ?", (number,)).fetchone()
    return _attempt(row) if row else None


def _attempt(row: sqlite3.Row) -> AttemptRow:
    return AttemptRow(**{**dict(row), "unmet": tuple(json.loads(row["unmet"]))})


def add_observation(db: sqlite3.Connection, values: Mapping[str, str]) -> int:
    cursor = db.execute(
        "INSERT INTO observations (device, seen_on, update_class, result, reason, source, detail, by)"
        " VALUES (:device, :seen_on, :update_class, :result, :reason, :source, :detail, :by)",
        values,
    )
    return int(cursor.lastrowid or 0)


def observations(db: sqlite3.Connection, device: str | None = None) -> list[ObservationRow]:
    """Newest first."""
    rows = db.execute(
        "SELECT * FROM observations WHERE ? IS NULL OR device = ? ORDER BY seen_on DESC, id DESC", (device, device)
    )
    return [ObservationRow(**dict(row)) for row in rows]


def observation(db: sqlite3.Connection, number: int) -> ObservationRow | None:
    row = db.execute("SELECT * FROM observations WHERE id = ?", (number,)).fetchone()
    return ObservationRow(**dict(row)) if row else None
