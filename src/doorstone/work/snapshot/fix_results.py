"""Fixes that were made or tried, and whether a reading has proved them since."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from msgspec import Struct

from doorstone.core.fixes.results import FixWord, fix_result
from doorstone.store import fixes as store
from doorstone.store.fixes import FixDoneRow
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.snapshot import Snapshot


class FixDone(Struct, frozen=True):
    """A recorded fix. `seen` says what was read since where that is not what the fix gives."""

    id: str
    row: FixDoneRow
    word: FixWord
    seen: str = ""

    @property
    def result(self) -> str:
        """What to point out before the same fix is proposed again; empty if nothing."""
        day = self.row.done_at[:10]
        if self.word is FixWord.FAILED:
            return f"tried on {day} and failed: {self.row.note.rstrip('.')}"
        if self.word is FixWord.NOT_SEEN:
            return f"recorded as done on {day} ({self.id}), not seen since: {self.seen}"
        return ""


def fixes_of(now: Snapshot, device: str) -> list[FixDone]:
    """What was recorded of a device's fixes, the newest first; of one made twice the last counts."""
    with now.context.database.read() as db:
        rows = store.of_device(db, device)
    return [_standing(now, row) for row in reversed(rows)]


def results_by_title(now: Snapshot, device: str) -> Mapping[str, str]:
    """Fix -> what to point out before it is proposed again."""
    return {title: one.result for title, one in _last(now, device).items() if one.result}


def latest_fixes(now: Snapshot) -> list[FixDone]:
    """The last record of every fix on every device."""
    with now.context.database.read() as db:
        devices = store.devices(db)
    return [one for device in devices for one in _last(now, device).values()]


def _last(now: Snapshot, device: str) -> Mapping[str, FixDone]:
    """Fix -> its last record, the newest first."""
    last: dict[str, FixDone] = {}
    for one in fixes_of(now, device):
        last.setdefault(one.row.title, one)
    return last


def _standing(now: Snapshot, row: FixDoneRow) -> FixDone:
    name = id_of("FX", row.id)
    if row.outcome == "failed":
        return FixDone(name, row, FixWord.FAILED)
    gives = {fact: now.specs[fact].parse(value) for fact, value in row.gives.items() if fact in now.specs}
    word, seen = fix_result(gives, datetime.fromisoformat(row.done_at), now.view(row.device), now.specs)
    return FixDone(name, row, word, seen)
