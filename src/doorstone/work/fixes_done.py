"""Fixes that were made: recorded, believed until the next reading, then proved by it or not seen."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from difflib import get_close_matches
from enum import StrEnum

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FIX, View, dump
from doorstone.core.platforms import Fix, Platform
from doorstone.store import fixes as store
from doorstone.store.fixes import FixDoneRow
from doorstone.store.said import body_of
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.hearing import NewReading
from doorstone.work.picture import Picture, picture
from doorstone.work.profiles import Settler


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


@dataclass(frozen=True, slots=True)
class FixGiven:
    """`done_at` None means now. A fix that failed takes a note on what happened."""

    title: str
    outcome: str = "done"
    done_at: datetime | None = None
    note: str = ""


def record_fix(desk: Desk, actor: Actor, device: str, given: FixGiven) -> FixDone:
    """Record a fix as done, or as tried and failed. What one that is done gives is believed until the next reading.

    Raises `MissingError` for an unknown device or fix, `BadInputError` for a time to come or a failure without a note.
    """
    if given.outcome not in ("done", "failed"):
        raise BadInputError(f"{given.outcome!r} is not how a fix ends", "Use done or failed")
    note = given.note.strip()
    if given.outcome == "failed" and len(note) < 5:
        raise BadInputError("A fix that failed takes a note", "Say in a sentence what happened")
    if len(note) > 1000 or not note.isprintable():
        raise BadInputError("The note cannot be used", "Use up to 1,000 letters, without line breaks")
    done_at = (given.done_at or desk.clock.now()).replace(microsecond=0)
    if done_at > desk.clock.now():
        raise BadInputError(f"It was done {done_at}, which is yet to come", "Record it once it is done")
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_fix(desk, before)
        now = picture(desk)
        now.device(device)
        fix = _fix(now.need_sheet(device).platform, now.view(device), given.title)
        gives = {name: dump(value) for name, value in fix.gives.items()}
        values = {
            "device": device,
            "title": fix.title,
            "outcome": given.outcome,
            "gives": gives,
            "done_at": done_at.isoformat(),
            "note": note,
            "by": actor.name,
            "at": desk.now(),
        }
        number = store.add(db, values)
        if given.outcome == "done":
            settler = Settler(desk, db)
            said = settler.known.shelf.number_of(db, body_of(gives, {}))
            settler.hear([NewReading(device, FIX, done_at.isoformat(), said)])
        name = id_of("FX", number)
        record(desk, db, actor, f"fix {given.outcome}", "fix", name, values, creates=True, devices=[device])
    return get_fix(desk, name)


def _fix(platform: Platform, view: View, title: str) -> Fix:
    """The fix of that title: of several the one that applies to the device as it stands."""
    known = [fix for requirement in platform.requirements for fix in requirement.fixes]
    found = [fix for fix in known if fix.title.casefold() == title.strip().casefold()]
    if not found:
        titles = sorted({fix.title for fix in known})
        near = get_close_matches(title, titles, 1, 0.4)
        hint = f"Did you mean {near[0]!r}?" if near else "See them with 'doorstone fix show DEVICE'"
        raise MissingError(f"The sheet has no fix {title!r}", hint)
    applies = [fix for fix in found if fix.when.outcome(view.values(), view.as_of) is Outcome.MET]
    return (applies or found)[0]


def get_fix(desk: Desk, name: str) -> FixDone:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        row = store.get(db, number_of("FX", name))
    if row is None:
        raise MissingError(f"There is no recorded fix {name!r}", "See the device's fixes")
    return _standing(picture(desk), row)


def fixes_of(now: Picture, device: str) -> list[FixDone]:
    """What was recorded of a device's fixes, the newest first; of one made twice the last counts."""
    with now.desk.database.read() as db:
        rows = store.of_device(db, device)
    return [_standing(now, row) for row in reversed(rows)]


def told_of(now: Picture, device: str) -> Mapping[str, str]:
    """Fix -> what is to be said before it is proposed again."""
    return {title: one.told for title, one in _last(now, device).items() if one.told}


def latest_fixes(now: Picture) -> list[FixDone]:
    """Of every fix on every device what was recorded last."""
    with now.desk.database.read() as db:
        devices = store.devices(db)
    return [one for device in devices for one in _last(now, device).values()]


def _last(now: Picture, device: str) -> Mapping[str, FixDone]:
    """Fix -> what was recorded of it last, the newest first."""
    last: dict[str, FixDone] = {}
    for one in fixes_of(now, device):
        last.setdefault(one.row.title, one)
    return last


def _standing(now: Picture, row: FixDoneRow) -> FixDone:
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
