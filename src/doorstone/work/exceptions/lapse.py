"""Exceptions that end by themselves: those that lapsed and those that a renewal replaced."""

from __future__ import annotations

from datetime import date
from typing import Any

from doorstone.core.exceptions.life import Ending, ExceptionState, ending
from doorstone.store.exceptions import exceptions as store
from doorstone.store.exceptions.exceptions import ApprovedRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of

SERVICE = Actor("doorstone", "administrator", "rounds")


def lapse(context: Context) -> list[str]:
    """Record what has ended by itself, with the day on which it did. Returns the exceptions."""
    today = context.today()
    with context.database.read() as db:
        if not any(_ending(row, today) for row in store.approved(db)):
            return []
    with context.database.write() as db:
        ended = [(row, found) for row in store.approved(db) if (found := _ending(row, today))]
        for row, found in ended:
            name, on = id_of("EX", row.id), found.on.isoformat()
            body: dict[str, Any] = {"ended_on": on}
            store.end(db, row.id, found.state, on)
            if found.state is ExceptionState.CLOSED:
                action, body = "exception replaced", {"renewed_by": found.successor, **body}
            else:
                action, body = "exception lapsed", {"expires_on": row.expires_on, **body, "noticed_at": context.now()}
            record(context, db, SERVICE, action, "exception", name, body, devices=store.devices_of(db, row.id))
            if found.state is ExceptionState.LAPSED:
                words = f"{name} lapsed on {on}; see what must be done for its devices"
                tell_people(context, db, "decision", name, words, people=(row.owner, row.requester))
    return [id_of("EX", row.id) for row, _ in ended]


def _ending(row: ApprovedRow, today: date) -> Ending | None:
    successor = id_of("EX", row.successor) if row.successor else ""
    start = date.fromisoformat(row.successor_start) if row.successor_start else None
    return ending(ExceptionState.APPROVED, date.fromisoformat(row.expires_on), successor, start, today)
