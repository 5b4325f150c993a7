"""Reading and checking the ledger."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import Any

from msgspec import Struct

from doorstone.core.ledger.chain import chain_faults
from doorstone.store import ledger as store
from doorstone.store.ledger_changes import state_faults
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError

MOST_NAMED = 20
"""Heads of the anchor that are named, if they do not fit."""
_FIELDS = ("seq", "at", "actor", "via", "action", "kind", "object", "body", "previous", "hash")


class LedgerCheck(Struct, frozen=True):
    entries: int
    ok: bool
    faults: tuple[str, ...]
    head: str = ""


def list_entries(
    context: Context, before: int | None = None, limit: int = 50, kind: str = "", obj: str = ""
) -> list[store.Entry]:
    """Newest first, optionally of one object."""
    with context.database.read() as db:
        return store.entries(db, before, limit, kind or None, obj or None)


def walk(context: Context, after: int, limit: int) -> list[store.Entry]:
    """Entries numbered above `after`, oldest first."""
    with context.database.read() as db:
        return list(islice(store.walk(db, after), limit))


def check_export(lines: Iterable[str]) -> LedgerCheck:
    """Check the chain of an export, line by line. It has no seal: compare its last hash with one kept elsewhere."""
    seen = 0

    def rows() -> Iterator[dict[str, Any]]:
        nonlocal seen
        for number, line in enumerate(lines, 1):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
                row["body"] = json.dumps(row["body"], ensure_ascii=False, sort_keys=True)
                missing = set(_FIELDS) - set(row)
                if missing:
                    raise ValueError(f"{', '.join(sorted(missing))} missing")
            except (ValueError, KeyError, TypeError) as error:
                raise BadInputError(f"Line {number} is not an entry of a ledger: {error}", "Export it again") from error
            seen += 1
            yield row

    faults = tuple(chain_faults(rows()))
    return LedgerCheck(seen, not faults, faults)


def check_ledger(context: Context, kept: str = "") -> LedgerCheck:
    """Walk the whole chain; every altered, missing or misplaced entry is named.

    `kept` is a head that was noted elsewhere, as number:hash. Raises `BadInputError` if it is none.
    """
    seq, _, digest = kept.partition(":")
    if kept and not (seq.isdecimal() and len(seq) < 16 and len(digest) == 64):
        raise BadInputError(
            f"{kept[:80]!r} is no head of a ledger", "Give it as 'ledger verify' printed it: number:hash"
        )
    with context.database.read() as db:
        faults = (*store.faults(db), *state_faults(db))
        if context.database.anchor is not None:
            anchored = context.database.anchor.heads()
            found = (fault for seq, digest in anchored for fault in store.kept_faults(db, seq, digest, "the anchor"))
            faults += tuple(islice((fault for fault in found if fault not in faults), MOST_NAMED))
        if kept:
            faults += tuple(store.kept_faults(db, int(seq), digest, "what was noted elsewhere"))
        return LedgerCheck(store.last_seq(db), not faults, faults, store.head(db))
