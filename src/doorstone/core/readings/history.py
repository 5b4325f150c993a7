"""History: which readings of a device are kept, which are kept as quiet ones, and which are forgotten.

In: the readings of one device, what is current, when something was decided about it, a day. Out: what becomes of them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date, timedelta

from msgspec import Struct


class PastReading(Struct, frozen=True):
    """A reading of a device. `changed`: it moved an answer. `quiet`: it is kept as what differs from its `content`.

    `taken_at` is ISO 8601.
    """

    source: str
    taken_at: str
    content: int
    changed: bool
    quiet: bool = False


class Thinned(Struct, frozen=True):
    """Readings to forget, and readings to keep as quiet ones, each with the content that it is told apart from."""

    forget: tuple[PastReading, ...]
    quieten: tuple[tuple[PastReading, int], ...]


class Retention(Struct, frozen=True):
    """For how many days is kept what ends: readings that moved an answer and that moved none, deliveries that are over,
    receipts of calls with an idempotency key.
    """

    changed_days: int = 365
    unchanged_days: int = 30
    delivery_days: int = 90
    receipt_days: int = 30


def thinned(
    readings: Collection[PastReading],
    current: Collection[tuple[str, str]],
    decided_at: Iterable[str],
    retention: Retention,
    as_of: date,
) -> Thinned:
    """What becomes of the readings of a device.

    Those that are `current` (source, time) are kept as they are, for ever, and of each source the last before anything
    that was decided about the device: an approval, a kit, a settlement or an attempt rests on them. The others are
    forgotten past their days. Until then those that moved no answer become quiet: told apart from the last reading
    that moved one or from what the quiet one before was told apart from, or else from the first of their source.
    """
    needed = set(current)
    for at in decided_at:
        newest: dict[str, str] = {}
        for one in readings:
            if one.taken_at <= at and one.taken_at > newest.get(one.source, ""):
                newest[one.source] = one.taken_at
        needed.update(newest.items())
    free = [one for one in readings if (one.source, one.taken_at) not in needed]
    quieten = []
    for one in free:
        if not (one.quiet or one.changed or _over(one, retention, as_of)):
            base = _base(one, readings)
            if base is not None:
                quieten.append((one, base))
    return Thinned(tuple(one for one in free if _over(one, retention, as_of)), tuple(quieten))


def _base(reading: PastReading, readings: Iterable[PastReading]) -> int | None:
    """The content that a reading is told apart from; None for one that others are told apart from."""
    before = [one for one in readings if one.source == reading.source and one.taken_at <= reading.taken_at]
    lasting = [one for one in before if one.changed or one.quiet]
    if lasting:
        return max(lasting, key=lambda one: one.taken_at).content
    first = min(before, key=lambda one: one.taken_at)
    return None if first is reading else first.content


def _over(one: PastReading, retention: Retention, as_of: date) -> bool:
    days = retention.changed_days if one.changed else retention.unchanged_days
    return as_of - date.fromisoformat(one.taken_at[:10]) > timedelta(days=days)
