"""Sheet revisions, as loaded."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from typing import Any, NamedTuple

from msgspec import Struct


class SheetRow(Struct, frozen=True):
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


def revision(db: sqlite3.Connection, platform: str, number: int) -> SheetRow | None:
    """One revision of a platform."""
    row = db.execute("SELECT * FROM sheets WHERE platform = ? AND revision = ?", (platform, number)).fetchone()
    return _sheet(row) if row else None


def _sheet(row: sqlite3.Row) -> SheetRow:
    return SheetRow(**{**dict(row), "lists": json.loads(row["lists"])})


# --------------------------------------------------------------- vendor's lists


def list_names(db: sqlite3.Connection, platform: str, name: str) -> dict[str, str]:
    """Raw name of a vendor's list -> the name that somebody said it is."""
    rows = db.execute("SELECT raw, name FROM list_names WHERE platform = ? AND list = ?", (platform, name))
    return {row["raw"]: row["name"] for row in rows}


def keep_list_names(
    db: sqlite3.Connection, platform: str, name: str, decided: Mapping[str, str], by: str, at: str
) -> None:
    db.executemany(
        "INSERT OR REPLACE INTO list_names (platform, list, raw, name, by, at) VALUES (?, ?, ?, ?, ?, ?)",
        [(platform, name, raw, other, by, at) for raw, other in decided.items()],
    )


# ------------------------------------------------------------------------ tasks


class TaskRow(NamedTuple):
    """What a changed sheet leaves to do. `state` is open, done or dropped."""

    id: int
    platform: str
    revision: int
    kind: str
    object_kind: str
    object: str
    devices: tuple[str, ...]
    words: str
    owner: str
    state: str
    note: str
    by: str
    at: str
    made_at: str


def add_task(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO sheet_tasks (platform, revision, kind, object_kind, object, devices, words, owner, state, note,"
        " by, at, made_at) VALUES (:platform, :revision, :kind, :object_kind, :object, :devices, :words, :owner,"
        " 'open', '', :by, :at, :at)",
        {**values, "devices": json.dumps(values["devices"])},
    )
    return int(cursor.lastrowid or 0)


def change_task(db: sqlite3.Connection, number: int, state: str, owner: str, note: str, by: str, at: str) -> None:
    db.execute(
        "UPDATE sheet_tasks SET state = ?, owner = ?, note = ?, by = ?, at = ? WHERE id = ?",
        (state, owner, note, by, at, number),
    )


def task(db: sqlite3.Connection, number: int) -> TaskRow | None:
    row = db.execute("SELECT * FROM sheet_tasks WHERE id = ?", (number,)).fetchone()
    return _task(row) if row else None


def tasks(db: sqlite3.Connection, state: str = "", platform: str = "") -> list[TaskRow]:
    """Tasks of changed sheets: the newest revision first, then in the order in which they were made."""
    rows = db.execute(
        "SELECT * FROM sheet_tasks WHERE (?1 = '' OR state = ?1) AND (?2 = '' OR platform = ?2)"
        " ORDER BY made_at DESC, id",
        (state, platform),
    )
    return [_task(row) for row in rows]


def _task(row: sqlite3.Row) -> TaskRow:
    return TaskRow(**{**dict(row), "devices": tuple(json.loads(row["devices"]))})
