"""Decisions on exceptions: approve all or a part, alone or as one of two, second looks, revoke, close."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.exceptions.consequences import Consequence, ConsequenceCase, consequence
from doorstone.core.exceptions.life import (
    ExceptionState,
    Move,
    approvals_needed,
    check_approver,
    excepted,
    next_state,
    stale_because,
)
from doorstone.core.exceptions.requests import device_refusals
from doorstone.core.exceptions.residual import takes_two
from doorstone.core.fixes.plan import plan_fixes
from doorstone.core.people import not_separate
from doorstone.store import kits as kit_store
from doorstone.store import people as people_store
from doorstone.store.exceptions import exceptions as store
from doorstone.store.exceptions.rows import ApprovalRow, ExceptionRow, SecondLookRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, RefusedError, rules
from doorstone.work.context.ids import id_of
from doorstone.work.exceptions.requests import (
    ExceptionView,
    check_version,
    get_exception,
    need,
    need_own,
)
from doorstone.work.snapshot.approvals import kept_conditions, stale_devices, state_of
from doorstone.work.snapshot.people import account_acts, may_decide
from doorstone.work.snapshot.requested import refusal_entries, refuse_if, requested_devices
from doorstone.work.snapshot.residual import kept_number, risk_on
from doorstone.work.snapshot.rollback import rollback_until
from doorstone.work.snapshot.snapshot import Snapshot, snapshot

NOT_WITH_THE_REST = "not approved with the rest"


class Part(Struct, frozen=True):
    """The devices and requirements that an approval is of; empty means all."""

    devices: tuple[str, ...] = ()
    requirements: tuple[str, ...] = ()


def decide(
    context: Context, actor: Actor, name: str, move: str, note: str, version: int | None, part: Part | None = None
) -> ExceptionView:
    """Approve, decline, withdraw, revoke, close or confirm. An approval rests on the findings as they are now.

    Raises `RefusedError` for what the rules forbid, `StaleEditError` if somebody was faster.
    """
    note = note.strip()
    own = False
    with context.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        if move not in set(Move):
            raise BadInputError(f"{move!r} is not a move", f"Use one of {', '.join(Move)}")
        wanted = Move(move)
        with rules():
            after = next_state(state_of(row, context.today()), wanted)
            if wanted in (Move.APPROVE, Move.CONFIRM):
                own = check_approver(
                    row.requester, row.shaped_by, {actor.name, actor.authority}, account_acts(context, db),
                    context.policy.self_approval,
                )  # fmt: skip
        if wanted is Move.WITHDRAW:
            need_own(row, actor, "withdraw it; or decline it instead")
        if wanted in (Move.DECLINE, Move.REVOKE) and len(note) < 5:
            raise BadInputError(f"To {move} an exception takes a reason", "Say in a sentence why")
        if wanted is Move.APPROVE:
            _approve(context, db, actor, row, part or Part(), note, own)
        elif wanted is Move.CONFIRM:
            _confirm(context, db, actor, row, (part or Part()).devices, note)
        else:
            store.decide(db, row.id, row.version, after, actor.name, context.now(), note, False)
            body = {"state": after.value, "note": note, "version": row.version + 1}
            _record(context, db, actor, f"exception {after}", row, body, note)
    return get_exception(context, name)


def _record(
    context: Context,
    db: sqlite3.Connection,
    actor: Actor,
    action: str,
    row: ExceptionRow,
    body: dict[str, Any],
    note: str,
) -> None:
    name = id_of("EX", row.id)
    record(context, db, actor, action, "exception", name, body, devices=row.devices)
    by = f"{actor.name}, in place of {actor.in_place_of}" if actor.in_place_of else actor.name
    words = f"{name} {action.removeprefix('exception ')} by {by}" + (f": {note}" if note else "")
    tell_people(context, db, "decision", name, words, people=(row.requester, row.owner), besides=(actor.name,))


def _approve(
    context: Context, db: sqlite3.Connection, actor: Actor, row: ExceptionRow, part: Part, note: str, own: bool
) -> None:
    now = snapshot(context)
    devices, requirements = _part(row, part, note)
    if date.fromisoformat(row.expires_on) < now.today:
        raise RefusedError(f"Its last day, {row.expires_on}, is past", "Have the requester edit the terms")
    _refuse_if_unfit(now, row, requirements, devices)
    seen = now.shown(devices, row.release, requirements)
    critical = any(device.critical for device in now.rows(devices))
    kept = kept_number(kept_conditions(row, now))
    weighed = risk_on(now, now.sheets[row.platform].platform, requirements, devices, kept)
    risky = takes_two(weighed, context.policy.risk)
    needed = max(row.approvals_needed, approvals_needed(context.policy.two_approvers, critical, risky))
    if needed != row.approvals_needed:
        store.need_approvals(db, row.id, needed)
        row = replace(row, approvals_needed=needed)
    standing, fell = _approvals_that_stand(db, now, row, actor, devices, requirements, seen)
    if standing + 1 < row.approvals_needed:
        if fell:
            store.drop_approvals(db, row.id)
        wanted = {"devices": devices, "requirements": requirements}
        store.add_approval(db, row.id, ApprovalRow(actor.name, context.now(), note, wanted, seen, actor.in_place_of))
        store.touch(db, row.id)
        body = {"note": note, "needed": row.approvals_needed, "fell_away": fell, "self_approved": own}
        _record(context, db, actor, "exception approved once", row, body, note)
        return
    out_devices = [d for d in row.devices if d not in devices]
    out_requirements = [r for r in row.requirements if r not in requirements]
    store.leave_out(db, row.id, out_devices, out_requirements, note or NOT_WITH_THE_REST)
    for device in devices:
        store.keep_shown(db, row.id, device, seen[device])
    wanted = {"devices": devices, "requirements": requirements}
    store.add_approval(db, row.id, ApprovalRow(actor.name, context.now(), note, wanted, seen, actor.in_place_of))
    store.decide(db, row.id, row.version, ExceptionState.APPROVED, actor.name, context.now(), note, own)
    body = {
        "state": "approved",
        "note": note,
        "self_approved": own,
        "left_out": [*out_devices, *out_requirements],
        "shown": seen,
        "version": row.version + 1,
    }
    _record(context, db, actor, "exception approved", row, body, note)


def _part(row: ExceptionRow, part: Part, note: str) -> tuple[list[str], list[str]]:
    devices = sorted(set(part.devices) or set(row.devices))
    requirements = sorted(set(part.requirements) or set(row.requirements))
    unknown = sorted((set(devices) - set(row.devices)) | (set(requirements) - set(row.requirements)))
    if unknown:
        raise BadInputError(f"{id_of('EX', row.id)} does not ask for {', '.join(unknown)}", "Approve what it asks for")
    whole = len(devices) == len(row.devices) and len(requirements) == len(row.requirements)
    if not whole and len(note) < 5:
        raise BadInputError("To approve a part takes a reason for the rest", "Say in a sentence why it is left out")
    return devices, requirements


def _refuse_if_unfit(now: Snapshot, row: ExceptionRow, requirements: Sequence[str], devices: Sequence[str]) -> None:
    """Raises `RefusedError` if a device can no longer have what is approved, or a condition is not kept there."""
    gathered = requested_devices(now, row.release, devices)
    refused = [entry for one in gathered for entry in device_refusals(one, requirements)]
    refuse_if(refusal_entries(refused) + _unkept(row, now, devices))


def _unkept(row: ExceptionRow, now: Snapshot, devices: Sequence[str]) -> list[ErrorEntry]:
    """Conditions that the facts show broken. An approval cannot rest on a condition that is broken from the start."""
    return [
        ErrorEntry(
            f"{device}, condition", f"“{view.kept.text}” is not kept: {measured}", "See that it is, and read it again"
        )
        for view in kept_conditions(row, now)
        for device, measured in view.devices.items()
        if device in devices
    ]


def _approvals_that_stand(
    db: sqlite3.Connection,
    now: Snapshot,
    row: ExceptionRow,
    actor: Actor,
    devices: list[str],
    requirements: list[str],
    seen: dict[str, Any],
) -> tuple[int, str]:
    """How many earlier approvals count beside this one, and whose fell away.

    One falls away once what it rested on has changed, or its person may no longer decide at the devices' sites.
    """
    count, fell = 0, []
    acts = account_acts(now.context, db)
    sites = {device.site for device in now.rows(devices)}
    for held in row.approvals:
        if held.person == actor.name:
            raise RefusedError("You have approved it already", "It waits for another approver")
        if actor.authority in (held.authority, held.person) or held.authority == actor.name:
            words = f"{held.person}, in place of {held.in_place_of}," if held.in_place_of else held.person
            raise RefusedError(f"{words} has approved it already", "It waits for another approver, not for a deputy")
        if held.in_place_of and people_store.was_removed(db, held.in_place_of, held.person):
            fell.append(held.person)
            continue
        if not_separate({held.person, held.authority}, {actor.name, actor.authority}, acts):
            words = f"{held.person} has approved it already, and your two accounts are not of separate people"
            raise RefusedError(words, "It waits for another approver")
        if not may_decide(db, held.authority, sites) or {held.person, held.authority} & set(row.shaped_by):
            fell.append(held.person)
            continue
        if held.part != {"devices": devices, "requirements": requirements}:
            raise RefusedError(f"{held.person} has approved another part of it", "Approve the same part, or decline it")
        if _same(now, row, held.shown, seen):
            count += 1
        else:
            fell.append(held.person)
    return count, ", ".join(fell)


def _same(now: Snapshot, row: ExceptionRow, before: Mapping[str, Any], after: Mapping[str, Any]) -> bool:
    """Whether two people were shown the same of the same devices."""
    specs = now.sheets[row.platform].platform.specs
    return before.keys() == after.keys() and not any(stale_because(before[d], after[d], specs) for d in before)


def _confirm(
    context: Context, db: sqlite3.Connection, actor: Actor, row: ExceptionRow, devices: Sequence[str], note: str
) -> None:
    """The second look: the approval of these devices, of all stale ones if none is named, rests on today's findings."""
    now = snapshot(context)
    stale = stale_devices(row, now)
    name = id_of("EX", row.id)
    chosen = sorted(set(devices) or set(stale))
    if not stale:
        raise RefusedError(f"Nothing has changed under {name}", "It stands as it is")
    if fresh := [device for device in chosen if device not in stale]:
        raise BadInputError(f"Nothing has changed for {', '.join(fresh)}", f"Look again at {', '.join(sorted(stale))}")
    if len(note) < 5:
        raise BadInputError("A second look takes a note", "Say in a sentence why the approval may stand")
    _refuse_if_unfit(now, row, row.requirements, chosen)
    seen = now.shown(chosen, row.release, row.requirements)
    body: dict[str, Any] = {"devices": chosen, "changes": {d: list(stale[d]) for d in chosen}, "note": note}
    look = SecondLookRow(actor.name, tuple(chosen), seen, actor.in_place_of)
    sites = {device.site for device in now.rows(chosen)}
    acts = account_acts(context, db)
    others = {
        held.person
        for held in store.second_looks(db, row.id)
        if not not_separate({held.person, held.authority}, {actor.name, actor.authority}, acts)
        and not (held.in_place_of and people_store.was_removed(db, held.in_place_of, held.person))
        and not {held.person, held.authority} & {row.requester, *row.shaped_by}
        and held.devices == look.devices
        and _same(now, row, held.shown, look.shown)
        and may_decide(db, held.authority, sites)
    }
    if len(others) + 1 < row.approvals_needed:
        store.add_second_look(db, row.id, look, context.now(), note)
        store.touch(db, row.id)
        _record(context, db, actor, "exception confirmed once", row, {**body, "needed": row.approvals_needed}, note)
        return
    for device in chosen:
        store.keep_shown(db, row.id, device, seen[device])
    store.drop_second_looks(db, row.id)
    store.touch(db, row.id)
    _record(context, db, actor, "exception confirmed", row, {**body, "with": sorted(others)}, note)


