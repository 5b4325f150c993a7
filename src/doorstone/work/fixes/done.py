"""Fixes that were made: recorded, believed until the next reading, then proved by it or not seen."""

from __future__ import annotations

from datetime import datetime
from difflib import get_close_matches

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FIX, View, dump
from doorstone.core.platforms.platform import Fix, Platform
from doorstone.store import fixes as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.contents import NewReading
from doorstone.work.snapshot.fix_results import FixDone, _standing
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.snapshot import snapshot


class NewFixResult(Struct, frozen=True):
    """`done_at` None means now. A fix that failed takes a note on what happened."""

    title: str
    outcome: str = "done"
    done_at: datetime | None = None
    note: str = ""


def record_fix(context: Context, actor: Actor, device: str, given: NewFixResult) -> FixDone:
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
    done_at = (given.done_at or context.moment()).replace(microsecond=0)
    if done_at > context.moment():
        raise BadInputError(f"It was done {done_at}, which is yet to come", "Record it once it is done")
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_fix(context, before)
        now = snapshot(context)
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
            "at": context.now(),
        }
        number = store.add(db, values)
        if given.outcome == "done":
            settler = Settler(context, db)
            content = settler.known.contents.number_of(db, gives)
            settler.ingest([NewReading(device, FIX, done_at.isoformat(), content)])
        name = id_of("FX", number)
        record(context, db, actor, f"fix {given.outcome}", "fix", name, values, creates=True, devices=[device])
    return get_fix(context, name)


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


def get_fix(context: Context, name: str) -> FixDone:
    """One recorded fix. Raises `MissingError`."""
    with context.database.read() as db:
        row = store.get(db, number_of("FX", name))
    if row is None:
        raise MissingError(f"There is no recorded fix {name!r}", "See the device's fixes")
    return _standing(snapshot(context), row)
