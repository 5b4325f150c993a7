"""Telling people and programs: hooks, news by mail, and carrying both out with ever longer waits between tries."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from urllib.parse import urlsplit

from doorstone.formats.events import event_json
from doorstone.store import people as people_store
from doorstone.store import telling as store
from doorstone.store.telling import DeliveryRow, HookRow
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError

MOST_TRIES = 8
FIRST_WAIT = timedelta(seconds=30)
KINDS = (
    "exception", "question", "condition", "attachment", "kit", "attempt", "observed", "sorted", "dispute", "sheet",
    "readings", "person", "token", "due",
)  # fmt: skip
"""First words of event kinds, for hooks that are told of some only."""


@dataclass(frozen=True, slots=True)
class Hook:
    """An address that is told. `secret` signs what is sent; it is shown once, when the hook is made."""

    id: str
    row: HookRow
    secret: str | None = None


@dataclass(frozen=True, slots=True)
class Letter:
    """One mail to one person."""

    to: str
    subject: str
    text: str


Post = Callable[[HookRow, DeliveryRow], str]
Mail = Callable[[Letter], str]
"""Each tries once and gives what came of it in words; raises `OSError` if it was not taken."""


def tell_people(
    desk: Desk,
    db: sqlite3.Connection,
    kind: str,
    obj: str,
    words: str,
    *,
    people: Iterable[str] = (),
    roles: Iterable[str] = (),
    besides: Iterable[str] = (),
) -> None:
    """Put a letter on its way to everybody concerned who has chosen to be told of `kind` and has a mail address."""
    named, wanted, never = set(people), set(roles), set(besides)
    for person in people_store.every(db):
        held = {person.role, *person.sites.values()}
        if person.name in never or not (person.name in named or held & wanted):
            continue
        if person.active and person.email and kind in person.told_of:
            letter = {"to": person.email, "subject": f"Door Stone: {words}"[:180], "text": _letter(words, obj)}
            store.add_delivery(db, None, person.name, f"{kind} {obj}", kind, json.dumps(letter), desk.now())


def _letter(words: str, obj: str) -> str:
    return f"{words}\n\nLook at it: doorstone exception show {obj}, or the console's page of {obj}.\n"


# --------------------------------------------------------------------- hooks


def add_hook(desk: Desk, actor: Actor, url: str, kinds: tuple[str, ...]) -> Hook:
    """Have an address told of events, of all or of some kinds. Raises `BadInputError`."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username or len(url) > 1000:
        raise BadInputError(f"{url[:80]!r} is no address to send to", "Give http:// or https://, without a password")
    if not url.isascii() or not url.isprintable() or " " in url:
        raise BadInputError(f"{url[:80]!r} has letters that no address has", "Write them as percent escapes")
    if unknown := [kind for kind in kinds if kind.split(".")[0] not in KINDS]:
        raise BadInputError(f"There are no events {unknown[0]!r}", f"Use some of {', '.join(KINDS)}")
    secret = "dh_" + secrets.token_urlsafe(32)
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_hook(desk, before)
        number = store.add_hook(db, url, kinds, desk.database.vault.seal(secret), actor.name, desk.now())
        record(
            desk,
            db,
            actor,
            "hook added",
            "hook",
            id_of("HK", number),
            {"host": parts.hostname, "kinds": list(kinds)},
            creates=True,
        )
        row = store.hook(db, number)
    assert row is not None
    return Hook(id_of("HK", number), row, secret)


def get_hook(desk: Desk, name: str) -> Hook:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        row = store.hook(db, number_of("HK", name))
    if row is None:
        raise MissingError(f"There is no hook {name!r}", "See them with 'doorstone hook list'")
    return Hook(name, row)


def list_hooks(desk: Desk) -> list[Hook]:
    with desk.database.read() as db:
        return [Hook(id_of("HK", row.id), row) for row in store.hooks(db)]


def remove_hook(desk: Desk, actor: Actor, name: str) -> Hook:
    """Tell it nothing more; its log of deliveries stays."""
    found = get_hook(desk, name)
    with desk.database.write() as db:
        if found.row.active:
            store.stop_hook(db, found.row.id)
            record(desk, db, actor, "hook removed", "hook", name, {"host": urlsplit(found.row.url).hostname})
    return get_hook(desk, name)


def try_hook(desk: Desk, actor: Actor, name: str) -> None:
    """Put an event of kind `hook.tried` on its way to a hook, whatever it is told of otherwise."""
    found = get_hook(desk, name)
    with desk.database.write() as db:
        event = f"T-{secrets.token_hex(8)}"
        body = event_json(event, "hook.tried", name, desk.now(), {"actor": actor.name})
        store.add_delivery(db, found.row.id, "", event, "hook.tried", body, desk.now())


def list_deliveries(desk: Desk, hook: str = "", limit: int = 100) -> list[DeliveryRow]:
    """What was sent or is to be sent, newest first."""
    number = get_hook(desk, hook).row.id if hook else None
    with desk.database.read() as db:
        return store.deliveries(db, number, limit)


# ------------------------------------------------------------------ carrying


def carry_out(desk: Desk, now: datetime, post: Post, mail: Mail | None) -> int:
    """Try everything that is waiting for `now` (real time, UTC); returns how much was taken.

    What is not taken is tried again after 30 seconds, then twice that, and so on, eight times in all. Letters wait
    while there is no mail service. What is sent twice because the service died in between carries the same id.
    """
    with desk.database.read() as db:
        waiting = store.waiting(db, now.isoformat())
        hooks = {hook.id: hook for hook in store.hooks(db)}
    taken = 0
    for one in waiting:
        if one.hook is None and mail is None:
            continue
        try:
            answer = post(_opened(desk, hooks[one.hook]), one) if one.hook is not None else _send(mail, one)
            state, next_at = "done", ""
            taken += 1
        except OSError as error:
            answer = str(error) or type(error).__name__
            state = "given-up" if one.tries + 1 >= MOST_TRIES else "waiting"
            next_at = (now + FIRST_WAIT * 2**one.tries).isoformat()
        with desk.database.write() as db:
            store.tried(db, one.id, state, next_at, answer)
    return taken


def _opened(desk: Desk, hook: HookRow) -> HookRow:
    return replace(hook, secret=desk.database.vault.open(hook.secret))


def _send(mail: Mail | None, one: DeliveryRow) -> str:
    assert mail is not None
    letter = json.loads(one.body)
    return mail(Letter(letter["to"], letter["subject"], letter["text"]))
