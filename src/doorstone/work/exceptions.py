"""Exceptions: asking for one, editing it, looking at it, and whether its approval still stands."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from doorstone.core.conditions import ConditionError, parse
from doorstone.core.exceptions import (
    ExceptionState,
    Move,
    MoveRefusedError,
    approvals_needed,
    check_dates,
    possible_moves,
    refusals,
)
from doorstone.core.keeping import Kept, KeptWord, by_facts, by_word
from doorstone.core.platforms import Platform
from doorstone.core.sorting import State
from doorstone.store import devices as device_store
from doorstone.store import exceptions as store
from doorstone.store.exceptions import ConditionRow, ExceptionRow
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.doubts import doubts, to_keep
from doorstone.work.errors import BadInputError, MissingError, RefusedError, StaleEditError, Trouble
from doorstone.work.people import need_active
from doorstone.work.picture import Picture, picture
from doorstone.work.selections import choose_devices
from doorstone.work.sheets import need_release
from doorstone.work.telling import tell_people

MOST_DEVICES = 5000
REQUIRED = ("conditions", "attachment")


@dataclass(frozen=True, slots=True)
class ConditionGiven:
    """A condition to keep: data of a condition on facts, or words to be attested by a day (the review, if none)."""

    text: str = ""
    fact_condition: Mapping[str, Any] | None = None
    due_on: date | None = None
    every_days: int | None = None


@dataclass(frozen=True, slots=True)
class AttachmentGiven:
    title: str
    link: str
    sha256: str = ""


@dataclass(frozen=True, slots=True)
class ExceptionTermsGiven:
    """The part of an exception that can be edited while it is requested."""

    reason: str
    conditions: tuple[ConditionGiven, ...]
    owner: str
    start_on: date
    expires_on: date
    review_on: date


@dataclass(frozen=True, slots=True)
class ExceptionAsked:
    """What is asked for: `devices` by name, and those of a saved `selection`. `renews` names a predecessor.

    With `go_on`, devices that cannot have it are left out and the rest is asked for.
    """

    release: str
    up_to: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    risk_acknowledged: str
    terms: ExceptionTermsGiven
    notice_acknowledged: str = ""
    selection: str = ""
    platform: str = ""
    go_on: bool = False
    renews: str = ""
    attachments: tuple[AttachmentGiven, ...] = ()


@dataclass(frozen=True, slots=True)
class Risk:
    """What is acknowledged word for word: our statement, in its version, and the vendor's notice if there is one."""

    version: int
    text: str
    notice: str


@dataclass(frozen=True, slots=True)
class KeptView:
    """A condition today. `devices` are those on which the facts do not show it kept, with what they show."""

    kept: Kept
    devices: Mapping[str, str]
    attested: tuple[tuple[str, str, str], ...]
    fact_condition: Mapping[str, Any] | None = None
    every_days: int | None = None


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
    refused: tuple[Trouble, ...] = ()


@dataclass(frozen=True, slots=True)
class Checked:
    """Which devices can have what is asked, and a trouble for each requirement of each that cannot.

    `terms` are what else a request as it stands would be refused for: dates, reason, owner, conditions, renewal.
    """

    platform: Platform
    devices: tuple[str, ...]
    refused: tuple[Trouble, ...] = field(default=())
    terms: tuple[Trouble, ...] = field(default=())


def risk(desk: Desk, platform: Platform | None = None, release: str = "") -> Risk:
    """What whoever asks for an exception acknowledges today."""
    with desk.database.read() as db:
        version, text = store.risk(db)
    return Risk(version, text, platform.release(release).notice if platform and platform.has(release) else "")


def change_risk(desk: Desk, actor: Actor, text: str) -> Risk:
    """Put a new version of the risk statement in force; what was acknowledged before stays as it was."""
    if not 40 <= len(text.strip()) <= 4000:
        raise BadInputError("The risk statement is too short or too long", "Use 40 to 4,000 characters")
    with desk.database.write() as db:
        version = store.add_risk(db, text.strip(), actor.name, desk.now())
        record(desk, db, actor, "risk statement changed", "risk", str(version), {"text": text.strip()})
    return risk(desk)


def check(desk: Desk, asked: ExceptionAsked) -> Checked:
    """What a request would meet, device by device and in its terms; nothing is written.

    Only whether the risk is acknowledged is not asked: whoever looks first has not done so yet.
    """
    found = _check(desk, picture(desk), asked)
    terms = []
    with desk.database.read() as db:
        for place, look in (
            ("terms", lambda: _check_terms(desk, db, found.platform, asked.terms, bool(asked.attachments))),
            ("attachments", lambda: _check_attachments(asked.attachments)),
            ("renews", lambda: _renews(db, asked, found)),
        ):
            try:
                look()
            except (BadInputError, MissingError, RefusedError) as error:
                terms.append(Trouble(place, error.detail, error.mend))
    return replace(found, terms=tuple(terms))


