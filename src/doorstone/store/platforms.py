"""Sheet revisions, as loaded."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class SheetRow:
    platform: str
    revision: int
    sha256: str
    text: str
    lists: Mapping[str, str]
    loaded_at: str
    loaded_by: str


_NEWEST = "SELECT * FROM sheets AS s WHERE revision = (SELECT MAX(revision) FROM sheets WHERE platform = s.platform)"


def add(
    db: sqlite3.Connection, platform: str, sha256: str, text: str, lists: Mapping[str, str], at: str, by: str
) -> int:
    """Store the next revision of the platform's sheet and return its number."""
    row = db.execute("SELECT COALESCE(MAX(revision), 0) + 1 FROM sheets WHERE platform = ?", (platform,)).fetchone()
    db.execute(
        "INSERT INTO sheets (platform, revision, sha256, text, lists, loaded_at, loaded_by)"
        " VALUES (?, ?, ?, ?, ?, ?, ?)",
        (platform, row[0], sha256, text, json.dumps(lists), at, by),
    )
    return int(row[0])


def newest(db: sqlite3.Connection, platform: str) -> SheetRow | None:
    row = db.execute(f"{_NEWEST} AND platform = ?", (platform,)).fetchone()
    return _sheet(row) if row else None


def every_newest(db: sqlite3.Connection) -> list[SheetRow]:
    return [_sheet(row) for row in db.execute(f"{_NEWEST} ORDER BY platform")]


def revisions(db: sqlite3.Connection, platform: str) -> list[SheetRow]:
    """Every revision of a platform, oldest first."""
    rows = db.execute("SELECT * FROM sheets WHERE platform = ? ORDER BY revision", (platform,))
    return [_sheet(row) for row in rows]


def _sheet(row: sqlite3.Row) -> SheetRow:
    return SheetRow(**{**dict(row), "lists": json.loads(row["lists"])})
