"""What is due: gathered from exceptions, attempts and observations; for everybody or for one person."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from datetime import date, timedelta

from doorstone.core.due import Due, DueKind, in_order
from doorstone.core.exceptions.conditions import ConditionState
from doorstone.core.exceptions.life import ExceptionState
from doorstone.core.platforms.platform import UpdateClass
from doorstone.core.updates import Observation, standing
from doorstone.store import attempts as attempt_store
from doorstone.store import exceptions as store
from doorstone.store import followups as after_store
from doorstone.store import people as people_store
from doorstone.store.exceptions import ExceptionRow
from doorstone.store.people import PersonRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.context.passwords import digest_of
from doorstone.work.due.endings import endings
from doorstone.work.due.notices import noticed
from doorstone.work.snapshot.approvals import kept_conditions, stale_devices
from doorstone.work.snapshot.rollback import rollback_until
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.uncovered import by_exception

DECIDERS = frozenset({"approver", "administrator"})
HANDS = frozenset({"technician", "administrator"})


def due_list(context: Context, person: str = "") -> list[Due]:
    """Everything that is due, by day; with a `person`, what concerns them where their roles reach."""
    now = snapshot(context)
    with context.database.read() as db:
        found = in_order(_every(context, db, now))
        who = people_store.get(db, person) if person else None
    if not person:
        return found
    return [due for due in found if who is not None and _concerns(due, who)]


def of_calendar(context: Context, secret: str) -> tuple[str, list[Due]] | None:
    """The person behind the secret of a calendar address, and what is due for them; None if nobody is."""
    with context.database.read() as db:
        row = people_store.by_calendar(db, digest_of(secret))
    return (row.name, due_list(context, row.name)) if row is not None and row.active else None


def _concerns(due: Due, who: PersonRow) -> bool:
    here = {who.role} | {role for site, role in who.sites.items() if not due.sites or site in due.sites}
    return due.concerns(who.name, here)


def _every(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    active = {p.name for p in people_store.every(db) if p.active}
    for row in store.standing(db):
        sites = frozenset(device.site for device in now.rows(row.devices))
        if row.state == ExceptionState.REQUESTED:
            yield _requested(context, row, sites)
        else:
            yield from _approved(context, now, row, sites)
        if row.owner not in active:
            words = f"{_named(row)}: its owner {row.owner} has left; make somebody else answer for it"
            yield Due(DueKind.OWNER, now.today, "exception", id_of("EX", row.id), words, roles=DECIDERS, sites=sites)
    yield from _follow_ups(context, db, now)
    yield from _rollbacks(db, now)
    yield from _surprises(context, db, now)
    yield from _checks(context, db, now)
    yield from endings(context, db, now)
    yield from noticed(context, db, now)


def _named(row: ExceptionRow) -> str:
    count = len(row.devices)
    return f"{id_of('EX', row.id)} for {row.devices[0] if count == 1 else f'{count} devices'} on {row.release}"


def _requested(context: Context, row: ExceptionRow, sites: frozenset[str]) -> Due:
    asked_on = date.fromisoformat(row.requested_at[:10]) + timedelta(days=context.policy.decide_days)
    name = id_of("EX", row.id)
    if row.asked_back:
        question = next((c.text for c in reversed(row.comments) if c.kind == "question"), "")
        words = f"{_named(row)} waits for an answer: {question}"
        return Due(DueKind.ANSWER, asked_on, "exception", name, words, people=frozenset({row.requester}))
    own = frozenset() if context.policy.self_approval else frozenset({row.requester, *row.shaped_by})
    gone = own | {approval.person for approval in row.approvals}
    more = f" (approval {len(row.approvals) + 1} of {row.approvals_needed})" if row.approvals_needed > 1 else ""
    words = f"{_named(row)} waits for a decision{more}, asked by {row.requester}"
    return Due(DueKind.REQUEST, asked_on, "exception", name, words, roles=DECIDERS, not_people=gone, sites=sites)


def _approved(context: Context, now: Snapshot, row: ExceptionRow, sites: frozenset[str]) -> Iterator[Due]:
    name, owner = id_of("EX", row.id), frozenset({row.owner})
    ahead = now.today + timedelta(days=context.policy.ahead_days)
    review, expiry = date.fromisoformat(row.review_on), date.fromisoformat(row.expires_on)
    stale = stale_devices(row, now)
    if stale:
        words = f"{_named(row)} is stale for {', '.join(sorted(stale)[:3])}: look again"
        yield Due(DueKind.SECOND_LOOK, now.today, "exception", name, words, roles=DECIDERS, sites=sites)
    if review <= ahead and review < expiry:
        words = f"{_named(row)} is to be reviewed: does it still need to be, and is it still true?"
        yield Due(DueKind.REVIEW, review, "exception", name, words, people=owner)
    if expiry <= ahead and row.renewed_by is None:
        words = f"{_named(row)} lapses after this day: renew it, or see what must be done"
        yield Due(DueKind.LAPSE, expiry, "exception", name, words, people=owner)
    for view in kept_conditions(row, now):
        kept = view.kept
        if kept.due_on is not None and (kept.due_on <= ahead or kept.word is ConditionState.OVERDUE):
            words = f"{_named(row)}: attest that “{kept.text}” is kept"
            yield Due(DueKind.CONDITION, kept.due_on, "exception", name, words, people=owner)


def _rollbacks(db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    for device in sorted({attempt.device for attempt in attempt_store.every(db, None)}):
        until = rollback_until(db, now, device)
        if until is not None and until >= now.today:
            row = now.device(device)
            words = f"{device} can go back from {row.running_release} through this day"
            sites = frozenset({row.site})
            yield Due(DueKind.ROLLBACK, until, "device", device, words, roles=HANDS, sites=sites)


def _follow_ups(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """What an upgrade left to do; what a device is not finished without is due at once."""
    ahead = now.today + timedelta(days=context.policy.ahead_days)
    for step in after_store.open_until(db, ahead.isoformat()):
        sites = frozenset({now.device(step.device).site})
        words = f"{step.device}: {step.title}" + (" (the device is not finished without it)" if step.blocking else "")
        on = date.fromisoformat(step.due_on)
        name = id_of("FU", step.id)
        yield Due(DueKind.FOLLOW_UP, on, "device", step.device, words, roles=HANDS, sites=sites, part=name)


def _surprises(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """Updates that come, or stay away, otherwise than the sheet has it."""
    seen: dict[str, list[Observation]] = {}
    for o in attempt_store.observations(db, None):
        day = date.fromisoformat(o.seen_on)
        if day <= now.today and now.today - day <= timedelta(days=context.policy.check_every_days):
            one = Observation(day, UpdateClass(o.update_class), o.result, o.reason, o.source, o.detail)
            seen.setdefault(o.device, []).append(one)
    for device, held in sorted(seen.items()):
        row, sheet = now.device(device), now.sheet_of(device)
        if sheet is None or not sheet.platform.has(row.running_release):
            continue
        assessment = now.assessment(device, row.running_release)
        every = context.policy.check_every_days
        for found in standing(sheet.platform, assessment, held, now.today, every, row.edition):
            if found.compared in ("better", "worse") and found.observed is not None:
                kind = found.update_class
                words = f"{device}: {kind} updates are {found.compared} than the sheet has it ({found.expected})"
                on, sites = found.observed.seen_on, frozenset({row.site})
                yield Due(DueKind.SURPRISE, on, "device", device, words, roles=HANDS, sites=sites, part=kind.value)


def _checks(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """A device that runs a release by exception is looked at every so many days."""
    for device, last in sorted(_last_seen(db, by_exception(db, now)).items()):
        row = now.device(device)
        on = last + timedelta(days=context.policy.check_every_days)
        if on <= now.today + timedelta(days=context.policy.ahead_days):
            words = f"{device} runs {row.running_release} by exception: see which updates arrive and what is offered"
            yield Due(DueKind.CHECK, on, "device", device, words, roles=HANDS, sites=frozenset({row.site}))


def _last_seen(db: sqlite3.Connection, since: Iterable[tuple[str, date]]) -> dict[str, date]:
    found: dict[str, date] = {}
    for device, start in since:
        seen = [date.fromisoformat(o.seen_on) for o in attempt_store.observations(db, device)]
        found[device] = max([start, *seen])
    return found
