"""Exceptions that end by themselves: those that lapsed and those that a renewal replaced."""

from __future__ import annotations

from datetime import date, timedelta

from doorstone.core.exceptions.life import ExceptionState
from doorstone.store import exceptions as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of

SERVICE = Actor("doorstone", "administrator", "rounds")


def lapse(context: Context) -> list[str]:
    """Write down what has lapsed, with the day on which it did, and close what its successor has replaced."""
    today = context.today().isoformat()
    with context.database.read() as db:
        if not store.past(db, today) and not store.replaced(db, today):
            return []
    ended = []
    with context.database.write() as db:
        for old, new in store.replaced(db, today):
            row, name = store.get(db, old), id_of("EX", old)
            assert row is not None
            store.end(db, old, ExceptionState.CLOSED, today)
            body = {"renewed_by": id_of("EX", new), "ended_on": today}
            record(context, db, SERVICE, "exception replaced", "exception", name, body, devices=row.devices)
            ended.append(name)
        for number, last in store.past(db, today):
            row, name = store.get(db, number), id_of("EX", number)
            assert row is not None
            on = (date.fromisoformat(last) + timedelta(days=1)).isoformat()
            store.end(db, number, ExceptionState.LAPSED, on)
            body = {"expires_on": last, "ended_on": on, "noticed_at": context.now()}
            record(context, db, SERVICE, "exception lapsed", "exception", name, body, devices=row.devices)
            words = f"{name} lapsed on {on}; see what must be done for its devices"
            tell_people(context, db, "decision", name, words, people=(row.owner, row.requester))
            ended.append(name)
    return ended
