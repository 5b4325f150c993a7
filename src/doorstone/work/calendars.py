"""A person's calendar of due dates: its secret address, made and revoked by themselves."""

from __future__ import annotations

import secrets

from doorstone.store import people as store
from doorstone.work.desk import Actor, Desk, record
from doorstone.work.people import digest_of


def make_calendar(desk: Desk, actor: Actor) -> str:
    """The secret of a new address; the one before is revoked by it."""
    secret = secrets.token_urlsafe(24)
    with desk.database.write() as db:
        store.set_calendar(db, actor.name, digest_of(secret))
        record(desk, db, actor, "calendar address made", "person", actor.name, {})
    return secret


def revoke_calendar(desk: Desk, actor: Actor) -> None:
    """The address answers no more."""
    with desk.database.write() as db:
        store.set_calendar(db, actor.name, "")
        record(desk, db, actor, "calendar address revoked", "person", actor.name, {})
