"""Clocks: the system's, and one that stands still."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Protocol

from msgspec import Struct


class Clock(Protocol):
    def now(self) -> datetime: ...


class SystemClock:
    def now(self) -> datetime:
        return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


class FixedClock(Struct, frozen=True):
    """A clock that stands still, for the demo and for tests."""

    at: datetime

    def now(self) -> datetime:
        return self.at
