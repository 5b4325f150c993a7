"""Imports: what was brought in, how far each has come, and what was wrong with it."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from msgspec import Struct


class ImportRow(Struct, frozen=True):
    """One import. `size` and `position` are bytes of the file; `changes` is JSON, of a dry run."""

    id: int
    at: str
    by: str
    form: str
    readings: int
    devices: int
    added: int
    name: str
    state: str
    dry: bool
    skip: bool
    mapping: str
    size: int
    position: int
    checked: int
    applied: int
    rejected: int
    why: str
    changes: str
    ended_at: str
    narrow: bool
    only_device: str
    sha256: str
    ready_sha256: str
    may_decide: bool


class ProblemRow(Struct, frozen=True):
    number: int
    line: int
    place: str
    message: str
    hint: str


class ProblemLine(NamedTuple):
    """What is wrong at a line of a file."""

    line: int
    place: str
    message: str
    hint: str


def add(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO imports (at, by, form, readings, devices, added, name, state, dry, skip, mapping, narrow,"
        " only_device, may_decide)"
        " VALUES (:at, :by, :form, 0, 0, 0, :name, 'waiting', :dry, :skip, :mapping, :narrow,"
        " :only_device, :may_decide)",
        values,
    )
    return int(cursor.lastrowid or 0)


def get(db: sqlite3.Connection, number: int) -> ImportRow | None:
    row = db.execute("SELECT * FROM imports WHERE id = ?", (number,)).fetchone()
    return _row(row) if row else None


def every(db: sqlite3.Connection, limit: int = 50) -> list[ImportRow]:
    """The last imports, newest first."""
    return [_row(row) for row in db.execute("SELECT * FROM imports ORDER BY id DESC LIMIT ?", (limit,))]


def unfinished(db: sqlite3.Connection) -> list[ImportRow]:
    rows = db.execute(
        "SELECT * FROM imports WHERE state IN ('waiting', 'received', 'checking', 'applying') ORDER BY id"
    )
    return [_row(row) for row in rows]


def _row(row: sqlite3.Row) -> ImportRow:
    return ImportRow(**{**dict(row), **{name: bool(row[name]) for name in ("dry", "skip", "narrow", "may_decide")}})


def move(db: sqlite3.Connection, number: int, state: str, *, why: str = "", ended_at: str = "") -> None:
    db.execute(
        "UPDATE imports SET state = ?, why = ?, ended_at = ? WHERE id = ?",
        (state, why, ended_at, number),
    )


def keep_file(db: sqlite3.Connection, number: int, size: int, sha256: str) -> None:
    """Note that the file has arrived whole."""
    db.execute("UPDATE imports SET size = ?, sha256 = ?, state = 'received' WHERE id = ?", (size, sha256, number))


def keep_ready(db: sqlite3.Connection, number: int, sha256: str) -> None:
    """Note that the checked readings are on the disk, with this digest."""
    db.execute("UPDATE imports SET ready_sha256 = ? WHERE id = ?", (sha256, number))


def keep_checked(db: sqlite3.Connection, number: int, position: int, checked: int, rejected: int) -> None:
    db.execute(
        "UPDATE imports SET position = ?, checked = ?, rejected = ? WHERE id = ?",
        (position, checked, rejected, number),
    )


def keep_applied(db: sqlite3.Connection, number: int, applied: int, devices: int, added: int) -> None:
    """So many more records have been taken over, of so many devices not met before in this import, so many new."""
    db.execute(
        "UPDATE imports SET applied = applied + ?, readings = readings + ?, devices = devices + ?, added = added + ?"
        " WHERE id = ?",
        (applied, applied, devices, added, number),
    )


def finish(db: sqlite3.Connection, number: int, ended_at: str) -> ImportRow:
    """Mark the import as done."""
    db.execute("UPDATE imports SET state = 'done', ended_at = ? WHERE id = ?", (ended_at, number))
    row = get(db, number)
    assert row is not None
    return row


def keep_changes(db: sqlite3.Connection, number: int, changes: str, done: ImportRow) -> None:
    """What a dry run found: the counts of its trial, and what would change."""
    db.execute(
        "UPDATE imports SET changes = ?, readings = ?, devices = ?, added = ? WHERE id = ?",
        (changes, done.readings, done.devices, done.added, number),
    )


def clear_problems(db: sqlite3.Connection, number: int) -> None:
    db.execute("DELETE FROM import_problems WHERE import_id = ?", (number,))


def add_problems(db: sqlite3.Connection, number: int, first: int, problems: Iterable[ProblemLine]) -> None:
    """Keep problems, numbered from `first`."""
    db.executemany(
        "INSERT INTO import_problems (import_id, number, line, place, message, hint) VALUES (?, ?, ?, ?, ?, ?)",
        [(number, first + at, *problem) for at, problem in enumerate(problems)],
    )


def problems(db: sqlite3.Connection, number: int, after: int = 0, limit: int = 100) -> list[ProblemRow]:
    rows = db.execute(
        "SELECT number, line, place, message, hint FROM import_problems"
        " WHERE import_id = ? AND number > ? ORDER BY number LIMIT ?",
        (number, after, limit),
    )
    return [ProblemRow(**dict(row)) for row in rows]
