"""Exceptions: request one, edit it, look at it, list them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from doorstone.core.conditions import ConditionError, parse
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import left_alone
from doorstone.core.exceptions.life import (
    ENDED,
    ExceptionState,
    Involved,
    Move,
    allowed_actions,
    approvals_needed,
    possible_moves,
    refusals,
)
from doorstone.core.exceptions.residual import ResidualRisk, takes_two
from doorstone.core.exceptions.terms import (
    check_attachment,
    check_attested,
    check_dates,
    check_expiry,
    check_reason,
    check_renewal,
    check_required,
    listed,
)
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import State
from doorstone.store import exceptions as store
from doorstone.store.exceptions import ConditionRow, ExceptionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError, StaleEditError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import KeptView, kept_conditions, stale_devices, state_of
from doorstone.work.snapshot.people import need_active
from doorstone.work.snapshot.residual import residual_of, risk_on
from doorstone.work.snapshot.selecting import choose_devices
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.uncovered import still_running

MOST_DEVICES = 5000


@dataclass(frozen=True, slots=True)
class NewCondition:
    """A condition to keep: data of a condition on facts, or words to be attested by a day (the review, if none)."""

    text: str = ""
    fact_condition: Mapping[str, Any] | None = None
    due_on: date | None = None
    every_days: int | None = None


@dataclass(frozen=True, slots=True)
class NewAttachment:
    title: str
    link: str
    sha256: str = ""


@dataclass(frozen=True, slots=True)
class NewTerms:
    """The part of an exception that can be edited while it is requested."""

    reason: str
    conditions: tuple[NewCondition, ...]
    owner: str
    start_on: date
    expires_on: date
    review_on: date


@dataclass(frozen=True, slots=True)
class NewException:
    """What is asked for: `devices` by name, and those of a saved `selection`. `renews` names a predecessor.

    With `go_on`, devices that cannot have it are left out and the rest is asked for.
    """

    release: str
    up_to: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    risk_acknowledged: str
    terms: NewTerms
    notice_acknowledged: str = ""
    selection: str = ""
    platform: str = ""
    go_on: bool = False
    renews: str = ""
    attachments: tuple[NewAttachment, ...] = ()


@dataclass(frozen=True, slots=True)
class Risk:
    """What is acknowledged word for word: our statement, in its version, and the vendor's notice if there is one."""

    version: int
    text: str
    notice: str


@dataclass(frozen=True, slots=True)
class ExceptionView:
    """An exception as it stands today. `stale` maps device -> what changed since the approval."""

    id: str
    row: ExceptionRow
    state: str
    in_force: bool
    stale: Mapping[str, Sequence[str]]
    moves: tuple[str, ...]
    kept: tuple[KeptView, ...]
    renews: str
    renewed_by: str
    residual: ResidualRisk
    refused: tuple[ErrorEntry, ...] = ()


@dataclass(frozen=True, slots=True)
class Checked:
    """Which devices can have what is asked, and an error for each requirement of each that cannot.

    `terms` are what else a request as it stands would be refused for: dates, reason, owner, conditions, renewal.
    """

    platform: Platform
    devices: tuple[str, ...]
    refused: tuple[ErrorEntry, ...] = field(default=())
    terms: tuple[ErrorEntry, ...] = field(default=())


def risk(context: Context, platform: Platform | None = None, release: str = "") -> Risk:
    """What whoever asks for an exception acknowledges today."""
    with context.database.read() as db:
        version, text = store.risk(db)
    return Risk(version, text, platform.release(release).notice if platform and platform.has(release) else "")


def change_risk(context: Context, actor: Actor, text: str) -> Risk:
    """Put a new version of the risk statement in force; what was acknowledged before stays as it was."""
    if not 40 <= len(text.strip()) <= 4000:
        raise BadInputError("The risk statement is too short or too long", "Use 40 to 4,000 characters")
    with context.database.write() as db:
        version = store.add_risk(db, text.strip(), actor.name, context.now())
        record(context, db, actor, "risk statement changed", "risk", str(version), {"text": text.strip()})
    return risk(context)


