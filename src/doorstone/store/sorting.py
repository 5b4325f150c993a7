"""Sorting decisions, those withdrawn included."""

from __future__ import annotations

import sqlite3

from msgspec import Struct


class DecisionRow(Struct, frozen=True):
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
    link: str
    withdrawn_at: str | None
    withdrawn_by: str
    withdrawn_note: str


def add(db: sqlite3.Connection, **values: str) -> int:
    cursor = db.execute(
        "INSERT INTO decisions (platform, requirement, release, scope, target, sort, evidence, note, link, by, at)"
        " VALUES (:platform, :requirement, :release, :scope, :target, :sort, :evidence, :note, :link, :by, :at)",
        values,
    )
    return int(cursor.lastrowid or 0)


def every(db: sqlite3.Connection, platform: str | None = None) -> list[DecisionRow]:
    """Every sorting decision, oldest first."""
    rows = db.execute("SELECT * FROM decisions WHERE ? IS NULL OR platform = ? ORDER BY id", (platform, platform))
    return [DecisionRow(**dict(row)) for row in rows]


def in_force(db: sqlite3.Connection) -> list[DecisionRow]:
    """The sorting decisions that were not withdrawn, oldest first."""
    return [row for row in every(db) if row.withdrawn_at is None]


def get(db: sqlite3.Connection, number: int) -> DecisionRow | None:
    row = db.execute("SELECT * FROM decisions WHERE id = ?", (number,)).fetchone()
    return DecisionRow(**dict(row)) if row else None


def withdraw(db: sqlite3.Connection, number: int, by: str, at: str, note: str) -> None:
    db.execute(
        "UPDATE decisions SET withdrawn_at = ?, withdrawn_by = ?, withdrawn_note = ? WHERE id = ?",
        (at, by, note, number),
    )