def request(desk: Desk, actor: Actor, asked: ExceptionAsked) -> ExceptionView:
    """Ask for an exception. Raises `RefusedError` with a trouble per device and requirement that cannot be had."""
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_exception(desk, before)
        now = picture(desk)
        found = _check(desk, now, asked)
        if found.refused and not (asked.go_on and found.devices):
            refuse_if(found.refused)
        known = risk(desk, found.platform, asked.release)
        _check_acknowledged(asked, known)
        conditions = _check_terms(desk, db, found.platform, asked.terms, bool(asked.attachments))
        _check_attachments(asked.attachments)
        renews = _renews(db, asked, found)
        critical = any(device.critical for device in now.rows(found.devices))
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
            "requested_at": desk.now(),
            "approvals_needed": approvals_needed(desk.policy.two_approvers, critical),
            "renews": renews.id if renews else None,
        }
        requirements = sorted(set(asked.requirements))
        number = store.add(db, values, requirements, found.devices)
        store.set_conditions(db, number, conditions)
        for one in asked.attachments:
            store.attach(db, number, one.title, one.link, one.sha256, actor.name, desk.now())
        name = id_of("EX", number)
        body = {
            **values,
            "requirements": requirements,
            "devices": list(found.devices),
            "conditions": [c.text for c in conditions],
            "attachments": [{"title": a.title, "link": a.link, "sha256": a.sha256} for a in asked.attachments],
            "renews": asked.renews,
        }
        record(desk, db, actor, "exception requested", "exception", name, body, creates=True)
        words = f"{actor.name} asks for {name}: {', '.join(requirements)} on {_devices(found.devices)}"
        tell_people(desk, db, "request", name, words, roles=("approver", "administrator"), besides=(actor.name,))
    made = get_exception(desk, name)
    return ExceptionView(**{**_fields(made), "refused": found.refused})


def _fields(view: ExceptionView) -> dict[str, Any]:
    return {name: getattr(view, name) for name in ExceptionView.__slots__}


def _devices(devices: Sequence[str]) -> str:
    return ", ".join(devices) if len(devices) <= 3 else f"{len(devices)} devices"


def _check(desk: Desk, now: Picture, asked: ExceptionAsked) -> Checked:
    devices = _devices_asked(desk, now, asked)
    if not devices or not asked.requirements:
        raise BadInputError("An exception names devices and requirements", "Name at least one of each")
    if len(devices) > MOST_DEVICES:
        raise BadInputError(f"{len(devices):,} devices are too many for one", f"Ask for {MOST_DEVICES:,} at a time")
    platform = _one_platform(now, devices, asked.release)
    refused = troubles(now, asked.release, asked.requirements, devices)
    out = {trouble.place.split(",")[0] for trouble in refused}
    return Checked(platform, tuple(d for d in devices if d not in out), tuple(refused))


def _devices_asked(desk: Desk, now: Picture, asked: ExceptionAsked) -> list[str]:
    devices = set(asked.devices)
    if asked.selection:
        platform = asked.platform or _platform_of_selection(desk, asked.selection)
        chosen = choose_devices(desk, platform, asked.release, device_store.Filter(), asked.selection)
        devices |= {row.id for row, _ in now.find(chosen.platform, chosen.release, chosen.where)}
    return sorted(devices)


def _platform_of_selection(desk: Desk, selection: str) -> str:
    from doorstone.work.selections import get_selection

    return get_selection(desk, selection).platform


def _check_acknowledged(asked: ExceptionAsked, known: Risk) -> None:
    if asked.risk_acknowledged != known.text:
        raise BadInputError("The risk statement is not acknowledged word for word", "Send its text back unchanged")
    if known.notice and asked.notice_acknowledged != known.notice:
        raise BadInputError(
            f"The vendor's notice of {asked.release} is not acknowledged word for word", "Send its text back unchanged"
        )


def _renews(db: sqlite3.Connection, asked: ExceptionAsked, found: Checked) -> ExceptionRow | None:
    if not asked.renews:
        return None
    old = need(db, asked.renews)
    if old.state not in (ExceptionState.APPROVED, ExceptionState.LAPSED):
        raise RefusedError(f"{asked.renews} is {old.state}; there is nothing to renew", "Ask without renewing")
    if old.renewed_by is not None:
        raise RefusedError(f"{asked.renews} is renewed by {id_of('EX', old.renewed_by)}", "Look at that one")
    if old.platform != found.platform.id or not set(found.devices) <= set(old.devices):
        extra = sorted(set(found.devices) - set(old.devices))
        raise BadInputError(f"{asked.renews} does not name {_devices(extra)}", "Renew its devices, ask anew for others")
    return old