def check(context: Context, asked: NewException) -> Checked:
    """What a request would meet, device by device and in its terms; nothing is written.

    Only whether the risk is acknowledged is not asked: whoever looks first has not done so yet.
    """
    found = _check(context, snapshot(context), asked)
    terms = []
    with context.database.read() as db:
        for place, look in (
            ("terms", lambda: _check_terms(context, db, found.platform, asked.terms, bool(asked.attachments))),
            ("attachments", lambda: _check_attachments(asked.attachments)),
            ("renews", lambda: _renews(db, asked, found)),
        ):
            try:
                look()
            except (BadInputError, MissingError, RefusedError) as error:
                terms.append(ErrorEntry(place, error.detail, error.hint))
    return replace(found, terms=tuple(terms))


def request(context: Context, actor: Actor, asked: NewException) -> ExceptionView:
    """Ask for an exception. Raises `RefusedError` with an error per device and requirement that cannot be had."""
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_exception(context, before)
        now = snapshot(context)
        found = _check(context, now, asked)
        if found.refused and not (asked.go_on and found.devices):
            refuse_if(found.refused)
        known = risk(context, found.platform, asked.release)
        _check_acknowledged(asked, known)
        conditions = _check_terms(context, db, found.platform, asked.terms, bool(asked.attachments))
        _check_attachments(asked.attachments)
        renews = _renews(db, asked, found)
        critical = any(device.critical for device in now.rows(found.devices))
        weighed = risk_on(now, found.platform, asked.requirements, found.devices, 0)
        risky = takes_two(weighed, context.policy.risk)
        values = {
            **_stored(asked.terms),
            "platform": found.platform.id,
            "release": asked.release,
            "up_to": int(asked.up_to),
            "risk_version": known.version,
            "risk_text": known.text,
            "notice_text": known.notice,
            "acknowledged_by": actor.name,
            "requester": actor.name,
            "requested_at": context.now(),
            "approvals_needed": approvals_needed(context.policy.two_approvers, critical, risky),
            "renews": renews.id if renews else None,
        }
        requirements = sorted(set(asked.requirements))
        number = store.add(db, values, requirements, found.devices)
        store.set_conditions(db, number, conditions)
        for one in asked.attachments:
            store.attach(db, number, one.title, one.link, one.sha256, actor.name, context.now())
        name = id_of("EX", number)
        body = {
            **values,
            "requirements": requirements,
            "devices": list(found.devices),
            "conditions": [c.text for c in conditions],
            "attachments": [{"title": a.title, "link": a.link, "sha256": a.sha256} for a in asked.attachments],
            "renews": asked.renews,
        }
        record(context, db, actor, "exception requested", "exception", name, body, creates=True)
        words = f"{actor.name} asks for {name}: {', '.join(requirements)} on {listed(found.devices)}"
        tell_people(context, db, "request", name, words, roles=("approver", "administrator"), besides=(actor.name,))
    made = get_exception(context, name)
    return ExceptionView(**{**_fields(made), "refused": found.refused})


def _fields(view: ExceptionView) -> dict[str, Any]:
    return {name: getattr(view, name) for name in ExceptionView.__slots__}


def _check(context: Context, now: Snapshot, asked: NewException) -> Checked:
    devices = devices_asked(context, now, asked)
    if not devices or not asked.requirements:
        raise BadInputError("An exception names devices and requirements", "Name at least one of each")
    if len(devices) > MOST_DEVICES:
        raise BadInputError(f"{len(devices):,} devices are too many for one", f"Ask for {MOST_DEVICES:,} at a time")
    platform = now.one_platform(devices, "Ask for one exception per platform")
    need_release(platform, asked.release)
    refused = refusal_entries(now, asked.release, asked.requirements, devices)
    out = {entry.device for entry in refused}
    return Checked(platform, tuple(d for d in devices if d not in out), tuple(refused))


def devices_asked(context: Context, now: Snapshot, asked: NewException) -> list[str]:
    """The devices that a request names, those of its selection included, by id."""
    devices = set(asked.devices)
    if asked.selection:
        platform = asked.platform or _platform_of_selection(context, asked.selection)
        chosen = choose_devices(context, platform, asked.release, DeviceFilter(), asked.selection)
        devices |= {row.id for row, _ in now.find(chosen.platform, chosen.release, chosen.where)}
    return sorted(devices)


def _platform_of_selection(context: Context, selection: str) -> str:
    from doorstone.work.snapshot.selecting import get_selection

    return get_selection(context, selection).platform


