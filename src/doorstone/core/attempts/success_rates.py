"""Success rates: how often attempts went well, with an interval that is honest for small counts.

In: counts. Out: a `Rate`. The interval is Wilson's score interval for 95 % (E. B. Wilson, 1927).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Iterable
from math import sqrt

from msgspec import Struct

Z = 1.959963984540054  # the 97.5 % point of the normal distribution


class Rate(Struct, frozen=True):
    """`done` of `tried` went well. `low` and `high` are the ends of the 95 % interval, shares between 0 and 1."""

    tried: int
    done: int
    low: float
    high: float


def rate(done: int, tried: int) -> Rate:
    """The rate of `done` among `tried`; nothing tried tells nothing: 0 to 1."""
    if tried == 0:
        return Rate(0, 0, 0.0, 1.0)
    share = done / tried
    spread = Z * sqrt(share * (1 - share) / tried + Z * Z / (4 * tried * tried))
    middle = share + Z * Z / (2 * tried)
    whole = 1 + Z * Z / tried
    low = 0.0 if done == 0 else (middle - spread) / whole
    high = 1.0 if done == tried else (middle + spread) / whole
    return Rate(tried, done, low, high)


def rates_by(tries: Iterable[tuple[Hashable, bool]]) -> dict[Hashable, Rate]:
    """The rate of each key, most tried first. `tries` are (key, whether it went well)."""
    tried: Counter[Hashable] = Counter()
    done: Counter[Hashable] = Counter()
    for key, well in tries:
        tried[key] += 1
        done[key] += well
    return {key: rate(done[key], count) for key, count in sorted(tried.items(), key=lambda e: (-e[1], str(e[0])))}
