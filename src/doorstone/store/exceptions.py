"""Exceptions with their requirements and devices."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class ExceptionRow:
    id: int
    version: int
    platform: str
    release: str
    up_to: bool
    reason: str
    risk_text: str
    acknowledged_by: str
    conditions: str
    owner: str
    start_on: str
    expires_on: str
    review_on: str
    state: str
    requester: str
    requested_at: str
    decided_by: str | None
    decided_at: str | None
    decision_note: str
    self_approved: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    shown: Mapping[str, Any]  # device -> what its approval rests on


def add(db: sqlite3.Connection, values: Mapping[str, Any], requirements: Iterable[str], devices: Iterable[str]) -> int:
    cursor = db.execute(
        "INSERT INTO exceptions (platform, release, up_to, reason, risk_text, acknowledged_by, conditions, owner,"
        " start_on, expires_on, review_on, state, requester, requested_at)"
        " VALUES (:platform, :release, :up_to, :reason, :risk_text, :acknowledged_by, :conditions, :owner,"
        " :start_on, :expires_on, :review_on, 'requested', :requester, :requested_at)",
        values,
    )
    number = int(cursor.lastrowid or 0)
    db.executemany(
        "INSERT INTO exception_requirements (exception, requirement) VALUES (?, ?)",
        [(number, name) for name in requirements],
    )
    db.executemany(
        "INSERT INTO exception_devices (exception, device) VALUES (?, ?)", [(number, device) for device in devices]
    )
    return number


def edit(db: sqlite3.Connection, number: int, version: int, terms: Mapping[str, str]) -> bool:
    """Replace the terms of a requested exception if it still has `version`; returns whether it had."""
    cursor = db.execute(
        "UPDATE exceptions SET version = version + 1, reason = :reason, conditions = :conditions, owner = :owner,"
        " start_on = :start_on, expires_on = :expires_on, review_on = :review_on"
        " WHERE id = :id AND version = :version",
        {**terms, "id": number, "version": version},
    )
    return cursor.rowcount == 1


def decide(
    db: sqlite3.Connection, number: int, version: int, state: str, by: str, at: str, note: str, self_approved: bool
) -> bool:
    """Move to `state` if the exception still has `version`; returns whether it had."""
    cursor = db.execute(
        "UPDATE exceptions SET version = version + 1, state = ?, decided_by = ?, decided_at = ?, decision_note = ?,"
        " self_approved = ? WHERE id = ? AND version = ?",
        (state, by, at, note, int(self_approved), number, version),
    )
    return cursor.rowcount == 1


def keep_shown(db: sqlite3.Connection, number: int, device: str, shown: Mapping[str, Any]) -> None:
    db.execute(
        "UPDATE exception_devices SET shown = ? WHERE exception = ? AND device = ?",
        (json.dumps(shown, sort_keys=True), number, device),
    )


def get(db: sqlite3.Connection, number: int) -> ExceptionRow | None:
    found = _load(db, "WHERE id = ?", (number,))
    return found[0] if found else None


def every(db: sqlite3.Connection) -> list[ExceptionRow]:
    """Newest first."""
    return _load(db, "ORDER BY id DESC", ())


def of_device(db: sqlite3.Connection, device: str) -> list[ExceptionRow]:
    where = "WHERE id IN (SELECT exception FROM exception_devices WHERE device = ?) ORDER BY id DESC"
    return _load(db, where, (device,))


def _load(db: sqlite3.Connection, tail: str, values: tuple[Any, ...]) -> list[ExceptionRow]:
    rows = db.execute(f"SELECT * FROM exceptions {tail}", values).fetchall()  # noqa: S608 - `tail` is ours
    requirements: dict[int, list[str]] = {}
    devices: dict[int, dict[str, Any]] = {}
    only = rows[0]["id"] if len(rows) == 1 else None
    for row in db.execute(
        "SELECT exception, requirement FROM exception_requirements WHERE ? IS NULL OR exception = ? ORDER BY 1, 2",
        (only, only),
    ):
        requirements.setdefault(row["exception"], []).append(row["requirement"])
    for row in db.execute(
        "SELECT exception, device, shown FROM exception_devices WHERE ? IS NULL OR exception = ? ORDER BY 1, 2",
        (only, only),
    ):
        shown = json.loads(row["shown"]) if row["shown"] else None
        devices.setdefault(row["exception"], {})[row["device"]] = shown
    return [
        ExceptionRow(
            **{**dict(row), "up_to": bool(row["up_to"]), "self_approved": bool(row["self_approved"])},
            requirements=tuple(requirements.get(row["id"], ())),
            devices=tuple(devices.get(row["id"], ())),
            shown={device: shown for device, shown in devices.get(row["id"], {}).items() if shown is not None},
        )
        for row in rows
    ]