def _check_acknowledged(asked: NewException, known: Risk) -> None:
    if asked.risk_acknowledged != known.text:
        raise BadInputError("The risk statement is not acknowledged word for word", "Send its text back unchanged")
    if known.notice and asked.notice_acknowledged != known.notice:
        raise BadInputError(
            f"The vendor's notice of {asked.release} is not acknowledged word for word", "Send its text back unchanged"
        )


def _renews(db: sqlite3.Connection, asked: NewException, found: Checked) -> ExceptionRow | None:
    if not asked.renews:
        return None
    old = need(db, asked.renews)
    if old.platform != found.platform.id:
        raise BadInputError(f"{asked.renews} is for {old.platform}", "Renew it for devices of that platform")
    renewed_by = id_of("EX", old.renewed_by) if old.renewed_by is not None else ""
    with rules():
        check_renewal(asked.renews, ExceptionState(old.state), renewed_by, found.devices, old.devices)
    return old


def edit(context: Context, actor: Actor, name: str, version: int, given: NewTerms) -> ExceptionView:
    """Edit the terms while it is requested; approvals on the way fall away. Raises `StaleEditError`."""
    with context.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        if row.state != ExceptionState.REQUESTED:
            raise RefusedError(f"{name} is {row.state}; its terms stand", "Request a new exception instead")
        need_own(row, actor, "edit it")
        platform = snapshot(context).sheets[row.platform].platform
        conditions = _check_terms(context, db, platform, given, bool(row.attachments))
        store.edit(db, row.id, version, _stored(given))
        store.set_conditions(db, row.id, conditions)
        if actor.name != row.requester:
            store.shape(db, row.id, {*row.shaped_by, actor.name})
        body = {**_stored(given), "conditions": [c.text for c in conditions]}
        record(context, db, actor, "exception edited", "exception", name, body, devices=row.devices)
    return get_exception(context, name)


def get_exception(context: Context, name: str) -> ExceptionView:
    """Raises `MissingError`."""
    now = snapshot(context)
    with context.database.read() as db:
        return _view(need(db, name), now)


def list_exceptions(
    context: Context, state: str = "", device: str = "", owner: str = "", *, by_risk: bool = False
) -> list[ExceptionView]:
    """Newest first; or those of most residual risk, what has ended last.

    Optionally of one state, naming one device, or owned by one person.
    """
    with context.database.read() as db:
        now, stamp = snapshot(context), context.stamp()
        if device:
            views = [_view(row, now) for row in store.of_device(db, device)]
        else:
            depends_on = (stamp.ledger, stamp.devices, stamp.readings, now.today)
            views = context.cached(("exceptions",), depends_on, lambda: [_view(row, now) for row in store.every(db)])
    found = [v for v in views if (not state or v.state == state) and (not owner or v.row.owner == owner)]
    return sorted(found, key=lambda view: (view.state in ENDED, -view.residual.points)) if by_risk else found


def need(db: sqlite3.Connection, name: str) -> ExceptionRow:
    row = store.get(db, number_of("EX", name))
    if row is None:
        raise MissingError(f"There is no exception {name!r}", "See them with 'doorstone exception list'")
    return row


def check_version(row: ExceptionRow, name: str, version: int | None) -> None:
    """Raises `StaleEditError` unless `version`, if given, is the one that is held."""
    if version is not None and row.version != version:
        detail = f"{name} was changed in the meantime: you saw version {version}, it is at version {row.version}"
        raise StaleEditError(detail, "Load it again, look at what changed, and repeat your edit")


def actions_of(context: Context, actor: Actor, view: ExceptionView) -> tuple[str, ...]:
    """What an actor may do with an exception now, in the role that they act in."""
    row = view.row
    who = Involved(
        row.requester,
        row.owner,
        frozenset(row.shaped_by),
        frozenset(name for one in row.approvals for name in (one.person, one.authority)),
        row.asked_back,
        row.renewed_by is not None,
        bool(row.conditions and still_running(snapshot(context), row)),
    )
    state = ExceptionState(view.state)
    return allowed_actions(
        state, view.moves, actor.authority, actor.role, who, context.policy.self_approval, deputy=actor.name
    )


