"""People: who may sign in, in which role and where, and the bearer tokens of programs."""

from __future__ import annotations

import hashlib
import re
import secrets
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime, timedelta

from doorstone.store import exceptions as exception_store
from doorstone.store import people as store
from doorstone.store.people import PersonRow
from doorstone.store.profiles import Stamp
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError, StaleEditError

ROLES = ("viewer", "technician", "approver", "administrator")
REPORTER = "reporter"
"""The role of a token that may only post readings; no person has it."""
NEWS = ("request", "decision", "question", "comment", "transfer", "due")
"""What a person can be told of by mail."""
_USED_EVERY = timedelta(minutes=5)


@dataclass(frozen=True, slots=True)
class Person:
    """`sites` maps site -> the greater role that the person has there."""

    name: str
    display: str
    role: str
    session_epoch: int = 1
    version: int = 1
    sites: Mapping[str, str] = field(default_factory=dict)
    origin: str = "password"
    email: str = ""
    told_of: tuple[str, ...] = ()
    active: bool = True
    has_calendar: bool = False


@dataclass(frozen=True, slots=True)
class PersonChange:
    """What to change of a person; None leaves it as it is."""

    display: str | None = None
    role: str | None = None
    sites: Mapping[str, str] | None = None
    email: str | None = None
    told_of: tuple[str, ...] | None = None
    active: bool | None = None


@dataclass(frozen=True, slots=True)
class Token:
    """A token as it is listed. `secret` is shown once, when it is issued."""

    id: str
    name: str
    person: str
    role: str
    device: str
    issued_at: str
    expires_on: date
    revoked_at: str | None
    last_used_at: str | None
    secret: str | None = None


def rank(role: str) -> int:
    """Roles in order; technician and approver can do different things, so neither holds the other."""
    return {"viewer": 1, "technician": 2, "approver": 2, "administrator": 3}.get(role, 0)


def covers(role: str, other: str) -> bool:
    """Whether whoever has `role` may do all that `other` may."""
    return role == other or rank(role) > rank(other)


# -------------------------------------------------------------------- people


def add_person(
    desk: Desk, actor: Actor, name: str, display: str, role: str, password: str | None, *, first: bool = False
) -> Person:
    """Add a person who can sign in. Without a password they come through the sign-in of another service.

    With `first` it is refused once an administrator is there. Raises `BadInputError`, or `RefusedError`.
    """
    if not re.fullmatch(r"[a-z][a-z0-9.-]{1,39}", name):
        raise BadInputError(f"{name!r} is not a name to sign in with", "Use 2 to 40 small letters, digits, dot, dash")
    _check_role(role)
    hashed = _hash(desk, password) if password is not None else ""
    origin = "password" if password is not None else "oidc"
    with desk.database.write() as db:
        if first and any(p.active and p.role == "administrator" for p in store.every(db)):
            raise RefusedError("There is an administrator already", "Sign in as one and add people there")
        try:
            store.add(db, name, display or name, role, hashed, desk.now(), origin)
        except sqlite3.IntegrityError as error:
            raise RefusedError(f"{name!r} is taken", "Choose another name") from error
        record(desk, db, actor, "person added", "person", name, {"display": display, "role": role}, creates=True)
    return get_person(desk, name)


def _check_role(role: str) -> None:
    if role not in ROLES:
        raise BadInputError(f"{role!r} is not a role", f"Use one of {', '.join(ROLES)}")


def _hash(desk: Desk, password: str) -> str:
    if not 10 <= len(password) <= 200:
        raise BadInputError("The password is too short or too long", "Use 10 to 200 characters")
    return desk.passwords.hash(password)


def change_person(desk: Desk, actor: Actor, name: str, version: int, change: PersonChange) -> Person:
    """Change a person. Whoever is made inactive is signed out, and their tokens end.

    Raises `StaleEditError` if somebody was faster, `RefusedError` for the last administrator.
    """
    for role in [change.role, *(change.sites or {}).values()]:
        if role is not None:
            _check_role(role)
    if change.email and not re.fullmatch(r"[^@\s<>]{1,64}@[^@\s<>]{1,190}", change.email):
        raise BadInputError(f"{change.email!r} is not a mail address", "Write it as name@example.org")
    if unknown := [kind for kind in change.told_of or () if kind not in NEWS]:
        raise BadInputError(f"{unknown[0]!r} is not news that can be had", f"Use some of {', '.join(NEWS)}")
    with desk.database.write() as db:
        row = _need(db, name)
        if row.version != version:
            detail = f"{name} was changed in the meantime: you saw version {version}, it is at version {row.version}"
            raise StaleEditError(detail, "Load it again, look at what changed, and repeat your edit")
        new = replace(
            row,
            display=change.display or row.display,
            role=change.role or row.role,
            sites=row.sites if change.sites is None else {s: r for s, r in change.sites.items() if s},
            email=row.email if change.email is None else change.email,
            told_of=row.told_of if change.told_of is None else tuple(sorted(set(change.told_of))),
            active=row.active if change.active is None else change.active,
        )
        if row.active and not new.active:
            new = replace(new, session_epoch=row.session_epoch + 1)
            store.revoke_tokens_of(db, name, desk.now())
        others = [p for p in store.every(db) if p.active and p.role == "administrator" and p.name != name]
        if row.active and row.role == "administrator" and not others and (not new.active or new.role != row.role):
            raise RefusedError(f"{name} is the last administrator", "Make somebody else one first")
        store.change(db, new)
        before, after = _told(row), _told(new)
        changed = {key: value for key, value in after.items() if value != before[key]}
        record(desk, db, actor, "person changed", "person", name, changed)
    return _person(replace(new, version=version + 1))


