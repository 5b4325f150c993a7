"""The desk at which every use case is done: the records, the clock, the organisation's policy, a memory."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any, Protocol, TypeVar, cast

from cachetools import LRUCache

from doorstone.core.costs import CostModel
from doorstone.core.facts import Source
from doorstone.formats.events import event_json, kind_of
from doorstone.store import ledger, profiles, telling
from doorstone.store.database import Database
from doorstone.store.profiles import Stamp
from doorstone.work.errors import ReusedKeyError
from doorstone.work.passwords import Passwords
from doorstone.work.traffic import Traffic

T = TypeVar("T")
MOST_ANSWERS = 2_000
SOURCES: Mapping[str, Source] = {
    "operator": Source("operator", 100, 60),
    "collector": Source("collector", 80, 30),
    "file": Source("file", 60, 30),
    "assessor": Source("assessor", 50, 30),
    "attempt": Source("attempt", 10, None),
}


class Clock(Protocol):
    def now(self) -> datetime: ...


class SystemClock:
    def now(self) -> datetime:
        return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


@dataclass(frozen=True, slots=True)
class FixedClock:
    """A clock that stands still, for the demo and for tests."""

    at: datetime

    def now(self) -> datetime:
        return self.at


@dataclass(frozen=True, slots=True)
class Policy:
    """What the organisation has decided: `most_days` an exception may run, self-approval, days between checks.

    `two_approvers` is none, critical or all; `required` are fields that a request must have: conditions, attachment.
    A device is asked about after `silent_days` without a reading. `ahead_days` before a review or a lapse it is due; a
    request waits for `decide_days` before it is overdue.
    """

    most_days: int = 365
    self_approval: bool = False
    two_approvers: str = "none"
    required: tuple[str, ...] = ()
    ahead_days: int = 30
    decide_days: int = 7
    check_every_days: int = 60
    stay_days: int = 180
    silent_days: int = 45
    costs: CostModel = field(default_factory=CostModel)
    sources: Mapping[str, Source] = field(default_factory=lambda: SOURCES)


@dataclass(frozen=True, slots=True)
class Receipt:
    """The Idempotency-Key of a creating call and a fingerprint of what was asked."""

    key: str
    fingerprint: str


@dataclass(frozen=True, slots=True)
class Actor:
    """Who does it: a person, the role they act in, and through what (console, token, local).

    An actor is made once, at authentication, and from then on only narrowed with `dataclasses.replace`.
    `sites` maps site -> the greater role that they have there. `device` is the only one that they may speak of.
    `session`: a person who has signed in, or the token of their own command line, who may manage tokens and profile.
    """

    name: str
    role: str
    via: str
    receipt: Receipt | None = None
    sites: Mapping[str, str] = field(default_factory=dict)
    device: str = ""
    session: bool = False


class Desk:
    """Holds what a use case needs, and what was worked out before, each together with what it rests on."""

    def __init__(
        self, database: Database, clock: Clock, policy: Policy | None = None, passwords: Passwords | None = None
    ) -> None:
        self.database = database
        self.clock = clock
        self.policy = policy or Policy()
        self.passwords = passwords or Passwords()
        self.traffic = Traffic()
        self.memory: dict[Any, Any] = {}
        self.token_uses: dict[int, str] = {}
        self._answers: LRUCache[Any, tuple[Any, Any]] = LRUCache(MOST_ANSWERS)
        self._guard = threading.Lock()
        self._turns = [threading.RLock() for _ in range(1024)]

    def remembered(self, key: tuple[Any, ...], rests_on: Any, make: Callable[[], T]) -> T:
        """The answer to a question, made once for as long as what it rests on is the same.

        One caller at a time makes it. In a transaction that writes it is made anew and not kept: what is seen there
        may still be undone.
        """
        if self.database.writing:
            return make()
        with self._guard:
            held = self._answers.get(key)
        if held is not None and held[0] == rests_on:
            return cast(T, held[1])
        turn = self._turns[hash(key) % len(self._turns)]
        with nullcontext() if self.database.busy else turn:  # who is inside a transaction waits for nobody
            with self._guard:
                held = self._answers.get(key)
            if held is None or held[0] != rests_on:
                held = (rests_on, make())
                with self._guard:
                    self._answers[key] = held
        return cast(T, held[1])

    def shared(self, key: Any, rests_on: Any, make: Callable[[], T]) -> T:
        """Something that many use and add to, the same one for as long as what it rests on is the same."""
        held = self.memory.get(key)
        if held is None or held[0] != rests_on:
            held = self.memory[key] = (rests_on, make())
        return cast(T, held[1])

    def stamp(self) -> Stamp:
        """How far the records have come, as this thread sees them."""
        held = self.database.held
        if held is None:
            return profiles.stamp(self.database.connection)
        if "stamp" not in held:
            held["stamp"] = profiles.stamp(self.database.connection)
        return cast(Stamp, held["stamp"])

    def floor(self) -> date | None:
        """The latest day that the ledger has seen: however the clock is set back, no day before it comes again."""
        with self.database.read() as db:
            at = ledger.last_at(db)
        return date.fromisoformat(at[:10]) if at else None

    def now(self) -> str:
        return self.clock.now().isoformat()

    def today(self) -> date:
        return self.clock.now().date()


def record(
    desk: Desk,
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
    """Write the ledger entry of a use case, and put it on its way to every hook that is told of such.

    With `creates`, also the receipt of its Idempotency-Key. Devices that the body names, and those in `devices`, get
    the entry into their story.
    """
    listed = body.get("devices")
    named = {*devices, *(listed if isinstance(listed, list) else ())}
    if body.get("device"):
        named.add(str(body["device"]))
    about = [("device", name) for name in sorted(named)]
    entry = ledger.append(db, desk.now(), actor.name, actor.via, action, kind, obj, body, about)
    what = kind_of(action)
    for hook in telling.hooks(db):
        if hook.active and (not hook.kinds or any(what == k or what.startswith(f"{k}.") for k in hook.kinds)):
            event = event_json(f"L-{entry.seq}", what, obj, entry.at, {"actor": actor.name, **body})
            telling.add_delivery(db, hook.id, "", f"L-{entry.seq}", what, event, entry.at)
    if creates and actor.receipt is not None:
        ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, obj, desk.now())


def made_before(db: sqlite3.Connection, actor: Actor) -> str | None:
    """The object that an earlier call with the same Idempotency-Key made. Raises `ReusedKeyError`."""
    if actor.receipt is None:
        return None
    found = ledger.find_receipt(db, actor.name, actor.receipt.key)
    if found is None:
        return None
    if found[0] != actor.receipt.fingerprint:
        raise ReusedKeyError("This Idempotency-Key was used for another call", "Use a new key for each new call")
    return found[1]


def number_of(prefix: str, name: str) -> int:
    """The number in an id such as EX-0007; 0 if it is no such id."""
    digits = name.removeprefix(f"{prefix}-")
    return int(digits) if digits != name and digits.isdecimal() and len(digits) < 12 else 0


def id_of(prefix: str, number: int) -> str:
    return f"{prefix}-{number:04d}"
