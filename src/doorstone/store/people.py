"""People and their tokens."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from typing import Any, NamedTuple

from msgspec import Struct

MOST_SIGN_INS = 10_000


class PersonRow(Struct, frozen=True):
    """`sites` maps site -> the greater role that the person has there. `news` are the kinds that they get by mail."""

    name: str
    version: int
    display: str
    role: str
    sites: Mapping[str, str]
    origin: str
    email: str
    news: tuple[str, ...]
    password_hash: str
    active: bool
    session_epoch: int
    has_calendar: bool
    second_factor: str
    second_factor_asked: str


class SignInRow(Struct, frozen=True):
    """Somebody who signed in or failed to: the name as it was given, the address, and how."""

    id: int
    at: str
    name: str
    address: str
    way: str
    outcome: str


class TokenRow(Struct, frozen=True):
    """`device` is set on a token that may only post readings of that device."""

    id: int
    name: str
    person: str
    role: str
    device: str
    session: bool
    issued_at: str
    expires_on: str
    revoked_at: str | None
    last_used_at: str | None


def add(
    db: sqlite3.Connection, name: str, display: str, role: str, password_hash: str, at: str, origin: str = "password"
) -> None:
    """Add a person. Raises `sqlite3.IntegrityError` if the name is taken."""
    db.execute(
        "INSERT INTO people (name, display, role, password_hash, added_at, origin) VALUES (?, ?, ?, ?, ?, ?)",
        (name, display, role, password_hash, at, origin),
    )


def get(db: sqlite3.Connection, name: str) -> PersonRow | None:
    row = db.execute("SELECT * FROM people WHERE name = ?", (name,)).fetchone()
    return _person(row) if row else None


def every(db: sqlite3.Connection) -> list[PersonRow]:
    return [_person(row) for row in db.execute("SELECT * FROM people ORDER BY name")]


def change(db: sqlite3.Connection, row: PersonRow) -> bool:
    """Write a person's role, sites, names and wishes if nobody changed them since `row.version`."""
    cursor = db.execute(
        "UPDATE people SET version = version + 1, display = ?, role = ?, sites = ?, email = ?, news = ?, active = ?,"
        " session_epoch = ? WHERE name = ? AND version = ?",
        (
            row.display, row.role, json.dumps(dict(row.sites), sort_keys=True), row.email,
            json.dumps(list(row.news)), int(row.active), row.session_epoch, row.name, row.version,
        ),
    )  # fmt: skip
    return cursor.rowcount == 1


def set_password(db: sqlite3.Connection, name: str, password_hash: str) -> None:
    """Set a person's password. Every session of theirs ends."""
    db.execute(
        "UPDATE people SET password_hash = ?, session_epoch = session_epoch + 1 WHERE name = ?", (password_hash, name)
    )


def set_calendar(db: sqlite3.Connection, name: str, digest: str) -> None:
    """The digest of the secret in a person's calendar address; empty revokes it."""
    db.execute("UPDATE people SET calendar_digest = ? WHERE name = ?", (digest, name))


def by_calendar(db: sqlite3.Connection, digest: str) -> PersonRow | None:
    row = db.execute("SELECT * FROM people WHERE calendar_digest = ? AND calendar_digest <> ''", (digest,)).fetchone()
    return _person(row) if row else None


def bound(db: sqlite3.Connection, issuer: str, subject: str) -> PersonRow | None:
    """The person who is a provider's subject."""
    row = db.execute("SELECT * FROM people WHERE issuer = ? AND subject = ?", (issuer, subject)).fetchone()
    return _person(row) if row else None


def bind(db: sqlite3.Connection, name: str, issuer: str, subject: str) -> None:
    db.execute("UPDATE people SET issuer = ?, subject = ? WHERE name = ?", (issuer, subject, name))


def ask_second_factor(db: sqlite3.Connection, name: str, sealed: str) -> None:
    db.execute("UPDATE people SET second_factor_asked = ? WHERE name = ?", (sealed, name))


def keep_second_factor(db: sqlite3.Connection, name: str, sealed: str) -> None:
    db.execute("UPDATE people SET second_factor = ?, second_factor_asked = '' WHERE name = ?", (sealed, name))


def add_sign_in(db: sqlite3.Connection, at: str, name: str, address: str, way: str, outcome: str) -> None:
    db.execute(
        "INSERT INTO sign_ins (at, name, address, way, outcome) VALUES (?, ?, ?, ?, ?)",
        (at, name, address, way, outcome),
    )
    db.execute("DELETE FROM sign_ins WHERE id <= (SELECT MAX(id) FROM sign_ins) - ?", (MOST_SIGN_INS,))


def sign_ins(db: sqlite3.Connection, before: int | None, limit: int) -> list[SignInRow]:
    rows = db.execute("SELECT * FROM sign_ins WHERE id < ? ORDER BY id DESC LIMIT ?", (before or 2**62, limit))
    return [SignInRow(**dict(row)) for row in rows]