def edit(desk: Desk, actor: Actor, name: str, version: int, given: ExceptionTermsGiven) -> ExceptionView:
    """Edit the terms while it is requested; approvals on the way fall away. Raises `StaleEditError`."""
    with desk.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        if row.state != ExceptionState.REQUESTED:
            raise RefusedError(f"{name} is {row.state}; its terms stand", "Request a new exception instead")
        need_own(row, actor, "edit it")
        platform = picture(desk).sheets[row.platform].platform
        conditions = _check_terms(desk, db, platform, given, bool(row.attachments))
        store.edit(db, row.id, version, _stored(given))
        store.set_conditions(db, row.id, conditions)
        if actor.name != row.requester:
            store.shape(db, row.id, {*row.shaped_by, actor.name})
        body = {**_stored(given), "conditions": [c.text for c in conditions]}
        record(desk, db, actor, "exception edited", "exception", name, body, devices=row.devices)
    return get_exception(desk, name)


def get_exception(desk: Desk, name: str) -> ExceptionView:
    """Raises `MissingError`."""
    now = picture(desk)
    with desk.database.read() as db:
        return _view(need(db, name), now)


def list_exceptions(desk: Desk, state: str = "", device: str = "", owner: str = "") -> list[ExceptionView]:
    """Newest first, optionally of one state, naming one device, or owned by one person."""
    now = picture(desk)
    with desk.database.read() as db:
        rows = store.of_device(db, device) if device else store.every(db)
    views = [_view(row, now) for row in rows if not owner or row.owner == owner]
    return [view for view in views if not state or view.state == state]


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


def need_own(row: ExceptionRow, actor: Actor, deed: str) -> None:
    if actor.name != row.requester and actor.role != "administrator":
        raise RefusedError(f"{id_of('EX', row.id)} was requested by {row.requester}", f"Ask them to {deed}")


def state_of(row: ExceptionRow, today: date) -> str:
    """An approved exception past its expiry day has lapsed, written down or not."""
    lapsed = row.state == ExceptionState.APPROVED and today > date.fromisoformat(row.expires_on)
    return ExceptionState.LAPSED.value if lapsed else row.state


def _view(row: ExceptionRow, now: Picture) -> ExceptionView:
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
    )


def kept_conditions(row: ExceptionRow, now: Picture) -> tuple[KeptView, ...]:
    """Each condition of an exception as it stands today: by the facts of every device, or by somebody's word."""
    sheet = now.sheets.get(row.platform)
    if sheet is None:
        return ()
    found = []
    for one in row.conditions:
        keep = to_keep(one, sheet.platform)
        if keep.condition is None:
            last = max((date.fromisoformat(day) for day, _, _ in one.attested), default=None)
            found.append(KeptView(by_word(keep, last, now.today), {}, one.attested, None, one.every_days))
            continue
        each = {device: by_facts(keep, now.view(device)) for device in row.devices}
        words = {kept.word for kept in each.values()}
        word = next((w for w in (KeptWord.BROKEN, KeptWord.UNREAD) if w in words), KeptWord.KEPT)
        open_ = {device: kept.measured for device, kept in each.items() if not kept.holds}
        found.append(KeptView(Kept(one.number, one.text, word), open_, (), one.fact_condition))
    return tuple(found)


def stale_devices(row: ExceptionRow, now: Picture) -> dict[str, list[str]]:
    """The devices whose findings, sorts, requirements or conditions changed since the approval; the others stand."""
    if row.state != ExceptionState.APPROVED:
        return {}
    return doubts(now, row.platform, row.release, row.requirements, row.conditions, row.shown)


def _one_platform(now: Picture, devices: Iterable[str], release: str) -> Platform:
    platforms: dict[str, Platform] = {}
    known = {row.id: row for row in now.rows(devices)}
    for device in devices:
        row = known.get(device) or now.device(device)
        platform = (now.sheets.get(row.platform) or now.need_sheet(device)).platform
        platforms[platform.id] = platform
        need_release(platform, release)
    if len(platforms) != 1:
        raise BadInputError("The devices are of several platforms", "Ask for one exception per platform")
    return next(iter(platforms.values()))


