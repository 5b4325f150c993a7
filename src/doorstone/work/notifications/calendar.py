"""A person's calendar of due dates: its secret address, made and revoked by themselves."""

from __future__ import annotations

import secrets

from doorstone.store import people as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import digest_of


def make_calendar(context: Context, actor: Actor) -> str:
    """The secret of a new address; the one before is revoked by it."""
    secret = secrets.token_urlsafe(24)
    with context.database.write() as db:
        store.set_calendar(db, actor.name, digest_of(secret))
        record(context, db, actor, "calendar address made", "person", actor.name, {})
    return secret


def revoke_calendar(context: Context, actor: Actor) -> None:
    """Revoke a person's calendar address: it no longer answers."""
    with context.database.write() as db:
        store.set_calendar(db, actor.name, "")
        record(context, db, actor, "calendar address revoked", "person", actor.name, {})
