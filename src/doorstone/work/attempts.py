"""After the kit: attempts, observations of updates, and the standing that they confirm or contradict."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.attempts.outcomes import ARRIVED, check_correction, check_outcome, check_refused_by
from doorstone.core.attempts.override_results import at_fault
from doorstone.core.attempts.success_rates import Rate, rates_by
from doorstone.core.facts import View
from doorstone.core.followups import applications_on, follow_ups
from doorstone.core.platforms.platform import Platform, target_release
from doorstone.store import attempts as store
from doorstone.store import followups as followup_store
from doorstone.store import kits as kit_store
from doorstone.store import ledger as ledger_store
from doorstone.store.kits import KitRow
from doorstone.store.readings.contents import more_of
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.batch import all_or_none
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.contents import NewReading
from doorstone.work.snapshot.kit_standing import kit_standings
from doorstone.work.snapshot.rollback import ended_attempts
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot

MOST_TEXT = 500


class NewAttempt(Struct, frozen=True):
    """An attempt to record. `corrects` names the one that it puts right, `runs` the release that its device runs after
    all, where the wrong one said that it arrived.
    """

    device: str
    kit: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: tuple[str, ...]
    seen: str
    media: str
    tool_version: str
    started_at: datetime
    ended_at: datetime
    notice_accepted: bool = False
    mismatch: str = ""
    corrects: str = ""
    runs: str = ""


class Attempt(Struct, frozen=True):
    id: str
    row: store.AttemptRow


def record_attempts(context: Context, actor: Actor, given: Sequence[NewAttempt]) -> list[Attempt]:
    """Record a day's work: all of the attempts, or none. Raises `BadInputError` that names each that cannot be."""
    plain = replace(actor, receipt=None)
    named = ((f"attempt {at}, {one.device}", one) for at, one in enumerate(given, 1))
    return all_or_none(context, named, lambda one: record_attempt(context, plain, one))


def record_attempt(context: Context, actor: Actor, given: NewAttempt) -> Attempt:
    """Record an attempt. One that completed is also a reading of the release that the device now runs."""
    with rules():
        check_outcome(given.outcome, given.started_at, given.ended_at, context.moment(), given.mismatch)
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_attempt(context, before)
        wrong = _correctable(context, given) if given.corrects else None
        now = snapshot(context)
        now.device(given.device)
        platform = now.need_sheet(given.device).platform
        kit = kit_store.get(db, number_of("KT", given.kit)) if given.kit else None
        if given.kit and (kit is None or given.device not in kit.devices):
            raise MissingError(
                f"There is no kit {given.kit!r} for {given.device}", "See them with 'doorstone kit list'"
            )
        release = kit.release if kit else given.release or target_release(platform, context.today())
        need_release(platform, release)
        with rules():
            check_refused_by(platform, release, given.refused_by)
        unmet = [f.requirement.id for f in now.assessment(given.device, release).unmet()]
        values = {
            "device": given.device,
            "kit": kit.id if kit else None,
            "platform": platform.id,
            "release": release,
            "route": kit.route if kit else given.route,
            "carry_over": kit.carry_over if kit else given.carry_over,
            "outcome": given.outcome,
            "refused_by": ", ".join(given.refused_by),
            "seen": given.seen,
            "media": given.media,
            "tool_version": given.tool_version,
            "unmet": unmet,
            "started_at": given.started_at.isoformat(),
            "ended_at": given.ended_at.isoformat(),
            "by": actor.name,
            "notice_accepted": platform.release(release).notice if given.notice_accepted else "",
            "mismatch": given.mismatch,
        }
        number = store.add(db, values)
        if wrong is not None:
            _correct(context, db, actor, wrong, number, given.runs)
        _count(db, now, platform, kit, given.device, given.outcome, given.refused_by)
        if given.outcome in ARRIVED:
            arrived = given.ended_at
            if wrong is not None and wrong.row.device == given.device:  # said after the wrong one
                arrived = max(arrived, datetime.fromisoformat(wrong.row.ended_at) + timedelta(seconds=2))
            settler = _now_runs(context, db, given.device, release, arrived)
            begin(context, db, platform, settler.view(given.device), kit, number, values)
        elif given.outcome == "refused" and not given.refused_by and given.seen.strip():
            settler = Settler(context, db)  # words that name no check are a failure message that somebody is to sort
            words = [" ".join(given.seen.split())[:MOST_TEXT]]
            content = settler.known.contents.number_of(db, {}, more_of({}, None, words))
            settler.ingest([NewReading(given.device, "attempt", given.ended_at.isoformat(), content)])
        body = {**values, "corrects": given.corrects} if given.corrects else values
        record(context, db, actor, f"attempt {given.outcome}", "attempt", id_of("AT", number), body, creates=True)
    return get_attempt(context, id_of("AT", number))


