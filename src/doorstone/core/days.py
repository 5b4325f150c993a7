"""Stretches of days: joined, met, counted. A day is a day of the organisation; there are no time zones here."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date, timedelta

from msgspec import Struct

DAY = timedelta(days=1)


class Span(Struct, frozen=True):
    """Days from `first` through `last`."""

    first: date
    last: date

    @property
    def days(self) -> int:
        return (self.last - self.first).days + 1

    def holds(self, day: date) -> bool:
        return self.first <= day <= self.last


def union(spans: Iterable[Span]) -> list[Span]:
    """The days of any of the spans, in order, those that touch joined."""
    merged: list[Span] = []
    for span in sorted(spans, key=lambda s: (s.first, s.last)):
        if merged and (merged[-1].last == date.max or span.first <= merged[-1].last + DAY):
            merged[-1] = Span(merged[-1].first, max(merged[-1].last, span.last))
        else:
            merged.append(span)
    return merged


def meet(one: Iterable[Span], other: Sequence[Span]) -> list[Span]:
    """The days that are in a span of each side."""
    pairs = ((max(a.first, b.first), min(a.last, b.last)) for a in one for b in other)
    return [Span(first, last) for first, last in pairs if first <= last]