def end_sessions(db: sqlite3.Connection, name: str) -> None:
    db.execute("UPDATE people SET session_epoch = session_epoch + 1 WHERE name = ?", (name,))


def _person(row: sqlite3.Row) -> PersonRow:
    return PersonRow(
        row["name"], row["version"], row["display"], row["role"], json.loads(row["sites"]), row["origin"],
        row["email"], tuple(json.loads(row["news"])), row["password_hash"], bool(row["active"]),
        row["session_epoch"], bool(row["calendar_digest"]), row["second_factor"], row["second_factor_asked"],
    )  # fmt: skip


_TOKEN = "SELECT id, name, person, role, device, session, issued_at, expires_on, revoked_at, last_used_at FROM tokens"


def _token(row: sqlite3.Row) -> TokenRow:
    return TokenRow(**{**dict(row), "session": bool(row["session"])})


def add_token(db: sqlite3.Connection, **values: str | int) -> int:
    """Keep a token: name, person, role, device, session, digest, issued_at and expires_on."""
    cursor = db.execute(
        "INSERT INTO tokens (name, person, role, device, session, digest, issued_at, expires_on)"
        " VALUES (:name, :person, :role, :device, :session, :digest, :issued_at, :expires_on)",
        values,
    )
    return int(cursor.lastrowid or 0)


def token_by_digest(db: sqlite3.Connection, digest: str) -> TokenRow | None:
    row = db.execute(f"{_TOKEN} WHERE digest = ?", (digest,)).fetchone()
    return _token(row) if row else None


def token(db: sqlite3.Connection, number: int) -> TokenRow | None:
    row = db.execute(f"{_TOKEN} WHERE id = ?", (number,)).fetchone()
    return _token(row) if row else None


def tokens(db: sqlite3.Connection) -> list[TokenRow]:
    return [_token(row) for row in db.execute(f"{_TOKEN} ORDER BY id")]


def token_used(db: sqlite3.Connection, number: int, at: str) -> None:
    db.execute("UPDATE tokens SET last_used_at = ? WHERE id = ?", (at, number))


def revoke_token(db: sqlite3.Connection, number: int, at: str) -> None:
    db.execute("UPDATE tokens SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL", (at, number))


def revoke_tokens_of(db: sqlite3.Connection, person: str, at: str) -> None:
    db.execute("UPDATE tokens SET revoked_at = ? WHERE person = ? AND revoked_at IS NULL", (at, person))


# ------------------------------------------------------------------- deputies


class DeputyRow(NamedTuple):
    """For the days from `start_on` through `end_on` a deputy acts for a person; `ended_at` ends it before its time."""

    id: int
    person: str
    deputy: str
    start_on: str
    end_on: str
    reason: str
    by: str
    at: str
    ended_at: str | None


def add_deputy(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO deputies (person, deputy, start_on, end_on, reason, by, at)"
        " VALUES (:person, :deputy, :start_on, :end_on, :reason, :by, :at)",
        values,
    )
    return int(cursor.lastrowid or 0)


def end_deputy(db: sqlite3.Connection, number: int, at: str) -> None:
    db.execute("UPDATE deputies SET ended_at = ? WHERE id = ?", (at, number))


def deputy(db: sqlite3.Connection, number: int) -> DeputyRow | None:
    row = db.execute("SELECT * FROM deputies WHERE id = ?", (number,)).fetchone()
    return DeputyRow(*row) if row else None


def deputies(db: sqlite3.Connection) -> list[DeputyRow]:
    """Every deputy, newest first."""
    return [DeputyRow(*row) for row in db.execute("SELECT * FROM deputies ORDER BY id DESC")]


def use_code(db: sqlite3.Connection, name: str, step: int) -> bool:
    """Note that a code of a half minute was used; False if one of it, or of a later one, was used before."""
    cursor = db.execute(
        "INSERT INTO used_codes (person, step) VALUES (?1, ?2)"
        " ON CONFLICT (person) DO UPDATE SET step = excluded.step WHERE excluded.step > step",
        (name, step),
    )
    return cursor.rowcount > 0


def was_removed(db: sqlite3.Connection, person: str, deputy: str) -> bool:
    """Whether a deputy of a person was removed before the end of the term, or can no longer sign in."""
    row = db.execute(
        "SELECT (SELECT active FROM people WHERE name = ?2) AS active,"
        " (SELECT ended_at FROM deputies WHERE person = ?1 AND deputy = ?2 ORDER BY id DESC LIMIT 1) AS ended",
        (person, deputy),
    ).fetchone()
    return not row["active"] or row["ended"] is not None


def deputised(db: sqlite3.Connection, name: str, day: str) -> list[str]:
    """The people in whose place a person may act on a day."""
    rows = db.execute(
        "SELECT DISTINCT d.person FROM deputies AS d JOIN people AS p ON p.name = d.person"
        " WHERE d.deputy = ?1 AND d.start_on <= ?2 AND d.end_on >= ?2 AND d.ended_at IS NULL AND p.active"
        " ORDER BY d.person",
        (name, day),
    )
    return [row["person"] for row in rows]