def _count(
    db: sqlite3.Connection,
    now: Snapshot,
    platform: Platform,
    kit: KitRow | None,
    device: str,
    outcome: str,
    refused_by: Sequence[str],
    times: int = 1,
) -> None:
    """Count the overrides of an attempt as tried; with -1 `times`, no more."""
    if kit is None or outcome == "abandoned":
        return
    tried = kit.overrides
    if outcome == "refused" and refused_by:
        tried = tuple(at_fault(platform, kit.overrides, refused_by))
    model, well = now.device(device).model, outcome == "completed"
    store.count_tries(db, platform.id, model, kit.release, tried, well, times)


def _now_runs(context: Context, db: sqlite3.Connection, device: str, release: str, at: datetime) -> Settler:
    """Take down that a device runs a release since a time. Gives what settled it."""
    settler = Settler(context, db)
    content = settler.known.contents.number_of(db, {"os.release": release}, more_of({}, None, []))
    settler.ingest([NewReading(device, "attempt", at.isoformat(), content)], changing="os.release")
    return settler


def _correctable(context: Context, given: NewAttempt) -> Attempt:
    """The attempt that a record puts right. Raises `RefusedError`, `BadInputError` or `MissingError`."""
    wrong = get_attempt(context, given.corrects.strip().upper())
    if wrong.row.corrected_by:
        later = id_of("AT", wrong.row.corrected_by)
        raise RefusedError(f"{wrong.id} was corrected by {later}", f"Correct {later}")
    arrives = given.outcome in ARRIVED and given.device == wrong.row.device
    (ended,) = ended_attempts([wrong.row])
    with rules():
        check_correction(wrong.id, ended, wrong.row.device, arrives=arrives, runs=given.runs)
    return wrong


def device_of(context: Context, name: str) -> list[str]:
    """The device of an attempt, alone in a list; an empty list if there is no such attempt."""
    with context.database.read() as db:
        row = store.get(db, number_of("AT", name.strip().upper())) if name else None
    return [row.device] if row else []


def _correct(context: Context, db: sqlite3.Connection, actor: Actor, wrong: Attempt, number: int, runs: str) -> None:
    """Take back what a wrong attempt did: its tries, what it left to do, and the release that the device runs."""
    now, row = snapshot(context), wrong.row
    platform = now.need_sheet(row.device).platform
    if runs:
        need_release(platform, runs)
    kit = kit_store.get(db, row.kit) if row.kit else None
    _count(db, now, platform, kit, row.device, row.outcome, [n for n in row.refused_by.split(", ") if n], -1)
    by = id_of("AT", number)
    if row.outcome in ARRIVED:
        followup_store.skip_of_attempt(db, row.id, f"{by} corrects {wrong.id}.", actor.name, context.now())
        recorded = ledger_store.entries(db, None, 1000, "attempt", wrong.id)[-1].at
        followup_store.reopen(db, row.device, recorded)
    store.correct(db, row.id, number)
    if runs:
        _now_runs(context, db, row.device, runs, datetime.fromisoformat(row.ended_at) + timedelta(seconds=1))
    record(context, db, actor, "attempt corrected", "attempt", wrong.id, {"by": by, "device": row.device, "runs": runs})


def recorded_before(context: Context, given: NewAttempt) -> str:
    """The id of an attempt on the same device, with the same kit, times and outcome; empty if there is none."""
    same = {
        "device": given.device,
        "kit": number_of("KT", given.kit) or None,
        "outcome": given.outcome,
        "refused_by": ", ".join(given.refused_by),
        "seen": given.seen,
        "started_at": given.started_at.isoformat(),
        "ended_at": given.ended_at.isoformat(),
    }
    with context.database.read() as db:
        number = store.find_equal(db, same)
    return "" if number is None else id_of("AT", number)


