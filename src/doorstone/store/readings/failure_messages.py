"""Failure messages as assessors report them, and the requirement that each was matched to."""

from __future__ import annotations

import sqlite3

from msgspec import Struct


class MessageRow(Struct, frozen=True):
    """A text that some devices report now. `sources` are joined by commas; `requirement` is empty until matched."""

    text: str
    devices: int
    sources: str
    last: str
    example: str
    requirement: str


class ReportedRow(Struct, frozen=True):
    """A requirement that only failure messages know."""

    platform: str
    id: str
    title: str
    since: str
    because: str
    by: str
    at: str


def every(db: sqlite3.Connection, platform: str) -> list[MessageRow]:
    """Every text reported now on the platform's devices in service, the most frequent first."""
    rows = db.execute(
        "SELECT t.text, COUNT(DISTINCT t.device) AS devices, GROUP_CONCAT(DISTINCT t.source) AS sources,"
        " MAX(t.taken_at) AS last, MIN(t.device) AS example, COALESCE(MAX(m.requirement), '') AS requirement"
        " FROM failure_messages AS t CROSS JOIN devices AS d ON d.id = t.device"
        " LEFT JOIN message_matches AS m ON m.platform = d.platform AND m.text = t.text"
        " WHERE d.platform = ? AND d.life = 'in-service' GROUP BY t.text ORDER BY devices DESC, t.text",
        (platform,),
    )
    return [MessageRow(**dict(row)) for row in rows]


def devices_with(db: sqlite3.Connection, platform: str, text: str) -> list[str]:
    rows = db.execute(
        "SELECT DISTINCT t.device FROM failure_messages AS t CROSS JOIN devices AS d ON d.id = t.device"
        " WHERE t.text = ? AND d.platform = ? ORDER BY t.device",
        (text, platform),
    )
    return [row["device"] for row in rows]


def matches(db: sqlite3.Connection, platform: str | None = None) -> dict[tuple[str, str], str]:
    """(platform, text) -> requirement."""
    rows = db.execute("SELECT * FROM message_matches WHERE ? IS NULL OR platform = ?", (platform, platform))
    return {(row["platform"], row["text"]): row["requirement"] for row in rows}


def match(db: sqlite3.Connection, platform: str, text: str, requirement: str, by: str, at: str) -> None:
    db.execute(
        "INSERT OR REPLACE INTO message_matches (platform, text, requirement, by, at) VALUES (?, ?, ?, ?, ?)",
        (platform, text, requirement, by, at),
    )


def reported(db: sqlite3.Connection) -> list[ReportedRow]:
    """The requirements that only failure messages know, oldest first."""
    rows = db.execute("SELECT * FROM reported_requirements ORDER BY at, platform, id")
    return [ReportedRow(**dict(row)) for row in rows]


def add_reported(db: sqlite3.Connection, row: ReportedRow) -> None:
    db.execute(
        "INSERT INTO reported_requirements (platform, id, title, since, because, by, at) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (row.platform, row.id, row.title, row.since, row.because, row.by, row.at),
    )
