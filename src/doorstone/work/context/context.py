"""The context at which every use case is done: the records, the clock, the organisation's policy, a memory."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass, field
from datetime import date
from typing import Any, TypeVar, cast

from cachetools import LRUCache

from doorstone.core.facts import Source
from doorstone.core.forecast.costs import CostModel
from doorstone.store import ledger
from doorstone.store.database import Database
from doorstone.store.devices import profiles
from doorstone.store.devices.profiles import Stamp
from doorstone.work.context.clock import Clock
from doorstone.work.context.passwords import Passwords
from doorstone.work.context.write_priority import WritePriority

T = TypeVar("T")
MOST_ANSWERS = 2_000
SOURCES: Mapping[str, Source] = {
    "operator": Source("operator", 100, 60),
    "collector": Source("collector", 80, 30),
    "file": Source("file", 60, 30),
    "assessor": Source("assessor", 50, 30),
    "attempt": Source("attempt", 10, None),
}


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


class Context:
    """Holds what a use case needs, and what was worked out before, each together with what it rests on."""

    def __init__(
        self, database: Database, clock: Clock, policy: Policy | None = None, passwords: Passwords | None = None
    ) -> None:
        self.database = database
        self.clock = clock
        self.policy = policy or Policy()
        self.passwords = passwords or Passwords()
        self.write_priority = WritePriority()
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
        with nullcontext() if self.database.busy else turn:  # do not wait for a lock inside a transaction
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