def get_attempt(context: Context, name: str) -> Attempt:
    with context.database.read() as db:
        row = store.get(db, number_of("AT", name))
    if row is None:
        raise MissingError(f"There is no attempt {name!r}", "See them with 'doorstone attempt list'")
    return Attempt(name, row)


def list_attempts(context: Context, device: str = "") -> list[Attempt]:
    with context.database.read() as db:
        return [Attempt(id_of("AT", row.id), row) for row in store.with_corrections(db, device or None)]


class Draft(Struct, frozen=True):
    """What a next attempt on a device starts from: its number, the kit, media and tool of last time, what was met."""

    device: str
    number: int
    kit: str
    media: str
    tool_version: str
    met: tuple[str, ...]


def draft(context: Context, device: str) -> Draft:
    """What the next attempt starts from, so that it does not meet the same again."""
    snapshot(context).device(device)
    recorded = list_attempts(context, device)
    earlier = [attempt for attempt in recorded if not attempt.row.corrected_by]
    with context.database.read() as db:
        rows = kit_store.every(db, device)
    standing = kit_standings(context, rows)
    standing_kits = [id_of("KT", row.id) for row in rows if not standing[row.id].reasons]
    last = earlier[0].row if earlier else None
    met = tuple(_met(attempt) for attempt in reversed(earlier) if attempt.row.outcome != "completed")
    return Draft(
        device,
        recorded[0].row.number + 1 if recorded else 1,
        standing_kits[0] if standing_kits else "",
        last.media if last else "",
        last.tool_version if last else "",
        met,
    )


def _met(attempt: Attempt) -> str:
    row = attempt.row
    what = row.outcome.replace("-", " ") + (f" by {row.refused_by}" if row.refused_by else "")
    more = "; ".join(filter(None, (row.mismatch, row.seen)))
    return f"Try {row.number}, {row.ended_at[:10]}: {what}" + (f". {more}" if more else "")


BY = ("override", "release", "route", "model", "media", "tool")


def success_rates(context: Context, by: str, platform_id: str = "") -> dict[str, Rate]:
    """How often attempts completed, by override, release, route, model, media or tool version."""
    if by not in BY:
        raise BadInputError(f"Attempts are not counted by {by!r}", f"Use one of {', '.join(BY)}")
    now = snapshot(context)
    with context.database.read() as db:
        rows = [row for row in store.every(db, None) if not platform_id or row.platform == platform_id]
        used = {row.id: row.overrides for row in kit_store.every(db)}
    tries: list[tuple[str, bool]] = []
    for row in rows:
        if row.outcome == "abandoned":
            continue
        keys: Sequence[str] = {
            "release": [f"{row.platform} {row.release}"],
            "route": [row.route],
            "media": [row.media or "not said"],
            "tool": [row.tool_version or "not said"],
        }.get(by, [])
        if by == "model":
            keys = [now.device(row.device).model or "unread"]
        elif by == "override":
            keys = used.get(row.kit or 0, ()) or ["none"]
            if row.outcome == "refused" and row.refused_by and (sheet := now.sheets.get(row.platform)):
                keys = at_fault(sheet.platform, keys, row.refused_by.split(", ")) or ["none"]
        tries += [(key, row.outcome == "completed") for key in keys]
    return {str(key): found for key, found in rates_by(tries).items()}


def begin(
    context: Context,
    db: sqlite3.Connection,
    platform: Platform,
    view: View,
    kit: KitRow | None,
    attempt: int,
    values: Mapping[str, Any],
) -> None:
    """Write down what is to be done after an attempt that completed. What an earlier one left open falls away."""
    device = str(values["device"])
    known = {o.id: o for o in platform.overrides}
    used = [known[name] for name in kit.overrides if name in known] if kit else []
    row = platform.models.get(view.text("machine.model"))
    steps = follow_ups(
        platform,
        view,
        date.fromisoformat(str(values["ended_at"])[:10]),
        platform.release(str(values["release"])).rollback_days,
        used,
        row.patches if row and any(o.loader or "model-listed" in o.covers for o in used) else (),
        applications_on(view),
        kit.sets if kit else (),
        str(values["carry_over"]),
    )
    followup_store.skip_open(db, device, followup_store.LATER_UPGRADE, str(values["by"]), context.now())
    followup_store.add_steps(db, attempt, device, steps)