def _told(row: PersonRow) -> dict[str, object]:
    return {
        "display": row.display,
        "role": row.role,
        "sites": dict(row.sites),
        "email": row.email,
        "told_of": list(row.told_of),
        "active": row.active,
    }


def set_password(desk: Desk, actor: Actor, name: str, old: str | None, new: str) -> None:
    """Set a password; one's own takes the old one. Every session of the person ends."""
    hashed = _hash(desk, new)
    if actor.name == name and actor.via != "local" and check_password(desk, name, old or "") is None:
        raise BadInputError("The old password does not fit", "Check it and try again")
    with desk.database.write() as db:
        row = _need(db, name)
        if row.origin != "password":
            raise RefusedError(f"{name} signs in through another service", "Change the password there")
        store.set_password(db, name, hashed)
        record(desk, db, actor, "password set", "person", name, {})


def _need(db: sqlite3.Connection, name: str) -> PersonRow:
    row = store.get(db, name)
    if row is None:
        raise MissingError(f"There is no person {name!r}", "See who there is with 'doorstone person list'")
    return row


def need_active(db: sqlite3.Connection, name: str) -> PersonRow:
    """Raises `BadInputError` unless `name` is somebody who can sign in."""
    row = store.get(db, name)
    if row is None or not row.active:
        known = ", ".join(p.name for p in store.every(db) if p.active)
        raise BadInputError(
            f"{name!r} is nobody who signs in here", f"Name one of {known or 'the people you add first'}"
        )
    return row


def get_person(desk: Desk, name: str, stamp: Stamp | None = None) -> Person:
    """Raises `MissingError`, also for whoever was made inactive. `stamp`: the desk's, if the caller has just asked."""

    def look() -> store.PersonRow:
        with desk.database.read() as db:
            return _need(db, name)

    row = desk.remembered(("person", name), (stamp or desk.stamp()).people, look)
    if not row.active:
        raise MissingError(f"{name!r} may no longer sign in", "See who may with 'doorstone person list'")
    return _person(row)


def list_people(desk: Desk, *, gone: bool = False) -> list[Person]:
    """Those who may sign in; with `gone`, also those who no longer may."""
    with desk.database.read() as db:
        return [_person(row) for row in store.every(db) if row.active or gone]


def owned_exceptions(desk: Desk, name: str) -> list[str]:
    """The exceptions that a person answers for today."""
    with desk.database.read() as db:
        return [id_of("EX", number) for number in exception_store.owned_by(db, name)]


def _person(row: PersonRow) -> Person:
    return Person(
        row.name, row.display, row.role, row.session_epoch, row.version, row.sites, row.origin, row.email, row.told_of,
        row.active, row.has_calendar,
    )  # fmt: skip


# ------------------------------------------------------------------- signing in


def check_password(desk: Desk, name: str, password: str) -> Person | None:
    """The person, if name and password fit. Takes as long for an unknown name as for a known one."""
    with desk.database.read() as db:
        row = store.get(db, name)
    fits = desk.passwords.fits(row.password_hash if row else "", password)
    return _person(row) if row and row.active and fits else None


def end_sessions(desk: Desk, actor: Actor) -> None:
    """Sign the actor out everywhere."""
    with desk.database.write() as db:
        store.end_sessions(db, actor.name)
        record(desk, db, actor, "signed out", "person", actor.name, {})