def need_own(row: ExceptionRow, actor: Actor, deed: str) -> None:
    if actor.authority != row.requester and actor.role != "administrator":
        raise RefusedError(f"{id_of('EX', row.id)} was requested by {row.requester}", f"Ask them to {deed}")


def _view(row: ExceptionRow, now: Snapshot) -> ExceptionView:
    state = state_of(row, now.today)
    in_force = state == ExceptionState.APPROVED and date.fromisoformat(row.start_on) <= now.today
    kept = kept_conditions(row, now)
    stale = stale_devices(row, now)
    moves = [m for m in possible_moves(ExceptionState(state)) if m is not Move.CONFIRM or stale]
    return ExceptionView(
        id_of("EX", row.id),
        row,
        state,
        in_force,
        stale,
        tuple(move.value for move in moves),
        kept,
        id_of("EX", row.renews) if row.renews else "",
        id_of("EX", row.renewed_by) if row.renewed_by else "",
        residual_of(now, row, kept),
    )


def refusal_entries(
    now: Snapshot, release: str, requirements: Sequence[str], devices: Sequence[str]
) -> list[ErrorEntry]:
    """Why these requirements cannot be excepted on these devices, one by one; empty if they can."""
    found = []
    assessed = now.assessments(now.rows(devices), release)
    lives = {row.id: row.life for row in now.rows(devices)}
    for device in sorted(set(devices)):
        if device in lives and (alone := left_alone(device, lives[device])):
            found.append(ErrorEntry(device, *alone, device))
            continue
        known = assessed.get(device) or now.assessment(device, release)
        floors = [f.requirement for f in known.unmet("floor") if f.requirement.id not in requirements]
        if known.state is State.FLOORED and floors:
            titles = " and ".join(floor.title for floor in floors)
            reason = f"{titles} is a floor at {release}: no exception carries the device there"
            found.append(
                ErrorEntry(f"{device}, {floors[0].id}", reason, "Leave the device out, or sort the floor anew", device)
            )
        for refusal in refusals(device, known, set(requirements)):
            pointer = f"{refusal.device}, {refusal.requirement}"
            found.append(ErrorEntry(pointer, refusal.reason, refusal.hint, device))
    return found


def refuse_if(found: Sequence[ErrorEntry]) -> None:
    if found:
        devices = len({entry.device for entry in found})
        count = "1 device" if devices == 1 else f"{devices} devices"
        raise RefusedError(f"No exception can be had for {count} as asked", "Leave out or correct each named", found)


def _check_terms(
    context: Context, db: sqlite3.Connection, platform: Platform, given: NewTerms, attached: bool
) -> list[ConditionRow]:
    has = {name for name, there in (("conditions", given.conditions), ("attachment", attached)) if there}
    with rules():
        check_reason(given.reason, given.owner)
    need_active(db, given.owner)
    with rules():
        check_dates(given.start_on, given.expires_on, given.review_on, context.policy.most_days)
        check_expiry(given.expires_on, context.today())
        check_required(context.policy.required, has)
    return [_condition(at, one, platform, given) for at, one in enumerate(given.conditions, 1)]


def _condition(at: int, given: NewCondition, platform: Platform, terms: NewTerms) -> ConditionRow:
    place = f"conditions, {at}"
    if given.fact_condition is None:
        text = given.text.strip().rstrip(".")
        due = given.due_on or terms.review_on
        with rules():
            check_attested(place, text, due, given.every_days, terms.start_on, terms.expires_on)
        return ConditionRow(at, text, None, due.isoformat(), given.every_days)
    try:
        condition = parse(given.fact_condition, platform.specs, platform.lists)
    except ConditionError as error:
        inside = ".".join(map(str, error.path))
        raise BadInputError(f"{place}{', ' + inside if inside else ''}: {error.message}", error.hint) from error
    return ConditionRow(at, given.text.strip() or str(condition), dict(given.fact_condition), None, None)


def _check_attachments(given: Iterable[NewAttachment]) -> None:
    with rules():
        for one in given:
            check_attachment(one.title, one.link, one.sha256)


def _stored(given: NewTerms) -> dict[str, str]:
    return {
        "reason": given.reason.strip(),
        "owner": given.owner.strip(),
        "start_on": given.start_on.isoformat(),
        "expires_on": given.expires_on.isoformat(),
        "review_on": given.review_on.isoformat(),
    }
