"""Notifications in the records: webhooks, queued deliveries, what each person was notified of."""

from __future__ import annotations

import json
import sqlite3

from msgspec import Struct


class WebhookRow(Struct, frozen=True):
    """`kinds` are prefixes of event kinds, such as `exception`; none means all."""

    id: int
    version: int
    url: str
    kinds: tuple[str, ...]
    secret: str
    active: bool
    by: str
    at: str


class DeliveryRow(Struct, frozen=True):
    """One event for one webhook, or one letter for one person. `answer` is what came of the last try."""

    id: int
    webhook: int | None
    person: str
    event: str
    kind: str
    body: str
    state: str
    tries: int
    next_at: str
    answer: str
    made_at: str


def add_webhook(db: sqlite3.Connection, url: str, kinds: tuple[str, ...], secret: str, by: str, at: str) -> int:
    cursor = db.execute(
        "INSERT INTO webhooks (url, kinds, secret, by, at) VALUES (?, ?, ?, ?, ?)",
        (url, json.dumps(kinds), secret, by, at),
    )
    return int(cursor.lastrowid or 0)


def webhook(db: sqlite3.Connection, number: int) -> WebhookRow | None:
    row = db.execute("SELECT * FROM webhooks WHERE id = ?", (number,)).fetchone()
    return _webhook(row) if row else None


def webhooks(db: sqlite3.Connection) -> list[WebhookRow]:
    return [_webhook(row) for row in db.execute("SELECT * FROM webhooks ORDER BY id")]


def stop_webhook(db: sqlite3.Connection, number: int) -> None:
    """Send a webhook nothing more, and give up what waits for it."""
    db.execute("UPDATE webhooks SET active = 0, version = version + 1 WHERE id = ?", (number,))
    db.execute(
        "UPDATE deliveries SET state = 'given-up', answer = 'the webhook was removed'"
        " WHERE webhook = ? AND state = 'waiting'",
        (number,),
    )


def add_delivery(
    db: sqlite3.Connection, webhook: int | None, person: str, event: str, kind: str, body: str, at: str
) -> int:
    cursor = db.execute(
        "INSERT INTO deliveries (webhook, person, event, kind, body, made_at) VALUES (?, ?, ?, ?, ?, ?)",
        (webhook, person, event, kind, body, at),
    )
    return int(cursor.lastrowid or 0)


def waiting(db: sqlite3.Connection, now: str, limit: int = 100) -> list[DeliveryRow]:
    """The deliveries to try now, oldest first."""
    rows = db.execute(
        "SELECT * FROM deliveries WHERE state = 'waiting' AND next_at <= ? ORDER BY next_at, id LIMIT ?", (now, limit)
    )
    return [DeliveryRow(**dict(row)) for row in rows]


def tried(db: sqlite3.Connection, number: int, state: str, next_at: str, answer: str) -> None:
    db.execute(
        "UPDATE deliveries SET tries = tries + 1, state = ?, next_at = ?, answer = ? WHERE id = ?",
        (state, next_at, answer[:500], number),
    )


def deliveries(db: sqlite3.Connection, webhook: int | None, limit: int = 100) -> list[DeliveryRow]:
    """Deliveries, newest first; of one webhook if it is named."""
    rows = db.execute(
        "SELECT * FROM deliveries WHERE ? IS NULL OR webhook = ? ORDER BY id DESC LIMIT ?", (webhook, webhook, limit)
    )
    return [DeliveryRow(**dict(row)) for row in rows]


def notified(db: sqlite3.Connection, person: str) -> set[str]:
    return {row["due"] for row in db.execute("SELECT due FROM due_notifications WHERE person = ?", (person,))}


def keep_notified(db: sqlite3.Connection, person: str, due: str, day: str) -> None:
    db.execute(
        "INSERT OR IGNORE INTO due_notifications (person, due, notified_on) VALUES (?, ?, ?)", (person, due, day)
    )


def _webhook(row: sqlite3.Row) -> WebhookRow:
    return WebhookRow(
        row["id"], row["version"], row["url"], tuple(json.loads(row["kinds"])), row["secret"], bool(row["active"]),
        row["by"], row["at"],
    )  # fmt: skip