def troubles(now: Picture, release: str, requirements: Sequence[str], devices: Sequence[str]) -> list[Trouble]:
    """Why these requirements cannot be excepted on these devices, one by one; empty if they can."""
    found = []
    assessed = now.assessments(now.rows(devices), release)
    for device in sorted(set(devices)):
        known = assessed.get(device) or now.assessment(device, release)
        floors = [f.requirement for f in known.unmet("floor") if f.requirement.id not in requirements]
        if known.state is State.FLOORED and floors:
            titles = " and ".join(floor.title for floor in floors)
            reason = f"{titles} is a floor at {release}: no exception carries the device there"
            found.append(Trouble(f"{device}, {floors[0].id}", reason, "Leave the device out, or sort the floor anew"))
        for refusal in refusals(device, known, set(requirements)):
            found.append(Trouble(f"{refusal.device}, {refusal.requirement}", refusal.reason, refusal.mend))
    return found


def refuse_if(found: Sequence[Trouble]) -> None:
    if found:
        devices = len({trouble.place.split(",")[0] for trouble in found})
        count = "1 device" if devices == 1 else f"{devices} devices"
        raise RefusedError(f"No exception can be had for {count} as asked", "Leave out or mend each named", found)


def _check_terms(
    desk: Desk, db: sqlite3.Connection, platform: Platform, given: ExceptionTermsGiven, attached: bool
) -> list[ConditionRow]:
    if len(given.reason.strip()) < 10:
        raise BadInputError("The reason is too short", "Say in a sentence why the device cannot be fixed or replaced")
    if not given.owner.strip():
        raise BadInputError("An exception has an owner", "Name the person who answers for it")
    need_active(db, given.owner)
    try:
        check_dates(given.start_on, given.expires_on, given.review_on, desk.policy.most_days)
    except MoveRefusedError as error:
        raise BadInputError(error.reason, error.mend) from error
    if given.expires_on < desk.today():
        raise BadInputError(f"The expiry {given.expires_on} is past", "Choose a day from today on")
    has = {"conditions": bool(given.conditions), "attachment": attached}
    if lacking := [name for name in desk.policy.required if not has.get(name, True)]:
        raise BadInputError(f"A request here has {' and '.join(lacking)}", "Add what is missing")
    return [_condition(at, one, platform, given) for at, one in enumerate(given.conditions, 1)]


def _condition(at: int, given: ConditionGiven, platform: Platform, terms: ExceptionTermsGiven) -> ConditionRow:
    place = f"conditions, {at}"
    if given.fact_condition is None:
        text = given.text.strip().rstrip(".")
        if not 3 <= len(text) <= 500 or not text.isprintable():
            raise BadInputError(f"{place}: it says nothing or too much", "Say in 3 to 500 letters what is to be kept")
        due = given.due_on or terms.review_on
        if not terms.start_on <= due <= terms.expires_on:
            raise BadInputError(
                f"{place}: {due} lies outside {terms.start_on} to {terms.expires_on}", "Choose a day in between"
            )
        if given.every_days is not None and not 1 <= given.every_days <= 366:
            raise BadInputError(f"{place}: every {given.every_days} days cannot be", "Use 1 to 366 days")
        return ConditionRow(at, text, None, due.isoformat(), given.every_days)
    try:
        condition = parse(given.fact_condition, platform.specs, platform.lists)
    except ConditionError as error:
        inside = ".".join(map(str, error.path))
        raise BadInputError(f"{place}{', ' + inside if inside else ''}: {error.message}", error.mend) from error
    return ConditionRow(at, given.text.strip() or str(condition), dict(given.fact_condition), None, None)


def _check_attachments(given: Iterable[AttachmentGiven]) -> None:
    for one in given:
        check_attachment(one)


def check_attachment(given: AttachmentGiven) -> None:
    """A title, a link that a browser opens, and the SHA-256 of what is there, if it is known."""
    if not 1 <= len(given.title.strip()) <= 200 or not given.title.isprintable():
        raise BadInputError("An attachment has a title", "Say in up to 200 letters what it is")
    if not given.link.startswith(("https://", "http://")) or not given.link.isprintable() or len(given.link) > 1000:
        raise BadInputError(f"{given.link[:80]!r} is no link", "Give an address that starts with https://")
    if given.sha256 and (len(given.sha256) != 64 or set(given.sha256) - set("0123456789abcdef")):
        raise BadInputError("The SHA-256 is not one", "Give 64 hexadecimal digits, or leave it out")


def _stored(given: ExceptionTermsGiven) -> dict[str, str]:
    return {
        "reason": given.reason.strip(),
        "owner": given.owner.strip(),
        "start_on": given.start_on.isoformat(),
        "expires_on": given.expires_on.isoformat(),
        "review_on": given.review_on.isoformat(),
    }
