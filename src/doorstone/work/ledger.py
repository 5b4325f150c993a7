"""Reading and checking the ledger."""

from __future__ import annotations

from dataclasses import dataclass

from doorstone.store import ledger as store
from doorstone.work.desk import Desk


@dataclass(frozen=True, slots=True)
class LedgerCheck:
    entries: int
    ok: bool
    faults: tuple[str, ...]


def list_entries(
    desk: Desk, before: int | None = None, limit: int = 50, kind: str = "", obj: str = ""
) -> list[store.Entry]:
    """Newest first, optionally of one object."""
    with desk.database.read() as db:
        return store.entries(db, before, limit, kind or None, obj or None)


def check_ledger(desk: Desk) -> LedgerCheck:
    """Walk the whole chain; every altered, missing or misplaced entry is named."""
    with desk.database.read() as db:
        faults = tuple(store.faults(db))
        return LedgerCheck(store.last_seq(db), not faults, faults)
