"""Going back: until when a device can go back from the release that it runs."""

from __future__ import annotations

import sqlite3
from datetime import date, timedelta

from doorstone.store import attempts as attempt_store
from doorstone.store import followups as after_store
from doorstone.work.snapshot.snapshot import Snapshot


def rollback_until(db: sqlite3.Connection, now: Snapshot, device: str) -> date | None:
    """The last day on which the device can go back from the release that it runs; None if that cannot be."""
    runs = now.view(device).text("os.release")
    sheet = now.sheet_of(device)
    done = [a for a in attempt_store.every(db, device) if a.outcome in ("completed", "carry-over-lost", "rolled-back")]
    last = max(done, key=lambda a: a.ended_at, default=None)
    if sheet is None or last is None or last.outcome == "rolled-back" or last.release != runs or last.route == "clean":
        return None
    if after_store.ended_rollback(db, last.id):
        return None
    return date.fromisoformat(last.ended_at[:10]) + timedelta(days=sheet.platform.release(runs).rollback_days)
