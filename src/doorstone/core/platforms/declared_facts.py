"""Facts that a sheet declares anew: whether the values that are stored of a fact still mean what they meant.

In: the earlier and the new declaration of a fact, and its stored values as JSON holds them. Out: why they do not fit.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from doorstone.core.facts import FactError, FactSpec


def unfit_values(before: FactSpec, after: FactSpec, values: Iterable[Any]) -> tuple[str, str] | None:
    """Return what is wrong and how to go on if stored values do not fit the new declaration; None if they fit.

    A stored number has the unit of the declaration under which it was read, so another unit would change its meaning.
    """
    stored = list(values)
    if not stored:
        return None
    rename = f"Keep {before.name} as it was, and declare a fact with another name for the new readings"
    if before.unit != after.unit:
        was, now = before.unit or "no unit", after.unit or "no unit"
        return f"{before.name} changes its unit from {was} to {now}, and {_count(stored)} stored in {was}", rename
    for value in stored:
        try:
            after.parse(value)
        except FactError as error:
            return f"{before.name} cannot hold the stored value {str(value)[:40]!r} any more: {error.message}", rename
    return None


def _count(stored: list[Any]) -> str:
    return "1 value is" if len(stored) == 1 else f"{len(stored):,} values are"
