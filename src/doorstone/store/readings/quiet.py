"""Quiet readings in the records: past readings that moved no answer, each in some thirty bytes.

A quiet reading names a content of the same source of the device, its base, and what differs from it. The base is kept
for as long as the records.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from datetime import date, datetime, timedelta
from typing import NamedTuple

from doorstone.core.readings.quiet import changed, changes_of
from doorstone.store.json_lists import json_list
from doorstone.store.readings import contents
from doorstone.store.readings.contents import Content, codes_of, numbers_in

FIRST_DAY = date(2000, 1, 1)
_DAYS = (
    "WITH RECURSIVE days (day) AS (SELECT MIN(day) FROM quiet_readings UNION ALL"
    " SELECT (SELECT MIN(q.day) FROM quiet_readings AS q WHERE q.day > days.day) FROM days WHERE day IS NOT NULL)"
)
"""Every day of which there is one, by one look at the index each."""


class QuietReading(NamedTuple):
    """A quiet reading of a device. `taken_at` is ISO 8601 to the second."""

    device: str
    source: str
    taken_at: str
    base: int
    changes: bytes


class ToQuieten(NamedTuple):
    """A reading to keep as a quiet one: the number of its content, and of the one that may be its base."""

    device: str
    source: str
    taken_at: str
    content: int
    base: int


def quieten(db: sqlite3.Connection, readings: Sequence[ToQuieten]) -> list[ToQuieten]:
    """Keep readings as quiet ones as well. Returns those that could be kept so; the others differ too much from their
    base.
    """
    held = contents.rows(db, {number for one in readings for number in (one.content, one.base)})
    numbers = {name: _number(db, "reading_devices", "device", name) for name in {one.device for one in readings}}
    sources = {name: _number(db, "reading_sources", "source", name) for name in {one.source for one in readings}}
    done, rows = [], []
    for one in readings:
        mine, base, place = held[one.content], held[one.base], _place(one.taken_at)
        if place is None or (mine.shape, mine.more) != (base.shape, base.more):
            continue
        changes = changes_of(numbers_in(base.codes), numbers_in(mine.codes))
        if changes is not None:
            rows.append((place[0], numbers[one.device], sources[one.source], place[1], one.base, changes))
            done.append(one)
    db.executemany("INSERT OR REPLACE INTO quiet_readings VALUES (?, ?, ?, ?, ?, ?)", rows)
    bases = sorted({one.base for one in done})
    db.execute(
        "UPDATE reading_contents SET merged = 1 WHERE merged = 0 AND id IN (SELECT value FROM json_each(?))",
        (json_list(bases),),
    )
    return done


def _number(db: sqlite3.Connection, table: str, column: str, name: str) -> int:
    found = db.execute(f"SELECT number FROM {table} WHERE {column} = ?", (name,)).fetchone()  # noqa: S608 - ours
    if found is None:
        cursor = db.execute(f"INSERT INTO {table} ({column}) VALUES (?)", (name,))  # noqa: S608 - ours
        return int(cursor.lastrowid or 0)
    return int(found[0])


def _place(taken_at: str) -> tuple[int, int] | None:
    """The day and the second of a time; None for one that would not come back as it was written."""
    at = datetime.fromisoformat(taken_at)
    if at.isoformat() != taken_at or at.microsecond or at.tzinfo is not None:
        return None
    return (at.date() - FIRST_DAY).days, at.hour * 3600 + at.minute * 60 + at.second


def _taken_at(day: int, second: int) -> str:
    return (datetime.combine(FIRST_DAY, datetime.min.time()) + timedelta(days=day, seconds=second)).isoformat()


def of_devices(db: sqlite3.Connection, devices: Iterable[str]) -> list[QuietReading]:
    """The quiet readings of devices, by day."""
    rows = db.execute(
        f"{_DAYS} SELECT d.device, s.source, q.day, q.second, q.base, q.changes FROM days"  # noqa: S608 - ours
        " CROSS JOIN reading_devices AS d CROSS JOIN quiet_readings AS q ON q.day = days.day AND q.device = d.number"
        " CROSS JOIN reading_sources AS s ON s.number = q.source"
        " WHERE d.device IN (SELECT value FROM json_each(?))",
        (json_list(devices),),
    )
    return [QuietReading(row[0], row[1], _taken_at(row[2], row[3]), row[4], row[5]) for row in rows]


def contents_of(db: sqlite3.Connection, readings: Sequence[QuietReading]) -> list[Content]:
    """What each reading held."""
    bases = contents.rows(db, {one.base for one in readings})
    made = []
    for one in readings:
        base = bases[one.base]
        made.append(base._replace(codes=codes_of(changed(numbers_in(base.codes), one.changes))))
    return made


def forget(db: sqlite3.Connection, readings: Iterable[tuple[str, str, str]]) -> None:
    """Forget quiet readings, each by device, source and time."""
    keys = [(*(_place(taken_at) or (0, 0)), device, source) for device, source, taken_at in readings]
    db.executemany(
        "DELETE FROM quiet_readings WHERE day = ?1 AND second = ?2"
        " AND device = (SELECT number FROM reading_devices WHERE device = ?3)"
        " AND source = (SELECT number FROM reading_sources WHERE source = ?4)",
        keys,
    )


def first_day(db: sqlite3.Connection) -> str | None:
    """The day of the oldest quiet reading."""
    day = db.execute("SELECT MIN(day) FROM quiet_readings").fetchone()[0]
    return None if day is None else (FIRST_DAY + timedelta(days=day)).isoformat()


def count_before(db: sqlite3.Connection, before: str) -> int:
    """How many quiet readings there are of days before `before`."""
    day = (date.fromisoformat(before[:10]) - FIRST_DAY).days
    return int(db.execute("SELECT COUNT(*) FROM quiet_readings WHERE day < ?", (day,)).fetchone()[0])
