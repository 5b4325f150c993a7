"""First lines: where in a file each key stood first, in some thirty bytes a key, so that a file may have millions.

The last keys stand in a dictionary, those before in sorted arrays. A map of bits tells of most keys that they are in
none of these.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections.abc import Iterable

_BITS = 1 << 27
"""16 MiB: of a million keys, one in 130 that is new shares its bit with another."""
_FRESH = 1 << 16


class FirstLines:
    """Remembers for each key, a signed integer of 64 bits, the line at which it came first."""

    def __init__(self) -> None:
        self._bits = bytearray()
        self._fresh: dict[int, int] = {}
        self._sorted: list[tuple[array[int], array[int]]] = []

    def firsts(self, keys: Iterable[int], lines: Iterable[int]) -> list[int]:
        """For each key, at its line, the line at which it came first: the same if that is now."""
        found = []
        for key, line in zip(keys, lines, strict=True):
            if self._sorted:
                place = key & (_BITS - 1)
                if self._bits[place >> 3] & 1 << (place & 7) and (first := self._looked_up(key)) is not None:
                    found.append(first)
                    continue
            found.append(self._fresh.setdefault(key, line))
            if len(self._fresh) == _FRESH:
                self._sort()
        return found

    def _looked_up(self, key: int) -> int | None:
        for keys, lines in self._sorted:
            at = bisect_left(keys, key)
            if at < len(keys) and keys[at] == key:
                return lines[at]
        return None

    def _sort(self) -> None:
        """Puts the last keys into arrays."""
        self._bits = self._bits or bytearray(_BITS // 8)
        for key in self._fresh:
            place = key & (_BITS - 1)
            self._bits[place >> 3] |= 1 << (place & 7)
        keys = array("q", sorted(self._fresh))
        self._sorted.append((keys, array("q", [self._fresh[key] for key in keys])))
        self._fresh.clear()
