"""Rounds: what is done on time without anybody asking, also for the time in which nobody was there to do it."""

from __future__ import annotations

import json
from datetime import date, timedelta

from doorstone.core.exceptions import ExceptionState
from doorstone.formats.events import event_json
from doorstone.store import exceptions as store
from doorstone.store import people as people_store
from doorstone.store import telling as telling_store
from doorstone.work.desk import Actor, Desk, id_of, record
from doorstone.work.due import due_list
from doorstone.work.picture import picture
from doorstone.work.telling import tell_people

SERVICE = Actor("doorstone", "administrator", "rounds")


def lapse(desk: Desk) -> list[str]:
    """Write down what has lapsed, with the day on which it did, and close what its successor has replaced."""
    today = desk.today().isoformat()
    with desk.database.read() as db:
        if not store.past(db, today) and not store.replaced(db, today):
            return []
    ended = []
    with desk.database.write() as db:
        for old, new in store.replaced(db, today):
            row, name = store.get(db, old), id_of("EX", old)
            assert row is not None
            store.end(db, old, ExceptionState.CLOSED, today)
            body = {"renewed_by": id_of("EX", new), "ended_on": today}
            record(desk, db, SERVICE, "exception replaced", "exception", name, body, devices=row.devices)
            ended.append(name)
        for number, last in store.past(db, today):
            row, name = store.get(db, number), id_of("EX", number)
            assert row is not None
            on = (date.fromisoformat(last) + timedelta(days=1)).isoformat()
            store.end(db, number, ExceptionState.LAPSED, on)
            body = {"expires_on": last, "ended_on": on, "noticed_at": desk.now()}
            record(desk, db, SERVICE, "exception lapsed", "exception", name, body, devices=row.devices)
            words = f"{name} lapsed on {on}; see what must be done for its devices"
            tell_people(desk, db, "decision", name, words, people=(row.owner, row.requester))
            ended.append(name)
    return ended


def tell_due(desk: Desk) -> int:
    """Put on its way, to everybody and every hook that wants to be told, what is due, each thing once.

    Returns how many letters that makes.
    """
    _tell_hooks(desk)
    with desk.database.read() as db:
        wanting = [p for p in people_store.every(db) if p.active and p.email and "due" in p.told_of]
    sent = 0
    for person in wanting:
        items = due_list(desk, person.name)
        with desk.database.write() as db:
            known = telling_store.told(db, person.name)
            new = [due for due in items if due.id not in known]
            if not new:
                continue
            lines = [f"{due.on}{' (overdue)' if due.overdue(desk.today()) else ''}  {due.words}" for due in new]
            subject = "Door Stone: " + (new[0].words if len(new) == 1 else f"{len(new)} things are due")
            letter = {"to": person.email, "subject": subject[:180], "text": "\n".join(lines) + "\n"}
            event = f"due {desk.today()}"
            telling_store.add_delivery(db, None, person.name, event, "due", json.dumps(letter), desk.now())
            for due in new:
                telling_store.keep_told(db, person.name, due.id, desk.today().isoformat())
            sent += 1
    return sent


def _tell_hooks(desk: Desk) -> None:
    """An event `due.KIND` for each hook that is told of what is due."""
    with desk.database.read() as db:
        wanting = [hook for hook in telling_store.hooks(db) if hook.active and (not hook.kinds or "due" in hook.kinds)]
    for hook in wanting:
        items = due_list(desk)
        who = id_of("HK", hook.id)
        with desk.database.write() as db:
            known = telling_store.told(db, who)
            for due in (due for due in items if due.id not in known):
                data = {"on": due.on.isoformat(), "what": due.words}
                event, kind = f"D-{due.id}".replace(" ", "-"), f"due.{due.kind}"
                body = event_json(event, kind, due.object, desk.now(), data)
                telling_store.add_delivery(db, hook.id, "", event, kind, body, desk.now())
                telling_store.keep_told(db, who, due.id, desk.today().isoformat())


def look_ahead(desk: Desk) -> int:
    """Work out the forecasts that are not known yet, so that no page has to; returns how many cases there are."""
    now = picture(desk)
    return sum(len(now.fleet_forecasts(sheet.platform)) for sheet in now.sheets.values())
