"""Webhooks and mail: add, remove, try, and deliver with growing waits between tries."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable
from datetime import datetime, timedelta
from urllib.parse import urlsplit

from msgspec import Struct
from msgspec.structs import replace

from doorstone.formats.cloudevents import event_json
from doorstone.store import notifications as store
from doorstone.store.notifications import DeliveryRow, WebhookRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.context.ids import id_of, number_of

MOST_TRIES = 8
FIRST_WAIT = timedelta(seconds=30)
KINDS = (
    "exception", "question", "condition", "attachment", "kit", "attempt", "observed", "sorted", "dispute", "sheet",
    "readings", "person", "token", "due",
)  # fmt: skip
"""First words of event kinds, for webhooks that subscribe to some only."""


class Webhook(Struct, frozen=True):
    """An address that gets events. `secret` signs them; it is shown once, when the webhook is made."""

    id: str
    row: WebhookRow
    secret: str | None = None


class Email(Struct, frozen=True):
    """One mail to one person."""

    to: str
    subject: str
    text: str


Post = Callable[[WebhookRow, DeliveryRow], str]
Mail = Callable[[Email], str]
"""Each tries once and gives what came of it in words; raises `OSError` if it was not taken."""


# --------------------------------------------------------------------- webhooks


def add_webhook(context: Context, actor: Actor, url: str, kinds: tuple[str, ...]) -> Webhook:
    """Send events to an address: all, or those of some kinds. Raises `BadInputError`."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username or len(url) > 1000:
        raise BadInputError(f"{url[:80]!r} is no address to send to", "Give http:// or https://, without a password")
    if not url.isascii() or not url.isprintable() or " " in url:
        raise BadInputError(f"{url[:80]!r} has letters that no address has", "Write them as percent escapes")
    if unknown := [kind for kind in kinds if kind.split(".")[0] not in KINDS]:
        raise BadInputError(f"There are no events {unknown[0]!r}", f"Use some of {', '.join(KINDS)}")
    secret = "dh_" + secrets.token_urlsafe(32)
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_webhook(context, before)
        number = store.add_webhook(db, url, kinds, context.database.vault.seal(secret), actor.name, context.now())
        record(
            context,
            db,
            actor,
            "webhook added",
            "webhook",
            id_of("HK", number),
            {"host": parts.hostname, "kinds": list(kinds)},
            creates=True,
        )
        row = store.webhook(db, number)
    assert row is not None
    return Webhook(id_of("HK", number), row, secret)


def get_webhook(context: Context, name: str) -> Webhook:
    """One webhook. Raises `MissingError`."""
    with context.database.read() as db:
        row = store.webhook(db, number_of("HK", name))
    if row is None:
        raise MissingError(f"There is no webhook {name!r}", "See them with 'doorstone webhook list'")
    return Webhook(name, row)


def list_webhooks(context: Context) -> list[Webhook]:
    with context.database.read() as db:
        return [Webhook(id_of("HK", row.id), row) for row in store.webhooks(db)]


def remove_webhook(context: Context, actor: Actor, name: str) -> Webhook:
    """Send nothing more to a webhook. Its log of deliveries stays."""
    found = get_webhook(context, name)
    with context.database.write() as db:
        if found.row.active:
            store.stop_webhook(db, found.row.id)
            record(context, db, actor, "webhook removed", "webhook", name, {"host": urlsplit(found.row.url).hostname})
    return get_webhook(context, name)


def try_webhook(context: Context, actor: Actor, name: str) -> None:
    """Queue an event of kind `webhook.tried` for a webhook, whatever kinds it subscribes to."""
    found = get_webhook(context, name)
    with context.database.write() as db:
        event = f"T-{secrets.token_hex(8)}"
        body = event_json(event, "webhook.tried", name, context.now(), {"actor": actor.name})
        store.add_delivery(db, found.row.id, "", event, "webhook.tried", body, context.now())


def list_deliveries(context: Context, webhook: str = "", limit: int = 100) -> list[DeliveryRow]:
    """What was sent or is to be sent, newest first."""
    number = get_webhook(context, webhook).row.id if webhook else None
    with context.database.read() as db:
        return store.deliveries(db, number, limit)


# ------------------------------------------------------------------ carrying


def carry_out(context: Context, now: datetime, post: Post, mail: Mail | None) -> int:
    """Try everything that is waiting for `now` (real time, UTC); returns how much was taken.

    What is not taken is tried again after 30 seconds, then twice that, and so on, eight times in all. Letters wait
    while there is no mail service. What is sent twice because the service died in between carries the same id.
    """
    with context.database.read() as db:
        waiting = store.waiting(db, now.isoformat())
        webhooks = {webhook.id: webhook for webhook in store.webhooks(db)}
    taken = 0
    for one in waiting:
        if one.webhook is None and mail is None:
            continue
        try:
            answer = post(_opened(context, webhooks[one.webhook]), one) if one.webhook is not None else _send(mail, one)
            state, next_at = "done", ""
            taken += 1
        except OSError as error:
            answer = str(error) or type(error).__name__
            state = "given-up" if one.tries + 1 >= MOST_TRIES else "waiting"
            next_at = (now + FIRST_WAIT * 2**one.tries).isoformat()
        with context.database.write() as db:
            store.tried(db, one.id, state, next_at, answer)
    return taken


def _opened(context: Context, webhook: WebhookRow) -> WebhookRow:
    return replace(webhook, secret=context.database.vault.open(webhook.secret))


def _send(mail: Mail | None, one: DeliveryRow) -> str:
    assert mail is not None
    letter = json.loads(one.body)
    return mail(Email(letter["to"], letter["subject"], letter["text"]))
