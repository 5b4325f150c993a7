"""Send what is due to the people and webhooks that want it, each thing once."""

from __future__ import annotations

import json
import sqlite3

from doorstone.formats.cloudevents import event_json
from doorstone.store import ledger as ledger_store
from doorstone.store import notifications as notification_store
from doorstone.store import people as people_store
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.due.due_list import due_list


def tell_due(context: Context) -> int:
    """Queue what is due for every person and webhook that subscribes to it, each thing once.

    Returns how many letters that makes.
    """
    _tell_webhooks(context)
    with context.database.read() as db:
        wanting = [p for p in people_store.every(db) if p.active and p.email and "due" in p.news]
    sent = 0
    for person in wanting:
        items = due_list(context, person.name)
        with context.database.write() as db:
            known = notification_store.notified(db, person.name)
            new = [due for due in items if due.id not in known]
            if not new:
                continue
            lines = [f"{due.on}{' (overdue)' if due.overdue(context.today()) else ''}  {due.words}" for due in new]
            subject = "Door Stone: " + (new[0].words if len(new) == 1 else f"{len(new)} things are due")
            letter = {"to": person.email, "subject": subject[:180], "text": "\n".join([*lines, *_head(db)]) + "\n"}
            event = f"due {context.today()}"
            notification_store.add_delivery(db, None, person.name, event, "due", json.dumps(letter), context.now())
            for due in new:
                notification_store.keep_notified(db, person.name, due.id, context.today().isoformat())
            sent += 1
    return sent


def _head(db: sqlite3.Connection) -> list[str]:
    """The ledger's head for the foot of a letter: letters that are kept show later whether entries are missing."""
    head = ledger_store.head(db)
    return ["", f"The ledger's head today, for doorstone ledger verify --kept: {head}"] if head else []


def _tell_webhooks(context: Context) -> None:
    """An event `due.KIND` for each webhook that subscribes to what is due."""
    with context.database.read() as db:
        wanting = [
            webhook
            for webhook in notification_store.webhooks(db)
            if webhook.active and (not webhook.kinds or "due" in webhook.kinds)
        ]
    for webhook in wanting:
        items = due_list(context)
        who = id_of("HK", webhook.id)
        with context.database.write() as db:
            known = notification_store.notified(db, who)
            for due in (due for due in items if due.id not in known):
                data = {"on": due.on.isoformat(), "what": due.words}
                event, kind = f"D-{due.id}".replace(" ", "-"), f"due.{due.kind}"
                body = event_json(event, kind, due.object, context.now(), data)
                notification_store.add_delivery(db, webhook.id, "", event, kind, body, context.now())
                notification_store.keep_notified(db, who, due.id, context.today().isoformat())
