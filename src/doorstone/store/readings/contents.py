"""What readings say: each distinct content is kept once, under a number that devices and readings share."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import Any


def body_of(
    facts: Mapping[str, Any],
    verdicts: Mapping[str, bool],
    unread: Mapping[str, str] | None = None,
    texts: Sequence[str] | None = None,
) -> str:
    """The content as one text, the same for the same content: facts and verdicts by name, what is empty left out.

    `texts` are left out only if the source told of none.
    """
    parts: dict[str, Any] = {"facts": dict(facts), "verdicts": dict(verdicts), "unread": dict(unread or {})}
    kept = {name: part for name, part in parts.items() if part}
    if texts is not None:
        kept["texts"] = list(texts)
    return json.dumps(kept, sort_keys=True, separators=(",", ":"))


def digest(body: str) -> bytes:
    return hashlib.sha256(body.encode()).digest()[:16]


def number_of(db: sqlite3.Connection, body: str) -> int:
    """The number of a content, kept if it is new."""
    cursor = db.execute("INSERT OR IGNORE INTO reading_contents (digest, body) VALUES (?, ?)", (digest(body), body))
    if cursor.rowcount == 1:
        return int(cursor.lastrowid or 0)
    return int(db.execute("SELECT id FROM reading_contents WHERE digest = ?", (digest(body),)).fetchone()[0])


def bodies(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, dict[str, Any]]:
    """Number -> content, with only the parts that are not empty."""
    rows = db.execute(
        "SELECT id, body FROM reading_contents WHERE id IN (SELECT value FROM json_each(?))",
        (json.dumps(list(numbers)),),
    )
    return {row["id"]: json.loads(row["body"]) for row in rows}


def migrating(connection: sqlite3.Connection) -> None:
    """Give the migrations what they need to turn earlier readings into contents."""

    def old(facts: str, verdicts: str, unread: str, texts: str) -> str:
        return body_of(json.loads(facts), json.loads(verdicts), json.loads(unread), json.loads(texts))

    connection.create_function("said_body", 4, old, deterministic=True)
    connection.create_function("said_digest", 1, digest, deterministic=True)
