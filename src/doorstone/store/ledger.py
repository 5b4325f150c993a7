"""The ledger: append-only, each entry bound to the one before by its hash, the last one sealed; and receipts.

The seal is a keyed digest of the last entry's number and hash. Its key stands in a file of its own, so that whoever
changes the database by hand can neither cut the end off nor write the whole chain anew without being seen.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from doorstone.core.ledger.chain import START, chain_faults, entry_hash
from doorstone.store.ledger_changes import kind_names


class LedgerBrokenError(RuntimeError):
    """The ledger differs from what was sealed. Nothing is added to it: a new seal would hide the change."""


class Entry(Struct, frozen=True):
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
    """Append an entry inside the caller's transaction. `about` are other objects, (kind, id), that it concerns.

    Raises `LedgerBrokenError` unless the last entry is the one that was sealed.
    """
    if broken := next(head_faults(db), None):
        raise LedgerBrokenError(f"The ledger is not as it was sealed: {broken}")
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
    db.execute("SELECT noted(?, ?, ?)", (seq, kind, obj)).fetchone()
    return Entry(seq, at, actor, via, action, kind, obj, json.loads(text), previous, digest)


def seal(db: sqlite3.Connection) -> None:
    """Seal the last entry."""
    db.execute(
        "INSERT OR REPLACE INTO ledger_head (one, seq, hash, seal)"
        " SELECT 1, seq, hash, seal(seq, hash) FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)"
    )


def last_on(db: sqlite3.Connection, kinds: Iterable[str]) -> int:
    """The newest entry on an object of one of these kinds; 0 if there is none."""
    found = db.execute(
        "SELECT MAX((SELECT MAX(seq) FROM ledger WHERE kind = k.value)) FROM json_each(?) AS k",
        (json.dumps(sorted(kinds)),),
    ).fetchone()
    return int(found[0] or 0)


def spoken_of(db: sqlite3.Connection, kind: str, after: int) -> list[str]:
    """The objects of a kind that entries numbered above `after` are on."""
    rows = db.execute("SELECT DISTINCT object FROM ledger WHERE kind = ? AND seq > ?", (kind, after))
    return [row["object"] for row in rows]


def last_seq(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT COALESCE(MAX(seq), 0) FROM ledger").fetchone()[0])


def entries(
    db: sqlite3.Connection, before: int | None, limit: int, kind: str | None = None, obj: str | None = None
) -> list[Entry]:
    """Entries numbered below `before`, newest first; of one object if it is named."""
    rows = db.execute(
        "SELECT * FROM ledger WHERE seq < ? AND (? IS NULL OR kind IN (SELECT value FROM json_each(?)))"
        " AND (? IS NULL OR object = ?) ORDER BY seq DESC LIMIT ?",
        (before if before is not None else 2**62, kind, json.dumps(kind_names(kind or "")), obj, obj, limit),
    )
    return [_entry(row) for row in rows]


def last_action(db: sqlite3.Connection, kind: str, obj: str, actions: Iterable[str]) -> str | None:
    """The time of the newest of these actions on an object."""
    row = db.execute(
        "SELECT MAX(at) AS at FROM ledger WHERE kind = ? AND object = ? AND action IN (SELECT value FROM json_each(?))",
        (kind, obj, json.dumps(sorted(actions))),
    ).fetchone()
    return None if row["at"] is None else str(row["at"])


def speaks_of(db: sqlite3.Connection, obj: str) -> bool:
    """Whether any entry is on an object of this id, of whatever kind, or concerns it."""
    found = db.execute(
        "SELECT EXISTS (SELECT 1 FROM ledger WHERE object = ?1)"
        " OR EXISTS (SELECT 1 FROM ledger_about WHERE object = ?1)",
        (obj,),
    ).fetchone()
    return bool(found[0])


def by_action(db: sqlite3.Connection, kind: str, actions: Iterable[str], since: str) -> list[Entry]:
    """Entries of these actions on objects of a kind since a day, oldest first."""
    rows = db.execute(
        "SELECT * FROM ledger WHERE kind = ? AND action IN (SELECT value FROM json_each(?)) AND at >= ? ORDER BY seq",
        (kind, json.dumps(sorted(actions)), since),
    )
    return [_entry(row) for row in rows]


def story(db: sqlite3.Connection, kind: str, obj: str) -> list[Entry]:
    """Every entry of an object and those that speak of it, oldest first."""
    rows = db.execute(
        "SELECT * FROM ledger WHERE kind IN (SELECT value FROM json_each(:kinds)) AND object = :object"
        " UNION SELECT ledger.* FROM ledger_about JOIN ledger USING (seq)"
        " WHERE ledger_about.kind = :kind AND ledger_about.object = :object ORDER BY seq",
        {"kind": kind, "kinds": json.dumps(kind_names(kind)), "object": obj},
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
    """Check the whole chain. Names every entry that was altered, removed or moved."""
    rows = (dict(row) for row in db.execute("SELECT * FROM ledger ORDER BY seq"))
    yield from chain_faults(rows)
    yield from head_faults(db)


def head_faults(db: sqlite3.Connection) -> Iterator[str]:
    """Whether the last entry is the one that was sealed, in the records and in the head that is kept beside them."""
    row = db.execute("SELECT seq, hash FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    last = (row["seq"], row["hash"]) if row else (0, START)
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
    kept = json.loads(db.execute("SELECT kept_heads()").fetchone()[0])
    if kept["beside"] is None and last[0]:
        yield "the head beside the records is missing: put ledger.head back, or restore a backup"
    elif kept["beside"] is not None:
        yield from kept_faults(db, kept["beside"]["seq"], kept["beside"]["hash"], "the head beside the records")
    if kept["anchored"] is not None:
        yield from kept_faults(db, kept["anchored"][0], kept["anchored"][1], "the anchor")


def kept_faults(db: sqlite3.Connection, seq: int, digest: str, where: str) -> Iterator[str]:
    """Whether an entry that was noted elsewhere, by its number and hash, is still there."""
    if seq == 0:
        return
    if seq < 0:
        yield f"{where} cannot be read"
        return
    row = db.execute("SELECT hash FROM ledger WHERE seq = ?", (seq,)).fetchone()
    if row is None:
        yield f"entry {seq} is in {where} and is missing here: these are older records, or their end was cut off"
    elif row["hash"] != digest:
        yield f"entry {seq} is not the one in {where}"


def head(db: sqlite3.Connection) -> str:
    """The last entry as number:hash, to be noted elsewhere. Empty if there is none."""
    row = db.execute("SELECT seq, hash FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    return f"{row['seq']}:{row['hash']}" if row else ""


def first_at(db: sqlite3.Connection) -> str:
    """When the first entry was made; empty if there is none."""
    row = db.execute("SELECT at FROM ledger WHERE seq = 1").fetchone()
    return str(row["at"]) if row else ""


def last_at(db: sqlite3.Connection) -> str:
    """When the last entry was made; empty if there is none."""
    row = db.execute("SELECT at FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    return str(row["at"]) if row else ""


def keep_receipt(db: sqlite3.Connection, actor: str, key: str, fingerprint: str, obj: str, at: str) -> None:
    db.execute(
        "INSERT INTO receipts (actor, key, fingerprint, object, at) VALUES (?, ?, ?, ?, ?)",
        (actor, key, fingerprint, obj, at),
    )


def find_receipt(db: sqlite3.Connection, actor: str, key: str) -> tuple[str, str] | None:
    """The fingerprint of the first call with this key and the object that it made."""
    row = db.execute("SELECT fingerprint, object FROM receipts WHERE actor = ? AND key = ?", (actor, key)).fetchone()
    return (row["fingerprint"], row["object"]) if row else None


def hashes(db: sqlite3.Connection, first: int) -> dict[int, str]:
    """Number -> hash of every entry from `first` on."""
    return {row["seq"]: row["hash"] for row in db.execute("SELECT seq, hash FROM ledger WHERE seq >= ?", (first,))}
