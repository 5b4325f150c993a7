"""Exceptions: asking for one, editing it, deciding on it, and whether its approval still stands."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import date

from doorstone.core.exceptions import (
    ExceptionState,
    Move,
    MoveRefusedError,
    check_approver,
    check_dates,
    next_state,
    refusals,
    shown,
    stale_because,
)
from doorstone.core.sorting import assess
from doorstone.store import exceptions as store
from doorstone.store.exceptions import ExceptionRow
from doorstone.work.desk import RISK_STATEMENT, Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError, StaleEditError, Trouble
from doorstone.work.picture import Picture, picture
from doorstone.work.sheets import need_release


@dataclass(frozen=True, slots=True)
class ExceptionTermsGiven:
    """The part of an exception that can be edited while it is requested."""

    reason: str
    conditions: str
    owner: str
    start_on: date
    expires_on: date
    review_on: date


@dataclass(frozen=True, slots=True)
class ExceptionAsked:
    release: str
    up_to: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    risk_acknowledged: str
    terms: ExceptionTermsGiven


@dataclass(frozen=True, slots=True)
class ExceptionView:
    """An exception as it stands today. `stale` maps device -> what changed since the approval."""

    id: str
    row: ExceptionRow
    state: str
    in_force: bool
    stale: Mapping[str, Sequence[str]]
    moves: tuple[str, ...]


def request(desk: Desk, actor: Actor, asked: ExceptionAsked) -> ExceptionView:
    """Ask for an exception. Raises `RefusedError` with a trouble per device and requirement that cannot be had."""
    if asked.risk_acknowledged != RISK_STATEMENT:
        raise BadInputError("The risk statement is not acknowledged word for word", "Send its text back unchanged")
    if not asked.devices or not asked.requirements:
        raise BadInputError("An exception names devices and requirements", "Name at least one of each")
    _check_terms(desk, asked.terms)
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_exception(desk, before)
        now = picture(desk)
        platform = _one_platform(now, asked)
        _refuse_if(_troubles(now, asked.release, asked.requirements, asked.devices))
        values = {
            **_stored(asked.terms),
            "platform": platform,
            "release": asked.release,
            "up_to": int(asked.up_to),
            "risk_text": RISK_STATEMENT,
            "acknowledged_by": actor.name,
            "requester": actor.name,
            "requested_at": desk.now(),
        }
        number = store.add(db, values, sorted(set(asked.requirements)), sorted(set(asked.devices)))
        body = {**values, "requirements": sorted(set(asked.requirements)), "devices": sorted(set(asked.devices))}
        record(desk, db, actor, "exception requested", "exception", id_of("EX", number), body, creates=True)
    return get_exception(desk, id_of("EX", number))


def edit(desk: Desk, actor: Actor, name: str, version: int, given: ExceptionTermsGiven) -> ExceptionView:
    """Edit the terms while it is requested. Raises `StaleEditError` if somebody was faster."""
    _check_terms(desk, given)
    with desk.database.write() as db:
        row = _need(db, name)
        if row.version != version:
            raise _stale(name, version, row.version)
        if row.state != ExceptionState.REQUESTED:
            raise RefusedError(f"{name} is {row.state}; its terms stand", "Request a new exception instead")
        if actor.name != row.requester and actor.role != "administrator":
            raise RefusedError(f"{name} was requested by {row.requester}", "Ask them to edit it")
        store.edit(db, row.id, version, _stored(given))
        record(desk, db, actor, "exception edited", "exception", name, _stored(given))
    return get_exception(desk, name)


def decide(desk: Desk, actor: Actor, name: str, move: str, note: str, version: int | None) -> ExceptionView:
    """Approve, decline, withdraw, revoke or close. An approval rests on the findings as they are now."""
    with desk.database.write() as db:
        row = _need(db, name)
        if version is not None and row.version != version:
            raise _stale(name, version, row.version)
        try:
            after = next_state(ExceptionState(_state(row, desk.today())), Move(move))
            if move == Move.APPROVE:
                check_approver(row.requester, actor.name, desk.policy.self_approval)
        except MoveRefusedError as error:
            raise RefusedError(error.reason, error.mend) from error
        if move == Move.WITHDRAW and actor.name != row.requester and actor.role != "administrator":
            raise RefusedError(f"{name} was requested by {row.requester}", "Only they withdraw it; decline it instead")
        if move in (Move.DECLINE, Move.REVOKE) and len(note.strip()) < 5:
            raise BadInputError(f"To {move} an exception takes a reason", "Say in a sentence why")
        if move == Move.APPROVE:
            now = picture(desk)
            _refuse_if(_troubles(now, row.release, row.requirements, row.devices))
            for device in row.devices:
                picture_shown = shown(now.assessment(device, row.release), row.requirements)
                store.keep_shown(db, row.id, device, picture_shown)
        own = move == Move.APPROVE and actor.name == row.requester
        store.decide(db, row.id, row.version, after, actor.name, desk.now(), note.strip(), own)
        body = {"state": after.value, "note": note.strip(), "self_approved": own, "version": row.version + 1}
        record(desk, db, actor, f"exception {after}", "exception", name, body)
    return get_exception(desk, name)


def get_exception(desk: Desk, name: str) -> ExceptionView:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        return _view(desk, _need(db, name), picture(desk))


def list_exceptions(desk: Desk, state: str = "", device: str = "") -> list[ExceptionView]:
    """Newest first, optionally of one state or naming one device."""
    now = picture(desk)
    with desk.database.read() as db:
        rows = store.of_device(db, device) if device else store.every(db)
    views = [_view(desk, row, now) for row in rows]
    return [view for view in views if not state or view.state == state]


def _need(db: sqlite3.Connection, name: str) -> ExceptionRow:
    row = store.get(db, number_of("EX", name))
    if row is None:
        raise MissingError(f"There is no exception {name!r}", "See them with 'doorstone exception list'")
    return row


def _state(row: ExceptionRow, today: date) -> str:
    """An approved exception past its expiry day has lapsed."""
    lapsed = row.state == ExceptionState.APPROVED and today > date.fromisoformat(row.expires_on)
    return ExceptionState.LAPSED.value if lapsed else row.state


def _view(desk: Desk, row: ExceptionRow, now: Picture) -> ExceptionView:
    state = _state(row, now.today)
    moves = []
    for move in Move:
        try:
            next_state(ExceptionState(state), move)
            moves.append(move.value)
        except MoveRefusedError:
            continue
    in_force = state == ExceptionState.APPROVED and date.fromisoformat(row.start_on) <= now.today
    return ExceptionView(id_of("EX", row.id), row, state, in_force, stale_devices(row, now), tuple(moves))


def stale_devices(row: ExceptionRow, now: Picture) -> dict[str, list[str]]:
    """The devices whose findings changed since the approval, each with what changed; the others still stand."""
    if row.state != ExceptionState.APPROVED:
        return {}
    changed = {}
    for device, before in row.shown.items():
        sheet = now.sheet_of(device)
        if sheet is None or not sheet.platform.has(row.release):
            changed[device] = ["its platform or release is no longer in the sheet"]
            continue
        if _at_or_past(now, device, row.release):
            continue
        decisions = now.decisions_for(sheet.platform)
        after = shown(assess(sheet.platform, row.release, now.views[device], decisions, device), row.requirements)
        if because := stale_because(before, after):
            changed[device] = because
    return changed


def _at_or_past(now: Picture, device: str, release: str) -> bool:
    """Whether the device runs a later release than the exception speaks of: then it has served."""
    sheet = now.need_sheet(device)
    runs = now.views[device].text("os.release")
    return sheet.platform.has(runs) and sheet.platform.index(runs) > sheet.platform.index(release)


def _one_platform(now: Picture, asked: ExceptionAsked) -> str:
    platforms = set()
    for device in asked.devices:
        now.device(device)
        sheet = now.need_sheet(device)
        platforms.add(sheet.platform.id)
        need_release(sheet.platform, asked.release)
    if len(platforms) != 1:
        raise BadInputError("The devices are of several platforms", "Ask for one exception per platform")
    return platforms.pop()


def _troubles(now: Picture, release: str, requirements: Sequence[str], devices: Sequence[str]) -> list[Trouble]:
    found = []
    for device in sorted(set(devices)):
        for refusal in refusals(device, now.assessment(device, release), set(requirements)):
            found.append(Trouble(f"{refusal.device}, {refusal.requirement}", refusal.reason, refusal.mend))
    return found


def _refuse_if(troubles: Sequence[Trouble]) -> None:
    if troubles:
        devices = len({trouble.place.split(",")[0] for trouble in troubles})
        count = "1 device" if devices == 1 else f"{devices} devices"
        raise RefusedError(f"No exception can be had for {count} as asked", "Leave out or mend each named", troubles)


def _check_terms(desk: Desk, given: ExceptionTermsGiven) -> None:
    if len(given.reason.strip()) < 10:
        raise BadInputError("The reason is too short", "Say in a sentence why the device cannot be fixed or replaced")
    if not given.owner.strip():
        raise BadInputError("An exception has an owner", "Name the person who answers for it")
    try:
        check_dates(given.start_on, given.expires_on, given.review_on, desk.policy.most_days)
    except MoveRefusedError as error:
        raise BadInputError(error.reason, error.mend) from error
    if given.expires_on < desk.today():
        raise BadInputError(f"The expiry {given.expires_on} is past", "Choose a day from today on")


def _stored(given: ExceptionTermsGiven) -> dict[str, str]:
    return {name: value if isinstance(value, str) else value.isoformat() for name, value in asdict(given).items()}


def _stale(name: str, sent: int, held: int) -> StaleEditError:
    detail = f"{name} was changed in the meantime: you saw version {sent}, it is at version {held}"
    return StaleEditError(detail, "Load it again, look at what changed, and repeat your edit")
