"""The chain of the ledger: each entry holds the hash of the one before, so that none can be changed unseen.

In: raw entries, `body` as the JSON text that was hashed. Out: a hash, or what is wrong with a chain, in words.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Generator, Iterable, Mapping
from typing import Any

START = "0" * 64
"""What the first entry follows."""


def entry_hash(
    seq: int, at: str, actor: str, via: str, action: str, kind: str, obj: str, body: str, previous: str
) -> str:
    """SHA-256 over the entry as a JSON array, the hash before it included."""
    content = json.dumps([seq, at, actor, via, action, kind, obj, body, previous], ensure_ascii=False)
    return hashlib.sha256(content.encode()).hexdigest()


def chain_faults(rows: Iterable[Mapping[str, Any]]) -> Generator[str, None, tuple[int, str]]:
    """The faults of a chain of raw entries, `body` as it was hashed. Returns the number and hash of the last entry."""
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
