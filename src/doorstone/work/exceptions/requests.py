"""Exceptions: request one, edit it, look at it, list them."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.exceptions.life import (
    ENDED,
    ExceptionState,
    Involved,
    Move,
    allowed_actions,
    possible_moves,
)
from doorstone.core.exceptions.requests import (
    NewException,
    NewTerms,
    RenewedException,
    RequestBasis,
    RequestReview,
    Risk,
    TermsBasis,
    check_terms,
    review_request,
)
from doorstone.core.exceptions.residual import ResidualRisk
from doorstone.core.exceptions.terms import listed
from doorstone.core.platforms.platform import Platform
from doorstone.store.exceptions import exceptions as store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError, StaleEditError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import KeptView, kept_conditions, stale_devices, stale_moved_on, state_of
from doorstone.work.snapshot.names import check_exception_state
from doorstone.work.snapshot.people import account_acts, active_people
from doorstone.work.snapshot.requested import refusal_entries, refuse_if, requested_devices
from doorstone.work.snapshot.residual import exposures, residual_of
from doorstone.work.snapshot.selecting import choose_devices, get_selection
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.uncovered import still_running

MOST_DEVICES = 5000


class ExceptionView(Struct, frozen=True):
    """An exception as it stands today. `stale` maps device -> what changed since the approval.

    `stale_moved_on` is the same for devices that run a later release by now, on which nothing rests any more.
    """

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
    stale_moved_on: Mapping[str, Sequence[str]] = field(default_factory=dict)


class Checked(Struct, frozen=True):
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


def check(context: Context, new: NewException) -> Checked:
    """What a request would meet, device by device and in its terms. Nothing is written.

    Whether the risk was acknowledged is not checked: a person who looks first has not done so yet.
    """
    with context.database.read() as db:
        basis = _gather(context, db, new)
    found = review_request(new, basis)
    terms = [ErrorEntry(e.place, e.error.detail, e.error.hint) for e in found.errors if e.place != "risk"]
    return Checked(basis.terms.platform, found.devices, tuple(refusal_entries(found.refused)), tuple(terms))


def request(context: Context, actor: Actor, new: NewException) -> ExceptionView:
    """Ask for an exception. Raises `RefusedError` with an error per device and requirement that cannot be had."""
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_exception(context, before)
        basis = _gather(context, db, new)
        found = review_request(new, basis)
        if not found.possible(go_on=new.go_on):
            refuse_if(refusal_entries(found.refused))
        for one in found.errors:
            with rules():
                raise one.error
        name = _write(context, db, actor, new, basis, found)
    return replace(get_exception(context, name), refused=tuple(refusal_entries(found.refused)))


def _gather(context: Context, db: sqlite3.Connection, new: NewException) -> RequestBasis:
    """Gather everything that a request is judged by. Raises `BadInputError` if it names no device, or too many."""
    now = snapshot(context)
    devices = named_devices(context, now, new)
    if not devices or not new.requirements:
        raise BadInputError("An exception names devices and requirements", "Name at least one of each")
    if len(devices) > MOST_DEVICES:
        raise BadInputError(f"{len(devices):,} devices are too many for one", f"Ask for {MOST_DEVICES:,} at a time")
    platform = now.one_platform(devices, "Ask for one exception per platform")
    need_release(platform, new.release)
    old = store.get(db, number_of("EX", new.renews)) if new.renews else None
    return RequestBasis(
        _terms_basis(context, db, platform),
        requested_devices(now, new.release, devices),
        exposures(now, devices),
        risk(context, platform, new.release),
        _renewed(old) if old else None,
        context.policy.risk,
        context.policy.two_approvers,
    )


def _terms_basis(context: Context, db: sqlite3.Connection, platform: Platform) -> TermsBasis:
    policy = context.policy
    return TermsBasis(platform, context.today(), active_people(db), policy.most_days, policy.required)


def _renewed(row: ExceptionRow) -> RenewedException:
    renewed_by = id_of("EX", row.renewed_by) if row.renewed_by is not None else ""
    return RenewedException(id_of("EX", row.id), row.platform, ExceptionState(row.state), renewed_by, row.devices)


def _write(
    context: Context,
    db: sqlite3.Connection,
    actor: Actor,
    new: NewException,
    basis: RequestBasis,
    found: RequestReview,
) -> str:
    """Keep a reviewed request, and notify the people who decide. Returns the id of the exception."""
    values = {
        **_stored(new.terms),
        "platform": basis.terms.platform.id,
        "release": new.release,
        "up_to": int(new.up_to),
        "risk_version": basis.risk.version,
        "risk_text": basis.risk.text,
        "notice_text": basis.risk.notice,
        "acknowledged_by": actor.name,
        "requester": actor.name,
        "requested_at": context.now(),
        "approvals_needed": found.approvals_needed,
        "renews": number_of("EX", new.renews) if new.renews else None,
    }
    requirements = sorted(set(new.requirements))
    _refuse_equal(db, values, requirements, found)
    number = store.add(db, values, requirements, found.devices)
    if actor.in_place_of:  # whoever is represented had a part in the request, and does not approve it
        store.shape(db, number, {actor.in_place_of})
    store.set_conditions(db, number, found.conditions)
    for one in new.attachments:
        store.attach(db, number, one.title, one.link, one.sha256, actor.name, context.now())
    name = id_of("EX", number)
    body = {
        **values,
        "requirements": requirements,
        "devices": list(found.devices),
        "conditions": [c.text for c in found.conditions],
        "attachments": [{"title": a.title, "link": a.link, "sha256": a.sha256} for a in new.attachments],
        "renews": new.renews,
    }
    record(context, db, actor, "exception requested", "exception", name, body, creates=True)
    words = f"{actor.name} asks for {name}: {', '.join(requirements)} on {listed(found.devices)}"
    tell_people(context, db, "request", name, words, roles=("approver", "administrator"), besides=(actor.name,))
    return name


SAME = ("platform", "release", "up_to", "reason", "owner", "start_on", "expires_on", "review_on")


def _refuse_equal(
    db: sqlite3.Connection, values: Mapping[str, Any], requirements: Sequence[str], found: RequestReview
) -> None:
    """Raise `RefusedError` if an open request of the same person asks for exactly the same."""
    wanted = [values[name] for name in SAME], tuple(requirements), tuple(sorted(found.devices)), values["renews"]
    for row in store.requested_by(db, values["requester"]):
        same = [int(row.up_to) if name == "up_to" else getattr(row, name) for name in SAME]
        if (same, tuple(sorted(row.requirements)), tuple(sorted(row.devices)), row.renews) == wanted:
            name = id_of("EX", row.id)
            raise RefusedError(f"{name} already requests exactly this", f"Edit or withdraw {name} instead")


def named_devices(context: Context, now: Snapshot, new: NewException) -> list[str]:
    """The devices that a request names, those of its selection included, by id."""
    devices = set(new.devices)
    if new.selection:
        platform = new.platform or get_selection(context, new.selection).platform
        chosen = choose_devices(context, platform, new.release, DeviceFilter(), new.selection)
        devices |= {row.id for row, _ in now.find(chosen.platform, chosen.release, chosen.where)}
    return sorted(devices)


def edit(context: Context, actor: Actor, name: str, version: int, given: NewTerms) -> ExceptionView:
    """Edit the terms while it is requested; approvals on the way fall away. Raises `StaleEditError`."""
    with context.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        if row.state != ExceptionState.REQUESTED:
            raise RefusedError(f"{name} is {row.state}; its terms stand", "Request a new exception instead")
        need_own(row, actor, "edit it")
        platform = snapshot(context).sheets[row.platform].platform
        with rules():
            conditions = check_terms(given, _terms_basis(context, db, platform), attached=bool(row.attachments))
        store.edit(db, row.id, version, _stored(given))
        store.set_conditions(db, row.id, conditions)
        if {actor.name, actor.authority} != {row.requester}:
            store.shape(db, row.id, {*row.shaped_by, actor.name, actor.authority} - {row.requester})
        body = {**_stored(given), "conditions": [c.text for c in conditions]}
        record(context, db, actor, "exception edited", "exception", name, body, devices=row.devices)
    return get_exception(context, name)


def get_exception(context: Context, name: str) -> ExceptionView:
    """One exception as it stands today. Raises `MissingError`."""
    now = snapshot(context)
    with context.database.read() as db:
        return _view(need(db, name), now)


def list_exceptions(
    context: Context, state: str = "", device: str = "", owner: str = "", *, by_risk: bool = False
) -> list[ExceptionView]:
    """Newest first; or those of most residual risk, what has ended last.

    Optionally of one state, naming one device, or owned by one person. Raises `BadInputError` for an unknown state.
    """
    if state:
        check_exception_state(state)
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
    """Raises `StaleEditError` if `version` is given and is not the present one."""
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
    with context.database.read() as db:
        acts = account_acts(context, db)
    return allowed_actions(
        state, view.moves, actor.authority, actor.role, who, context.policy.self_approval, actor.name, acts
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
        stale_moved_on=stale_moved_on(row, now),
    )


def _stored(given: NewTerms) -> dict[str, str]:
    return {
        "reason": given.reason.strip(),
        "owner": given.owner.strip(),
        "start_on": given.start_on.isoformat(),
        "expires_on": given.expires_on.isoformat(),
        "review_on": given.review_on.isoformat(),
    }
