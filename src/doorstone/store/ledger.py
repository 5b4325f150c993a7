"""The ledger: append-only, each entry bound to the one before by its hash, the last one sealed; and receipts.

The seal is a keyed digest of the last entry's number and hash. Its key stands in a file of its own, so that whoever
changes the database by hand can neither cut the end off nor write the whole chain anew without being seen.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Generator, Iterable, Iterator, Mapping
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
    db: sqlite3.Connection,
    at: str,
    actor: str,
    via: str,
    action: str,
    kind: str,
    obj: str,
    body: Mapping[str, Any],
    about: Iterable[tuple[str, str]] = (),
) -> Entry:
    """Append an entry inside the caller's transaction. `about` are other objects, (kind, id), that it speaks of."""
    last = db.execute("SELECT seq, hash FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    seq, previous = (last["seq"] + 1, last["hash"]) if last else (1, START)
    text = json.dumps(body, ensure_ascii=False, sort_keys=True)
    digest = entry_hash(seq, at, actor, via, action, kind, obj, text, previous)
    db.execute(
        "INSERT INTO ledger (seq, at, actor, via, action, kind, object, body, previous, hash)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (seq, at, actor, via, action, kind, obj, text, previous, digest),
    )
    db.executemany(
        "INSERT OR IGNORE INTO ledger_about (kind, object, seq) VALUES (?, ?, ?)",
        [(other, name, seq) for other, name in about],
    )
    seal(db)
    return Entry(seq, at, actor, via, action, kind, obj, json.loads(text), previous, digest)


def seal(db: sqlite3.Connection) -> None:
    """Seal the last entry."""
    db.execute(
        "INSERT OR REPLACE INTO ledger_head (one, seq, hash, seal)"
        " SELECT 1, seq, hash, seal(seq, hash) FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)"
    )


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


def story(db: sqlite3.Connection, kind: str, obj: str) -> list[Entry]:
    """Every entry of an object and those that speak of it, oldest first."""
    rows = db.execute(
        "SELECT * FROM ledger WHERE kind = :kind AND object = :object"
        " UNION SELECT ledger.* FROM ledger_about JOIN ledger USING (seq)"
        " WHERE ledger_about.kind = :kind AND ledger_about.object = :object ORDER BY seq",
        {"kind": kind, "object": obj},
    )
    return [_entry(row) for row in rows]


def walk(db: sqlite3.Connection, after: int = 0) -> Iterator[Entry]:
    """Every entry numbered above `after`, oldest first."""
    for row in db.execute("SELECT * FROM ledger WHERE seq > ? ORDER BY seq", (after,)):
        yield _entry(row)


def _entry(row: sqlite3.Row) -> Entry:
    data = dict(row)
    return Entry(**{**data, "body": json.loads(data["body"])})


def faults(db: sqlite3.Connection) -> Iterator[str]:
    """Walk the chain and say of every entry that was altered, removed or put out of order."""
    rows = (dict(row) for row in db.execute("SELECT * FROM ledger ORDER BY seq"))
    last = yield from chain_faults(rows)
    head = db.execute("SELECT seq, hash, seal, seal(seq, hash) AS fitting FROM ledger_head").fetchone()
    if head is None:
        if last[0]:
            yield "the seal of the last entry is missing"
    elif head["seal"] != head["fitting"]:
        yield "the seal of the last entry was altered"
    elif head["seq"] > last[0]:
        missing = (
            f"entry {head['seq']} is" if head["seq"] == last[0] + 1 else f"entries {last[0] + 1} to {head['seq']} are"
        )
        yield f"{missing} missing at the end"
    elif head["seq"] < last[0]:
        yield f"entries after {head['seq']} were added past the seal"
    elif head["hash"] != last[1]:
        yield f"entry {last[0]} is not the one that was sealed: the chain was written anew"


def chain_faults(rows: Iterable[Mapping[str, Any]]) -> Generator[str, None, tuple[int, str]]:
    """Faults of a chain of raw entries, `body` as it was hashed. Gives the number and hash of the last."""
    expected, previous = 1, START
    for row in rows:
        if row["seq"] > expected:
            last = row["seq"] - 1
            yield f"entry {last} is missing" if last == expected else f"entries {expected} to {last} are missing"
        elif row["seq"] < expected:
            yield f"entry {row['seq']} is out of order"
        elif row["previous"] != previous:
            yield f"entry {row['seq']} does not follow the entry before it"
        values = [row[name] for name in ("seq", "at", "actor", "via", "action", "kind", "object", "body", "previous")]
        if entry_hash(*values) != row["hash"]:
            yield f"entry {row['seq']} was altered"
        expected, previous = row["seq"] + 1, row["hash"]
    return expected - 1, previous


def keep_receipt(db: sqlite3.Connection, actor: str, key: str, fingerprint: str, obj: str, at: str) -> None:
    db.execute(
        "INSERT INTO receipts (actor, key, fingerprint, object, at) VALUES (?, ?, ?, ?, ?)",
        (actor, key, fingerprint, obj, at),
    )


def find_receipt(db: sqlite3.Connection, actor: str, key: str) -> tuple[str, str] | None:
    """The fingerprint of the first call with this key and the object that it made."""
    row = db.execute("SELECT fingerprint, object FROM receipts WHERE actor = ? AND key = ?", (actor, key)).fetchone()
    return (row["fingerprint"], row["object"]) if row else None
