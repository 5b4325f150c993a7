"""Fixes that were made or tried, and whether a reading has proved them since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from doorstone.core.facts import FIX
from doorstone.store import fixes as store
from doorstone.store.fixes import FixDoneRow
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.snapshot import Snapshot


class FixWord(StrEnum):
    """How a recorded fix stands: waiting for a reading, proved by one, not seen in one; or it had failed."""

    WAITING = "waiting"
    PROVED = "proved"
    NOT_SEEN = "not-seen"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class FixDone:
    """A recorded fix. `seen` says what was read since where that is not what the fix gives."""

    id: str
    row: FixDoneRow
    word: FixWord
    seen: str = ""

    @property
    def told(self) -> str:
        """What is to be said before the same fix is proposed again; empty if nothing is."""
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


def told_of(now: Snapshot, device: str) -> Mapping[str, str]:
    """Fix -> what is to be said before it is proposed again."""
    return {title: one.told for title, one in _last(now, device).items() if one.told}


def latest_fixes(now: Snapshot) -> list[FixDone]:
    """Of every fix on every device what was recorded last."""
    with now.context.database.read() as db:
        devices = store.devices(db)
    return [one for device in devices for one in _last(now, device).values()]


def _last(now: Snapshot, device: str) -> Mapping[str, FixDone]:
    """Fix -> what was recorded of it last, the newest first."""
    last: dict[str, FixDone] = {}
    for one in fixes_of(now, device):
        last.setdefault(one.row.title, one)
    return last


def _standing(now: Snapshot, row: FixDoneRow) -> FixDone:
    name = id_of("FX", row.id)
    if row.outcome == "failed":
        return FixDone(name, row, FixWord.FAILED)
    view, done = now.view(row.device), datetime.fromisoformat(row.done_at)
    read, wrong = False, []
    for fact, raw in row.gives.items():
        spec, settled = now.specs.get(fact), view.facts.get(fact)
        if spec is None or settled is None:
            continue
        words = (settled.believed, *settled.rivals, *settled.overruled)
        since = [word for word in words if word.source != FIX and word.taken_at > done]
        read = read or bool(since)
        wanted = spec.parse(raw)
        other = [word for word in since if not spec.close(word.value, wanted)]
        wrong += [f"{fact} is {spec.show(word.value)} ({word.source}, {word.taken_at.date()})" for word in other]
    if wrong:
        return FixDone(name, row, FixWord.NOT_SEEN, "; ".join(wrong))
    return FixDone(name, row, FixWord.PROVED if read else FixWord.WAITING)
