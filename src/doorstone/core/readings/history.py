"""History: which readings of a device are kept, and which are forgotten.

In: the readings of one device, what is current, when something was decided about it, a day. Out: what is forgotten.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import date, timedelta


@dataclass(frozen=True, slots=True)
class PastReading:
    """A reading of a device. `changed`: it moved an answer. `taken_at` is ISO 8601."""

    source: str
    taken_at: str
    content: int
    changed: bool


@dataclass(frozen=True, slots=True)
class Retention:
    """For how many days is kept what ends: readings that moved an answer and that moved none, deliveries that are over,
    receipts of calls with an idempotency key.
    """

    changed_days: int = 365
    unchanged_days: int = 30
    delivery_days: int = 90
    receipt_days: int = 30


def forgotten(
    readings: Collection[PastReading],
    current: Collection[tuple[str, str]],
    decided_at: Iterable[str],
    retention: Retention,
    as_of: date,
) -> list[PastReading]:
    """The readings of a device that need not be kept any longer.

    Kept for ever are those that are `current` (source, time), and of each source the last before anything that was
    decided about the device: an approval, a kit, a settlement or an attempt rests on them.
    """
    needed = set(current)
    for at in decided_at:
        newest: dict[str, str] = {}
        for one in readings:
            if one.taken_at <= at and one.taken_at > newest.get(one.source, ""):
                newest[one.source] = one.taken_at
        needed.update(newest.items())
    return [one for one in readings if (one.source, one.taken_at) not in needed and _over(one, retention, as_of)]


def _over(one: PastReading, retention: Retention, as_of: date) -> bool:
    days = retention.changed_days if one.changed else retention.unchanged_days
    return as_of - date.fromisoformat(one.taken_at[:10]) > timedelta(days=days)
