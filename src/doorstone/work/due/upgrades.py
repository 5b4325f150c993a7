"""What upgrades leave due: gathered from attempts, follow-ups, observations, fixes and verifications."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, timedelta
from itertools import chain

from doorstone.core.attempts.outcomes import AttemptOutcome
from doorstone.core.due.items import Due, DueDevice
from doorstone.core.due.upgrades import (
    LastAttempt,
    OpenFollowUp,
    attempt_due,
    begun_by,
    check_due,
    drift_due,
    first_days,
    fix_due,
    follow_up_due,
    rollback_due,
    surprises,
)
from doorstone.core.fixes.results import FixWord
from doorstone.core.platforms.platform import Platform
from doorstone.core.updates import Observation, standing
from doorstone.store import attempts as attempt_store
from doorstone.store import followups as followup_store
from doorstone.store import kits as kit_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.fix_results import latest_fixes
from doorstone.work.snapshot.kit_standing import kit_standings
from doorstone.work.snapshot.observations import observation_of
from doorstone.work.snapshot.rollback import rollback_until
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.uncovered import by_exception


def upgrade_items(
    context: Context, db: sqlite3.Connection, now: Snapshot, uncovered: Mapping[str, date],
    approved: Sequence[ExceptionRow],
) -> Iterator[Due]:  # fmt: skip
    """What upgrades leave due; `uncovered` are devices that still run by an exception that has ended, since when.

    `approved` are the exceptions that stand.
    """
    ahead = now.today + timedelta(days=context.policy.ahead_days)
    for step in followup_store.open_until(db, ahead.isoformat()):
        device, on = _device(now, step.device), date.fromisoformat(step.due_on)
        yield follow_up_due(OpenFollowUp(id_of("FU", step.id), device, step.title, step.blocking, on))
    longest = max((r.rollback_days for sheet in now.sheets.values() for r in sheet.platform.releases), default=0)
    for name in attempt_store.devices_since(db, (now.today - timedelta(days=longest)).isoformat()):
        until = rollback_until(db, now, name)
        if until is not None and until >= now.today:
            yield rollback_due(_device(now, name), now.device(name).running_release, until)
    yield from _observed(context, db, now)
    every = context.policy.check_every_days
    last = begun_by(every, ahead)
    running = first_days(chain(uncovered.items(), by_exception(now, approved, last)), last)
    seen_on = attempt_store.seen_on(db, running)
    for row in sorted(now.rows_of_excepted(running), key=lambda row: row.id):
        device, permitted = DueDevice(row.id, row.site), row.id not in uncovered
        seen = seen_on.get(row.id, ())
        if due := check_due(device, row.running_release, running[row.id], seen, every, ahead, permitted=permitted):
            yield due
    for platform in sorted(now.sheets):
        yield from _attempts(db, now, now.sheets[platform].platform)
    for fix in latest_fixes(now):
        if fix.word in (FixWord.FAILED, FixWord.NOT_SEEN):
            on = date.fromisoformat(fix.row.done_at[:10])
            yield fix_due(fix.id, _device(now, fix.row.device), fix.row.title, fix.result, on)
    drifting = list(followup_store.not_right(db))
    kits = [kit for number in {one.kit for one in drifting} if (kit := kit_store.get(db, number)) is not None]
    valid = {number for number, found in kit_standings(context, kits).items() if not found.reasons}
    for drifted in drifting:
        wrong = [f"{s['section']}/{s['name']}".lstrip("/") + f" {s['state']}" for s in drifted.settings
                 if s["state"] != "right"]  # fmt: skip
        yield drift_due(
            id_of("KT", drifted.kit),
            _device(now, drifted.device),
            wrong,
            date.fromisoformat(drifted.at[:10]),
            valid=drifted.kit in valid,
        )


def _device(now: Snapshot, name: str) -> DueDevice:
    return DueDevice(name, now.device(name).site)


def _observed(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    every = context.policy.check_every_days
    seen: dict[str, list[Observation]] = {}
    for row in attempt_store.observations(db, None):
        one = observation_of(row)
        if timedelta(0) <= now.today - one.seen_on <= timedelta(days=every):
            seen.setdefault(row.device, []).append(one)
    for name, held in sorted(seen.items()):
        device, sheet = now.device(name), now.sheet_of(name)
        if sheet is not None and sheet.platform.has(device.running_release):
            assessment = now.assessment(name, device.running_release)
            found = standing(sheet.platform, assessment, held, now.today, every, device.edition)
            yield from surprises(_device(now, name), found)


def _attempts(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Attempts that ended otherwise than the sheet has it."""
    decided = {(d.requirement, d.release): d.at.isoformat() for d in now.decisions_for(platform)}
    for name in attempt_store.wrong_devices(db, platform.id):
        last = attempt_store.every(db, name)[0]
        kit = kit_store.overrides_of(db, [last.kit]).get(last.kit, ()) if last.kit is not None else ()
        due = attempt_due(
            platform,
            LastAttempt(
                id=id_of("AT", last.id),
                device=_device(now, name),
                release=last.release,
                outcome=AttemptOutcome(last.outcome),
                ended_on=date.fromisoformat(last.ended_at[:10]),
                refused_by=[r for r in last.refused_by.split(", ") if r],
                seen=last.seen,
                overrides=kit,
                undecided=[r for r in last.unmet if decided.get((r, last.release), "") < last.ended_at],
            ),
        )
        if due:
            yield due
