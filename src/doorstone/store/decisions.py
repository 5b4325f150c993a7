"""Sorting decisions."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class DecisionRow:
    id: int
    platform: str
    requirement: str
    release: str
    scope: str
    target: str
    sort: str
    evidence: str
    note: str
    by: str
    at: str


def add(db: sqlite3.Connection, **values: str) -> int:
    cursor = db.execute(
        "INSERT INTO decisions (platform, requirement, release, scope, target, sort, evidence, note, by, at)"
        " VALUES (:platform, :requirement, :release, :scope, :target, :sort, :evidence, :note, :by, :at)",
        values,
    )
    return int(cursor.lastrowid or 0)


def every(db: sqlite3.Connection, platform: str | None = None) -> list[DecisionRow]:
    """Oldest first."""
    rows = db.execute("SELECT * FROM decisions WHERE ? IS NULL OR platform = ? ORDER BY id", (platform, platform))
    return [DecisionRow(**dict(row)) for row in rows]
