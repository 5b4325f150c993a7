"""People: who may sign in, in which role, and the bearer tokens of programs."""

from __future__ import annotations

import hashlib
import re
import secrets
import sqlite3
from dataclasses import dataclass
from datetime import date, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from doorstone.store import people as store
from doorstone.work.desk import Actor, Desk, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError

ROLES = ("viewer", "technician", "approver", "administrator")
_HASHER = PasswordHasher()
_NOBODY = _HASHER.hash("nobody has this password")


@dataclass(frozen=True, slots=True)
class Person:
    name: str
    display: str
    role: str
    session_epoch: int = 1


@dataclass(frozen=True, slots=True)
class Token:
    """A token as it is listed. `secret` is shown once, when it is issued."""

    id: str
    name: str
    person: str
    role: str
    issued_at: str
    expires_on: date
    revoked_at: str | None
    secret: str | None = None


def add_person(desk: Desk, actor: Actor, name: str, display: str, role: str, password: str) -> Person:
    """Add a person who can sign in. Raises `BadInputError`, or `RefusedError` if the name is taken."""
    if not re.fullmatch(r"[a-z][a-z0-9.-]{1,39}", name):
        raise BadInputError(f"{name!r} is not a name to sign in with", "Use 2 to 40 small letters, digits, dot, dash")
    if role not in ROLES:
        raise BadInputError(f"{role!r} is not a role", f"Use one of {', '.join(ROLES)}")
    if not 10 <= len(password) <= 200:
        raise BadInputError("The password is too short or too long", "Use 10 to 200 characters")
    hashed = _HASHER.hash(password)
    with desk.database.write() as db:
        try:
            store.add(db, name, display or name, role, hashed, desk.now())
        except sqlite3.IntegrityError as error:
            raise RefusedError(f"{name!r} is taken", "Choose another name") from error
        record(desk, db, actor, "person added", "person", name, {"display": display, "role": role}, creates=True)
    return Person(name, display or name, role)


def get_person(desk: Desk, name: str) -> Person:
    with desk.database.read() as db:
        row = store.get(db, name)
    if row is None or not row.active:
        raise MissingError(f"There is no person {name!r}", "See who there is with 'doorstone person list'")
    return Person(row.name, row.display, row.role, row.session_epoch)


def list_people(desk: Desk) -> list[Person]:
    with desk.database.read() as db:
        return [Person(row.name, row.display, row.role, row.session_epoch) for row in store.every(db) if row.active]


def check_password(desk: Desk, name: str, password: str) -> Person | None:
    """The person, if name and password fit. Takes as long for an unknown name as for a known one."""
    with desk.database.read() as db:
        row = store.get(db, name)
    try:
        _HASHER.verify(row.password_hash if row else _NOBODY, password)
    except (VerificationError, InvalidHashError):
        return None
    return Person(row.name, row.display, row.role, row.session_epoch) if row and row.active else None


def end_sessions(desk: Desk, actor: Actor) -> None:
    """Sign the actor out everywhere."""
    with desk.database.write() as db:
        store.end_sessions(db, actor.name)
        record(desk, db, actor, "signed out", "person", actor.name, {})


def issue_token(desk: Desk, actor: Actor, name: str, role: str, days: int) -> Token:
    """Issue a bearer token for a program, of the actor's role or a lesser one. Raises `RefusedError`."""
    if role not in ROLES or (actor.role != "administrator" and role not in ("viewer", actor.role)):
        raise RefusedError(f"A {actor.role} cannot issue a token of role {role!r}", f"Use {actor.role} or viewer")
    if not 1 <= days <= 730:
        raise BadInputError(f"A token cannot run for {days} days", "Choose 1 to 730 days")
    secret = "ds_" + secrets.token_urlsafe(32)
    expires = desk.today() + timedelta(days=days)
    with desk.database.write() as db:
        if made_before(db, actor) is not None:
            raise RefusedError("This call has issued a token before; its secret is shown once only", "Issue a new one")
        number = store.add_token(db, name, actor.name, role, _digest(secret), desk.now(), expires.isoformat())
        body = {"name": name, "role": role, "expires_on": expires.isoformat()}
        record(desk, db, actor, "token issued", "token", f"TK-{number:04d}", body, creates=True)
    return Token(f"TK-{number:04d}", name, actor.name, role, desk.now(), expires, None, secret)


def list_tokens(desk: Desk) -> list[Token]:
    with desk.database.read() as db:
        return [_token(row) for row in store.tokens(db)]


def revoke_token(desk: Desk, actor: Actor, token: str) -> Token:
    """Revoke a token; revoking twice changes nothing. Raises `MissingError`."""
    number = number_of("TK", token)
    with desk.database.write() as db:
        if store.token(db, number) is None:
            raise MissingError(f"There is no token {token!r}", "See them with 'doorstone token list'")
        store.revoke_token(db, number, desk.now())
        record(desk, db, actor, "token revoked", "token", token, {})
        row = store.token(db, number)
    assert row is not None
    return _token(row)


def who_holds(desk: Desk, secret: str) -> Actor | None:
    """The actor behind a bearer token, if it is known, not expired and not revoked."""
    with desk.database.read() as db:
        row = store.token_by_digest(db, _digest(secret))
    if row is None or row.revoked_at is not None or date.fromisoformat(row.expires_on) < desk.today():
        return None
    return Actor(row.person, row.role, f"token {row.name}")


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def _token(row: store.TokenRow) -> Token:
    expires = date.fromisoformat(row.expires_on)
    return Token(f"TK-{row.id:04d}", row.name, row.person, row.role, row.issued_at, expires, row.revoked_at)
