"""The ledger: append-only, each entry bound to the one before by its hash; and receipts of creating calls."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

START = "0" * 64


@dataclass(frozen=True, slots=True)
class Entry:
    seq: int
    at: str
    actor: str
    via: str
    action: str
    kind: str
    object: str
    body: Mapping[str, Any]
    previous: str
    hash: str


def entry_hash(
    seq: int, at: str, actor: str, via: str, action: str, kind: str, obj: str, body: str, previous: str
) -> str:
    """SHA-256 over the entry as a JSON array, the hash before it included."""
    picture = json.dumps([seq, at, actor, via, action, kind, obj, body, previous], ensure_ascii=False)
    return hashlib.sha256(picture.encode()).hexdigest()


def append(
    db: sqlite3.Connection, at: str, actor: str, via: str, action: str, kind: str, obj: str, body: Mapping[str, Any]
) -> int:
    """Append an entry inside the caller's transaction; returns its number."""
    last = db.execute("SELECT seq, hash FROM ledger ORDER BY seq DESC LIMIT 1").fetchone()
    seq, previous = (last["seq"] + 1, last["hash"]) if last else (1, START)
    text = json.dumps(body, ensure_ascii=False, sort_keys=True)
    digest = entry_hash(seq, at, actor, via, action, kind, obj, text, previous)
    db.execute(
        "INSERT INTO ledger (seq, at, actor, via, action, kind, object, body, previous, hash)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (seq, at, actor, via, action, kind, obj, text, previous, digest),
    )
    return seq


def last_seq(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT COALESCE(MAX(seq), 0) FROM ledger").fetchone()[0])


def entries(
    db: sqlite3.Connection, before: int | None, limit: int, kind: str | None = None, obj: str | None = None
) -> list[Entry]:
    """Newest first, those numbered below `before`, optionally of one object."""
    rows = db.execute(
        "SELECT * FROM ledger WHERE seq < ? AND (? IS NULL OR kind = ?) AND (? IS NULL OR object = ?)"
        " ORDER BY seq DESC LIMIT ?",
        (before if before is not None else 2**62, kind, kind, obj, obj, limit),
    )
    return [_entry(row) for row in rows]


def _entry(row: sqlite3.Row) -> Entry:
    data = dict(row)
    return Entry(**{**data, "body": json.loads(data["body"])})


def faults(db: sqlite3.Connection) -> Iterator[str]:
    """Walk the chain and say of every entry that was altered, removed or put out of order."""
    expected, previous = 1, START
    for row in db.execute("SELECT * FROM ledger ORDER BY seq"):
        if row["seq"] != expected:
            yield f"entries {expected} to {row['seq'] - 1} are missing"
        elif row["previous"] != previous:
            yield f"entry {row['seq']} does not follow the entry before it"
        values = [row[name] for name in ("seq", "at", "actor", "via", "action", "kind", "object", "body", "previous")]
        if entry_hash(*values) != row["hash"]:
            yield f"entry {row['seq']} was altered"
        expected, previous = row["seq"] + 1, row["hash"]


def keep_receipt(db: sqlite3.Connection, actor: str, key: str, fingerprint: str, obj: str, at: str) -> None:
    db.execute(
        "INSERT INTO receipts (actor, key, fingerprint, object, at) VALUES (?, ?, ?, ?, ?)",
        (actor, key, fingerprint, obj, at),
    )


def find_receipt(db: sqlite3.Connection, actor: str, key: str) -> tuple[str, str] | None:
    """The fingerprint of the first call with this key and the object that it made."""
    row = db.execute("SELECT fingerprint, object FROM receipts WHERE actor = ? AND key = ?", (actor, key)).fetchone()
    return (row["fingerprint"], row["object"]) if row else None