def arrive(desk: Desk, name: str, display: str, email: str, role: str) -> Person:
    """Somebody whom another service vouches for: added at the first sign-in, their role kept as that service says."""
    by = Actor("doorstone", "administrator", "oidc")
    with desk.database.write() as db:
        row = store.get(db, name)
        if row is None:
            add_person(desk, by, name, display, role, None)
            row = _need(db, name)
        if row.origin != "oidc":
            raise RefusedError(f"{name!r} signs in with a password here", "Use it, or have the name changed")
        if not row.active:
            raise RefusedError(f"{name!r} may no longer sign in", "Ask an administrator")
        if (row.role, row.email) != (role, email):
            change_person(desk, by, name, row.version, PersonChange(role=role, email=email))
    return get_person(desk, name)


# -------------------------------------------------------------------- tokens


def issue_token(desk: Desk, actor: Actor, name: str, role: str, days: int, device: str = "") -> Token:
    """Issue a bearer token for a program, of the actor's role or a lesser one. Raises `RefusedError`.

    The role reporter may only post readings; with a `device`, only readings of that device.
    """
    if role != REPORTER:
        _check_role(role)
    if not covers(actor.role, "technician" if role == REPORTER else role):
        raise RefusedError(f"A {actor.role} cannot issue a token of role {role!r}", f"Use {actor.role} or viewer")
    if device and role != REPORTER:
        raise BadInputError(
            "Only a reporter's token is for one device", "Use the role reporter, or leave the device out"
        )
    if not 1 <= days <= 730:
        raise BadInputError(f"A token cannot run for {days} days", "Choose 1 to 730 days")
    secret = "ds_" + secrets.token_urlsafe(32)
    expires = desk.today() + timedelta(days=days)
    values = {
        "name": name,
        "person": actor.name,
        "role": role,
        "device": device,
        "issued_at": desk.now(),
        "expires_on": expires.isoformat(),
    }
    with desk.database.write() as db:
        if made_before(db, actor) is not None:
            raise RefusedError("This call has issued a token before; its secret is shown once only", "Issue a new one")
        number = store.add_token(db, **values, digest=digest_of(secret))
        body = {"name": name, "role": role, "expires_on": expires.isoformat(), **({"device": device} if device else {})}
        record(desk, db, actor, "token issued", "token", id_of("TK", number), body, creates=True)
        row = store.token(db, number)
    assert row is not None
    return replace(_token(row), secret=secret)


def list_tokens(desk: Desk) -> list[Token]:
    with desk.database.read() as db:
        return [_token(row) for row in store.tokens(db)]


def revoke_token(desk: Desk, actor: Actor, token: str) -> Token:
    """Revoke a token, one's own or as an administrator any; revoking twice changes nothing. Raises `MissingError`."""
    number = number_of("TK", token)
    with desk.database.write() as db:
        row = store.token(db, number)
        if row is None:
            raise MissingError(f"There is no token {token!r}", "See them with 'doorstone token list'")
        if row.person != actor.name and actor.role != "administrator":
            raise RefusedError(f"{token} is {row.person}'s", "Ask them or an administrator to revoke it")
        if row.revoked_at is None:
            store.revoke_token(db, number, desk.now())
            record(desk, db, actor, "token revoked", "token", token, {})
        row = store.token(db, number)
    assert row is not None
    return _token(row)


def who_holds(desk: Desk, secret: str, stamp: Stamp | None = None) -> Actor | None:
    """The actor behind a bearer token, if it is known, not expired and not revoked, and its person still there.

    `stamp`: the desk's, if the caller has just asked.

    A token never does more than its person may: where the person's role has become a lesser one, so has the token's.
    """
    digest = digest_of(secret)

    def look() -> tuple[store.TokenRow | None, store.PersonRow | None]:
        with desk.database.read() as db:
            row = store.token_by_digest(db, digest)
            return row, store.get(db, row.person) if row else None

    row, person = desk.remembered(("token", digest), (stamp or desk.stamp()).people, look)
    if row is None or row.revoked_at is not None or date.fromisoformat(row.expires_on) < desk.today():
        return None
    if person is None or not person.active:
        return None
    _note_use(desk, row)
    role = row.role
    if not covers(person.role, "technician" if role == REPORTER else role):
        role = person.role if role != REPORTER else "viewer"
    sites = person.sites if role == person.role else {}
    return Actor(row.person, role, f"token {row.name}", sites=sites, device=row.device)


def _note_use(desk: Desk, row: store.TokenRow) -> None:
    now = desk.clock.now()
    if row.last_used_at is None or now - datetime.fromisoformat(row.last_used_at) >= _USED_EVERY:
        with desk.database.write() as db:
            store.token_used(db, row.id, now.isoformat())


def digest_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def _token(row: store.TokenRow) -> Token:
    expires = date.fromisoformat(row.expires_on)
    return Token(
        id_of("TK", row.id), row.name, row.person, row.role, row.device, row.issued_at, expires, row.revoked_at,
        row.last_used_at,
    )  # fmt: skip
