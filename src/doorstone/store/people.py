"""People and their tokens."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class PersonRow:
    name: str
    display: str
    role: str
    password_hash: str
    active: bool
    session_epoch: int


@dataclass(frozen=True, slots=True)
class TokenRow:
    id: int
    name: str
    person: str
    role: str
    issued_at: str
    expires_on: str
    revoked_at: str | None


def add(db: sqlite3.Connection, name: str, display: str, role: str, password_hash: str, at: str) -> None:
    """Raises `sqlite3.IntegrityError` if the name is taken."""
    db.execute(
        "INSERT INTO people (name, display, role, password_hash, added_at) VALUES (?, ?, ?, ?, ?)",
        (name, display, role, password_hash, at),
    )


def get(db: sqlite3.Connection, name: str) -> PersonRow | None:
    row = db.execute("SELECT * FROM people WHERE name = ?", (name,)).fetchone()
    return _person(row) if row else None


def every(db: sqlite3.Connection) -> list[PersonRow]:
    return [_person(row) for row in db.execute("SELECT * FROM people ORDER BY name")]


def end_sessions(db: sqlite3.Connection, name: str) -> None:
    db.execute("UPDATE people SET session_epoch = session_epoch + 1 WHERE name = ?", (name,))


def _person(row: sqlite3.Row) -> PersonRow:
    return PersonRow(
        row["name"], row["display"], row["role"], row["password_hash"], bool(row["active"]), row["session_epoch"]
    )


_TOKEN = "SELECT id, name, person, role, issued_at, expires_on, revoked_at FROM tokens"


def add_token(
    db: sqlite3.Connection, name: str, person: str, role: str, digest: str, issued_at: str, expires_on: str
) -> int:
    cursor = db.execute(
        "INSERT INTO tokens (name, person, role, digest, issued_at, expires_on) VALUES (?, ?, ?, ?, ?, ?)",
        (name, person, role, digest, issued_at, expires_on),
    )
    return int(cursor.lastrowid or 0)


def token_by_digest(db: sqlite3.Connection, digest: str) -> TokenRow | None:
    row = db.execute(f"{_TOKEN} WHERE digest = ?", (digest,)).fetchone()
    return TokenRow(*row) if row else None


def token(db: sqlite3.Connection, number: int) -> TokenRow | None:
    row = db.execute(f"{_TOKEN} WHERE id = ?", (number,)).fetchone()
    return TokenRow(*row) if row else None


def tokens(db: sqlite3.Connection) -> list[TokenRow]:
    return [TokenRow(*row) for row in db.execute(f"{_TOKEN} ORDER BY id")]


def revoke_token(db: sqlite3.Connection, number: int, at: str) -> None:
    db.execute("UPDATE tokens SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL", (at, number))
