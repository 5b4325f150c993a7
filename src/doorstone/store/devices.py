"""Devices, their readings, and each source's newest word on each fact."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class DeviceRow:
    id: str
    name: str
    site: str
    role: str
    critical: bool


@dataclass(frozen=True, slots=True)
class FactRow:
    device: str
    fact: str
    source: str
    value: Any
    taken_at: str


@dataclass(frozen=True, slots=True)
class VerdictRow:
    device: str
    requirement: str
    source: str
    passed: bool
    taken_at: str


@dataclass(frozen=True, slots=True)
class ReadingRow:
    id: int
    device: str
    source: str
    taken_at: str
    facts: Mapping[str, Any]
    verdicts: Mapping[str, bool]


def upsert(db: sqlite3.Connection, device: str, about: Mapping[str, Any], at: str) -> bool:
    """Add the device or take over what `about` says of it; returns whether it is new."""
    added = db.execute("INSERT OR IGNORE INTO devices (id, added_at) VALUES (?, ?)", (device, at)).rowcount == 1
    if about:
        db.execute(
            "UPDATE devices SET name = COALESCE(:name, name), site = COALESCE(:site, site),"
            " role = COALESCE(:role, role), critical = COALESCE(:critical, critical) WHERE id = :id",
            {"name": None, "site": None, "role": None, "critical": None, **about, "id": device},
        )
    return added


def every(db: sqlite3.Connection) -> list[DeviceRow]:
    rows = db.execute("SELECT id, name, site, role, critical FROM devices ORDER BY id")
    return [DeviceRow(r["id"], r["name"], r["site"], r["role"], bool(r["critical"])) for r in rows]


def get(db: sqlite3.Connection, device: str) -> DeviceRow | None:
    r = db.execute("SELECT id, name, site, role, critical FROM devices WHERE id = ?", (device,)).fetchone()
    return DeviceRow(r["id"], r["name"], r["site"], r["role"], bool(r["critical"])) if r else None


def add_import(db: sqlite3.Connection, at: str, by: str, form: str, readings: int, devices: int) -> int:
    cursor = db.execute(
        "INSERT INTO imports (at, by, form, readings, devices, added) VALUES (?, ?, ?, ?, ?, 0)",
        (at, by, form, readings, devices),
    )
    return int(cursor.lastrowid or 0)


def finish_import(db: sqlite3.Connection, number: int, added: int) -> None:
    db.execute("UPDATE imports SET added = ? WHERE id = ?", (added, number))


def get_import(db: sqlite3.Connection, number: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM imports WHERE id = ?", (number,)).fetchone()
    return row


def add_reading(
    db: sqlite3.Connection,
    device: str,
    import_id: int | None,
    source: str,
    taken_at: str,
    facts: Mapping[str, Any],
    verdicts: Mapping[str, bool],
) -> None:
    """Keep a reading and each fact of it that is newer than what its source said before."""
    db.execute(
        "INSERT OR REPLACE INTO readings (device, import_id, source, taken_at, facts, verdicts)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        (device, import_id, source, taken_at, json.dumps(facts), json.dumps(verdicts)),
    )
    db.executemany(
        "INSERT INTO device_facts (device, fact, source, value, taken_at) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (device, fact, source) DO UPDATE SET value = excluded.value, taken_at = excluded.taken_at"
        " WHERE excluded.taken_at >= device_facts.taken_at",
        [(device, fact, source, json.dumps(value), taken_at) for fact, value in facts.items()],
    )
    db.executemany(
        "INSERT INTO device_verdicts (device, requirement, source, passed, taken_at) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (device, requirement, source) DO UPDATE SET passed = excluded.passed,"
        " taken_at = excluded.taken_at WHERE excluded.taken_at >= device_verdicts.taken_at",
        [(device, requirement, source, int(passed), taken_at) for requirement, passed in verdicts.items()],
    )


def drop_older(db: sqlite3.Connection, device: str, fact: str, before: str) -> None:
    """Forget every source's word on a fact from before a time: something has changed it since."""
    db.execute("DELETE FROM device_facts WHERE device = ? AND fact = ? AND taken_at < ?", (device, fact, before))


def facts(db: sqlite3.Connection, device: str | None = None) -> Iterable[FactRow]:
    """Each source's newest word on each fact, of one device or of all, in order of device."""
    rows = db.execute(
        "SELECT device, fact, source, value, taken_at FROM device_facts WHERE ? IS NULL OR device = ? ORDER BY device",
        (device, device),
    )
    for row in rows:
        yield FactRow(row["device"], row["fact"], row["source"], json.loads(row["value"]), row["taken_at"])


def verdicts(db: sqlite3.Connection, device: str | None = None) -> Iterable[VerdictRow]:
    rows = db.execute(
        "SELECT device, requirement, source, passed, taken_at FROM device_verdicts"
        " WHERE ? IS NULL OR device = ? ORDER BY device",
        (device, device),
    )
    for r in rows:
        yield VerdictRow(r["device"], r["requirement"], r["source"], bool(r["passed"]), r["taken_at"])


def readings(db: sqlite3.Connection, device: str, limit: int = 50) -> list[ReadingRow]:
    rows = db.execute(
        "SELECT * FROM readings WHERE device = ? ORDER BY taken_at DESC, id DESC LIMIT ?", (device, limit)
    )
    return [
        ReadingRow(r["id"], r["device"], r["source"], r["taken_at"], json.loads(r["facts"]), json.loads(r["verdicts"]))
        for r in rows
    ]
