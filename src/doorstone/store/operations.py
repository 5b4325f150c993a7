"""Sizes of the records: how much of what is kept, for the check-up of a service; and what ends by itself."""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

from msgspec import Struct

from doorstone.store.readings.quiet import count_before, first_day


class Sizes(Struct, frozen=True):
    """Numbers of rows; `records_bytes` is the size of the file."""

    schema_version: int
    records_bytes: int
    devices: int
    in_service: int
    classes: int
    readings: int
    contents: int
    values: int
    entries: int


def sizes(db: sqlite3.Connection) -> Sizes:
    def one(query: str) -> int:
        return int(db.execute(query).fetchone()[0] or 0)

    return Sizes(
        schema_version=one("PRAGMA user_version"),
        records_bytes=one("PRAGMA page_count") * one("PRAGMA page_size"),
        devices=one("SELECT COUNT(*) FROM devices"),
        in_service=one("SELECT COUNT(*) FROM devices") - one("SELECT COUNT(*) FROM devices WHERE life <> 'in-service'"),
        classes=one("SELECT COUNT(*) FROM profiles WHERE devices > 0"),
        readings=one("SELECT (SELECT COUNT(*) FROM readings) + (SELECT COUNT(*) FROM quiet_readings)"),
        contents=one("SELECT COUNT(*) FROM reading_contents"),
        values=one("SELECT COUNT(*) FROM fact_values"),
        entries=one("SELECT MAX(seq) FROM ledger"),
    )


class ReadingAges(NamedTuple):
    """When the oldest reading that is kept was taken, and how many are past the days for which such are kept."""

    oldest: str | None
    old: int


def reading_ages(db: sqlite3.Connection, changed_before: str, unchanged_before: str) -> ReadingAges:
    """The ages of readings; those that moved an answer are old by another day than the others."""
    first, old = db.execute(
        "SELECT MIN(taken_at), COALESCE(SUM(taken_at < CASE WHEN changed THEN ? ELSE ? END), 0) FROM readings",
        (changed_before, unchanged_before),
    ).fetchone()
    oldest = min((at for at in (first, first_day(db)) if at), default=None)
    return ReadingAges(oldest, old + count_before(db, unchanged_before))


def waiting_deliveries(db: sqlite3.Connection) -> tuple[int, str | None]:
    """How many deliveries wait, and since when the oldest does."""
    row = db.execute("SELECT COUNT(*), MIN(made_at) FROM deliveries WHERE state = 'waiting'").fetchone()
    return row[0], row[1]


def given_up_deliveries(db: sqlite3.Connection, since: str) -> int:
    query = "SELECT COUNT(*) FROM deliveries WHERE state = 'given-up' AND made_at >= ?"
    return int(db.execute(query, (since,)).fetchone()[0])


def imports(db: sqlite3.Connection, since: str) -> tuple[int, int]:
    """How many imports are under way, and how many have failed since a time."""
    row = db.execute(
        "SELECT COALESCE(SUM(ended_at = '' AND state NOT IN ('done')), 0),"
        " COALESCE(SUM(state = 'failed' AND ended_at >= ?), 0) FROM imports",
        (since,),
    ).fetchone()
    return row[0], row[1]


def forget_deliveries(db: sqlite3.Connection, before: str, many: int) -> int:
    """Delete finished deliveries made before a time, the oldest first. Returns how many."""
    return db.execute(
        "DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE state <> 'waiting' AND made_at < ?"
        " ORDER BY id LIMIT ?)",
        (before, many),
    ).rowcount


def forget_receipts(db: sqlite3.Connection, before: str, many: int) -> int:
    """Delete receipts of calls made before a time. Returns how many."""
    return db.execute(
        "DELETE FROM receipts WHERE (actor, key) IN (SELECT actor, key FROM receipts WHERE at < ? LIMIT ?)",
        (before, many),
    ).rowcount
