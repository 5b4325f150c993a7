"""The context in which every use case is done: the records, the clock, the organisation's policy, a cache."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterator, Mapping
from contextlib import contextmanager
from datetime import date, datetime
from typing import Any, TypeVar, cast

from msgspec import Struct, field

from doorstone.core.exceptions.residual import RiskTable
from doorstone.core.facts import Source
from doorstone.core.forecast.costs import CostModel
from doorstone.core.readings.history import Retention
from doorstone.store import ledger
from doorstone.store.database import Database
from doorstone.store.devices import profiles
from doorstone.store.devices.profiles import Stamp
from doorstone.work.context.cache import Cache
from doorstone.work.context.clock import Clock
from doorstone.work.context.passwords import Passwords
from doorstone.work.context.write_priority import WritePriority

T = TypeVar("T")
SOURCES: Mapping[str, Source] = {
    "operator": Source("operator", 100, 60),
    "collector": Source("collector", 80, 30),
    "file": Source("file", 60, 30),
    "assessor": Source("assessor", 50, 30),
    "attempt": Source("attempt", 10, None),
}


class Policy(Struct, frozen=True):
    """What the organisation has decided: `most_days` an exception may run, self-approval, days between checks.

    `two_approvers` is none, critical or all; `required` are fields that a request must have: conditions, attachment.
    For `separate_days` an account counts as in the hands of whoever created it or set its password.
    A device is asked about after `silent_days` without a reading, and `reread_days` before a reading expires.
    `ahead_days` before a review or a lapse it is due; a request waits for `decide_days` before it is overdue.
    """

    most_days: int = 365
    self_approval: bool = False
    two_approvers: str = "none"
    required: tuple[str, ...] = ()
    ahead_days: int = 30
    decide_days: int = 7
    check_every_days: int = 60
    stay_days: int = 180
    separate_days: int = 30
    silent_days: int = 45
    reread_days: int = 7
    retention: Retention = field(default_factory=Retention)
    costs: CostModel = field(default_factory=CostModel)
    risk: RiskTable = field(default_factory=RiskTable)
    sources: Mapping[str, Source] = field(default_factory=lambda: SOURCES)


class Rounds(Struct):
    """What the scheduler of this process has done: when its last round ended (UTC), and why it failed, if it did."""

    seconds: int = 30
    ended_at: datetime | None = None
    failed: str = ""


class Context:
    """Holds what a use case needs."""

    def __init__(
        self, database: Database, clock: Clock, policy: Policy | None = None, passwords: Passwords | None = None
    ) -> None:
        self.database = database
        self.clock = clock
        self.policy = policy or Policy()
        self.passwords = passwords or Passwords()
        self.write_priority = WritePriority()
        self.cache = Cache()
        self._local = threading.local()
        self.token_uses: dict[int, str] = {}
        self.rounds = Rounds()

    def cached(self, key: tuple[Hashable, ...], depends_on: Any, make: Callable[[], T], *, stable: bool = False) -> T:
        """The answer to a question, made once for as long as what it depends on is the same.

        In a transaction that writes it is made anew and not kept: what is seen there may still be undone. What is
        `stable`, so that no write changes it while `depends_on` is the same, is kept for that transaction alone. Inside
        any transaction nobody waits for another to make it.
        """
        if serial := self.database.writing_since:
            return self.cache.get((*key, "writing"), (serial, depends_on), make, wait=False) if stable else make()
        return self.cache.get(key, depends_on, make, wait=not self.database.busy)

    def stamp(self) -> Stamp:
        """How far the records have come, as this thread sees them."""
        held = self.database.held
        if held is None:
            return profiles.stamp(self.database.connection)
        if "stamp" not in held:
            held["stamp"] = profiles.stamp(self.database.connection)
        return cast(Stamp, held["stamp"])

    def known_now(self, key: tuple[Hashable, ...], of: object, make: Callable[[], T]) -> T:
        """The answer to a question that rests on the records, the day and the object `of` alone.

        It is shared by all transactions that see the records alike on the same day, and asked for without a look at
        what it rests on. Outside of a transaction, and in one that may have written, it is made anew.
        """
        held = self.database.held
        if held is None:
            return make()
        if "known now" not in held:
            held["known now"] = self.cached(("known now",), (self.stamp(), self.today()), dict)
        answers = held["known now"]
        found = answers.get(key)
        if found is None or found[0] is not of:
            found = answers[key] = of, make()
        return cast(T, found[1])

    def floor(self) -> date | None:
        """The latest day that the ledger has seen: however the clock is set back, no day before it comes again."""
        with self.database.read() as db:
            at = ledger.last_at(db)
        return date.fromisoformat(at[:10]) if at else None

    @contextmanager
    def one_call(self) -> Iterator[None]:
        """Inside, this thread's time stands still: what a call reads and writes is of one moment."""
        if self._moment() is not None:
            yield
            return
        self._local.moment = self.clock.now()
        try:
            yield
        finally:
            self._local.moment = None

    def _moment(self) -> datetime | None:
        return cast("datetime | None", getattr(self._local, "moment", None))

    def moment(self) -> datetime:
        """The time of this call; outside of one, the clock's."""
        return self._moment() or self.clock.now()

    def now(self) -> str:
        """The time as ISO 8601."""
        return self.moment().isoformat()

    def today(self) -> date:
        return self.moment().date()
