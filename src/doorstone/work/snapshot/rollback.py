"""Going back: what of a device's attempts decides until when it can go back from the release that it runs."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from datetime import date

from doorstone.core.attempts import outcomes
from doorstone.core.attempts.outcomes import AttemptOutcome, EndedAttempt
from doorstone.store import attempts as attempt_store
from doorstone.store import followups as followup_store
from doorstone.store.attempts import AttemptRow
from doorstone.work.snapshot.snapshot import Snapshot


def ended_attempts(rows: Iterable[AttemptRow]) -> list[EndedAttempt]:
    return [EndedAttempt(a.id, a.release, a.route, AttemptOutcome(a.outcome), a.ended_at) for a in rows]


def rollback_until(db: sqlite3.Connection, now: Snapshot, device: str) -> date | None:
    """The last day on which the device can go back from the release that it runs. None if it cannot."""
    sheet = now.sheet_of(device)
    if sheet is None:
        return None
    attempts = ended_attempts(attempt_store.every(db, device))
    removed = [attempt.id for attempt in attempts if followup_store.ended_rollback(db, attempt.id)]
    return outcomes.rollback_until(sheet.platform, now.view(device).text("os.release"), attempts, removed)
