"""The ledger entry of a use case, the events that follow it, and the receipt of its Idempotency-Key."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from typing import Any

from doorstone.core.text import escaped
from doorstone.formats.cloudevents import event_json, kind_of
from doorstone.store import ledger, notifications
from doorstone.store import notifications as store
from doorstone.store import people as people_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.context.errors import ReusedKeyError


def record(
    context: Context,
    db: sqlite3.Connection,
    actor: Actor,
    action: str,
    kind: str,
    obj: str,
    body: Mapping[str, Any],
    *,
    creates: bool = False,
    devices: Iterable[str] = (),
) -> None:
    """Write the ledger entry of a use case, and queue it for every webhook subscribed to this kind of event.

    With `creates`, also the receipt of its Idempotency-Key. Devices that the body names, and those in `devices`, get
    the entry into their story.
    """
    if actor.in_place_of:
        body = {**body, "in_place_of": actor.in_place_of}
    listed = body.get("devices")
    named = {*devices, *(listed if isinstance(listed, list) else ())}
    if body.get("device"):
        named.add(str(body["device"]))
    about = [("device", name) for name in sorted(named)]
    entry = ledger.append(db, context.now(), actor.name, actor.via, action, kind, obj, body, about)
    what = kind_of(action)
    for webhook in notifications.webhooks(db):
        if webhook.active and (not webhook.kinds or any(what == k or what.startswith(f"{k}.") for k in webhook.kinds)):
            event = event_json(
                f"L-{entry.seq}", what, obj, entry.at, {"actor": actor.name, **body, "entry_hash": entry.hash}
            )
            notifications.add_delivery(db, webhook.id, "", f"L-{entry.seq}", what, event, entry.at)
    if creates and actor.receipt is not None:
        ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, obj, context.now())


def object_made_before(db: sqlite3.Connection, actor: Actor) -> str | None:
    """The object that an earlier call with the same Idempotency-Key made. Raises `ReusedKeyError`."""
    if actor.receipt is None:
        return None
    found = ledger.find_receipt(db, actor.name, actor.receipt.key)
    if found is None:
        return None
    if found[0] != actor.receipt.fingerprint:
        raise ReusedKeyError("This Idempotency-Key was used for another call", "Use a new key for each new call")
    return found[1]


def tell_people(
    context: Context,
    db: sqlite3.Connection,
    kind: str,
    obj: str,
    words: str,
    *,
    people: Iterable[str] = (),
    roles: Iterable[str] = (),
    besides: Iterable[str] = (),
) -> None:
    """Queue a mail for everybody concerned who subscribes to `kind` and has a mail address."""
    flat = " ".join(escaped(words).split())
    named, wanted, never = set(people), set(roles), set(besides)
    for person in people_store.every(db):
        held = {person.role, *person.sites.values()}
        if person.name in never or not (person.name in named or held & wanted):
            continue
        if person.active and person.email and kind in person.news:
            letter = {"to": person.email, "subject": f"Door Stone: {flat}"[:180], "text": _letter(words, obj)}
            store.add_delivery(db, None, person.name, f"{kind} {obj}", kind, json.dumps(letter), context.now())


def _letter(words: str, obj: str) -> str:
    return f"{words}\n\nLook at it: doorstone exception show {obj}, or the console's page of {obj}.\n"
