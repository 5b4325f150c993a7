"""Follow-ups of attempts, what verify said on devices, and when the update service is asked next."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from doorstone.core.followups import Step

LATER_UPGRADE = "A later upgrade took its place."
"""Why what an attempt left open falls away."""


class FollowUpRow(Struct, frozen=True):
    """`state` is open, done, failed or skipped. `answer` is as-before, slower or faster where it asks how it runs."""

    id: int
    attempt: int
    device: str
    seq: int
    name: str
    title: str
    todo: str
    kind: str
    blocking: bool
    due_on: str
    state: str
    answer: str
    reason: str
    by: str
    at: str


class VerificationRow(Struct, frozen=True):
    id: int
    kit: int
    device: str
    at: str
    by: str
    ok: bool
    settings: tuple[Mapping[str, str], ...]


class PollRow(Struct, frozen=True):
    device: str
    next_at: str
    failures: int
    error: str


def add_steps(db: sqlite3.Connection, attempt: int, device: str, steps: Sequence[Step]) -> None:
    db.executemany(
        "INSERT INTO followups (attempt, device, seq, name, title, todo, kind, blocking, due_on)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (attempt, device, at, s.name, s.title, s.todo, s.kind, int(s.blocking), s.due_on.isoformat())
            for at, s in enumerate(steps, 1)
        ],
    )


def skip_open(db: sqlite3.Connection, device: str, why: str, by: str, at: str) -> None:
    """What earlier attempts on a device left open falls away."""
    db.execute(
        "UPDATE followups SET state = 'skipped', reason = ?, by = ?, at = ? WHERE device = ? AND state = 'open'",
        (why, by, at, device),
    )


def reopen(db: sqlite3.Connection, device: str, at: str) -> None:
    """What fell away on a device at this time, because of an attempt that was wrong, is open again."""
    db.execute(
        "UPDATE followups SET state = 'open', reason = '', by = '', at = ''"
        " WHERE device = ? AND state = 'skipped' AND reason = ? AND at = ?",
        (device, LATER_UPGRADE, at),
    )


def skip_of_attempt(db: sqlite3.Connection, attempt: int, why: str, by: str, at: str) -> None:
    """What an attempt left open falls away."""
    db.execute(
        "UPDATE followups SET state = 'skipped', reason = ?, by = ?, at = ? WHERE attempt = ? AND state = 'open'",
        (why, by, at, attempt),
    )


def of_device(db: sqlite3.Connection, device: str) -> list[FollowUpRow]:
    """Of the newest attempt first, each attempt's in order."""
    rows = db.execute("SELECT * FROM standing_followups WHERE device = ? ORDER BY attempt DESC, seq", (device,))
    return [_step(row) for row in rows]


def open_until(db: sqlite3.Connection, day: str) -> list[FollowUpRow]:
    """What is open and due by a day, by day."""
    rows = db.execute(
        "SELECT * FROM followups WHERE state = 'open' AND due_on <= ? ORDER BY due_on, device, seq", (day,)
    )
    return [_step(row) for row in rows]


def get_step(db: sqlite3.Connection, number: int) -> FollowUpRow | None:
    row = db.execute("SELECT * FROM followups WHERE id = ?", (number,)).fetchone()
    return _step(row) if row else None


def settle_step(db: sqlite3.Connection, number: int, values: Mapping[str, str]) -> None:
    db.execute(
        "UPDATE followups SET state = :state, answer = :answer, reason = :reason, by = :by, at = :at WHERE id = :id",
        {**values, "id": number},
    )


def ended_rollback(db: sqlite3.Connection, attempt: int) -> bool:
    """Whether what rollback needs was removed after an attempt."""
    row = db.execute(
        "SELECT 1 FROM followups WHERE attempt = ? AND kind = 'ends-rollback' AND state = 'done'", (attempt,)
    ).fetchone()
    return row is not None


def last_answer(db: sqlite3.Connection, device: str) -> str:
    """How the device runs since its last upgrade: as-before, slower, faster, or nothing yet."""
    row = db.execute(
        "SELECT answer FROM standing_followups WHERE device = ? AND answer <> '' ORDER BY attempt DESC LIMIT 1",
        (device,),
    ).fetchone()
    return str(row[0]) if row else ""


def _step(row: sqlite3.Row) -> FollowUpRow:
    return FollowUpRow(**{**dict(row), "blocking": bool(row["blocking"])})


def add_verification(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO verifications (kit, device, at, by, ok, settings)"
        " VALUES (:kit, :device, :at, :by, :ok, :settings)",
        {**values, "settings": json.dumps(values["settings"])},
    )
    return int(cursor.lastrowid or 0)


def verifications(db: sqlite3.Connection, device: str) -> list[VerificationRow]:
    """The verifications of a device, newest first."""
    rows = db.execute("SELECT * FROM verifications WHERE device = ? ORDER BY id DESC", (device,))
    return [
        VerificationRow(**{**dict(r), "ok": bool(r["ok"]), "settings": tuple(json.loads(r["settings"]))}) for r in rows
    ]


def not_right(db: sqlite3.Connection) -> list[VerificationRow]:
    """The newest verification of each device with each kit, where a setting differs from what was put in."""
    rows = db.execute(
        "SELECT v.* FROM verifications AS v WHERE v.ok = 0 AND NOT EXISTS"
        " (SELECT 1 FROM verifications AS w WHERE w.device = v.device AND w.kit = v.kit AND w.id > v.id)"
        " ORDER BY v.device, v.id"
    )
    return [
        VerificationRow(**{**dict(r), "ok": bool(r["ok"]), "settings": tuple(json.loads(r["settings"]))}) for r in rows
    ]


def polls(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, PollRow]:
    rows = db.execute(
        "SELECT * FROM polls WHERE device IN (SELECT value FROM json_each(?))", (json.dumps(list(devices)),)
    )
    return {row["device"]: PollRow(**dict(row)) for row in rows}


def keep_poll(db: sqlite3.Connection, row: PollRow) -> None:
    db.execute(
        "INSERT OR REPLACE INTO polls (device, next_at, failures, error) VALUES (?, ?, ?, ?)",
        (row.device, row.next_at, row.failures, row.error),
    )