# -------------------------------------------------------------- consequences


def consequences(context: Context, name: str) -> list[Consequence]:
    """What must be done for each device once this exception does not hold, be it revoked, lapsed or stale.

    Raises `MissingError`.
    """
    now = snapshot(context)

    def look() -> list[Consequence]:
        row = need(db, name)
        return [consequence(_case(context, db, now, row, device), now.today) for device in row.devices]

    with context.database.read() as db:
        stamp = context.stamp()
        rests_on = stamp.ledger, stamp.devices, stamp.readings, now.today
        return context.cached(("consequences", name), rests_on, look)


def _case(context: Context, db: sqlite3.Connection, now: Snapshot, row: ExceptionRow, device: str) -> ConsequenceCase:
    kits = [id_of("KT", kit.id) for kit in kit_store.every(db, device) if id_of("EX", row.id) in kit.exceptions]
    sheet = now.sheet_of(device)
    runs = now.view(device).text("os.release")
    if sheet is None or not sheet.platform.has(runs):
        return ConsequenceCase(device, runs or "an unread release", (), (), kits, None)
    platform = sheet.platform
    reaches = now.exception(id_of("EX", row.id)).reaches(platform, runs)
    besides = [e for e in now.exceptions_of(device) if e.id != id_of("EX", row.id)]
    others = excepted(besides, platform, runs, now.today)
    assessment = now.assessment(device, runs)
    failing = {f.requirement.id for f in assessment.unmet()}
    unmet = sorted(failing & set(row.requirements) - others) if reaches else []
    plan = plan_fixes(assessment, now.view(device))
    fixes = [step.fix.title for step in plan.steps if set(step.meets) & set(unmet)]
    return ConsequenceCase(device, runs, unmet, fixes, kits, rollback_until(db, now, device))
