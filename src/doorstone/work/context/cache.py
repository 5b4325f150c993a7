"""The cache: answers, each kept with what it depends on. Nothing is ever cleared by hand."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from typing import Any, TypeVar, cast

from cachetools import LRUCache

T = TypeVar("T")
MOST_ANSWERS = 2_000
_NOT_MADE: Any = object()


class _Entry:
    __slots__ = ("depends_on", "lock", "value")

    def __init__(self, depends_on: Any) -> None:
        self.depends_on = depends_on
        self.lock = threading.RLock()
        self.value: Any = _NOT_MADE


class Cache:
    """Holds the `most` answers that were asked for last.

    An answer is asked for with what it depends on now. If that differs from what it was made under, it is made anew.
    """

    def __init__(self, most: int = MOST_ANSWERS) -> None:
        self._entries: LRUCache[Hashable, _Entry] = LRUCache(most)
        self._guard = threading.Lock()

    def get(self, key: Hashable, depends_on: Any, make: Callable[[], T], *, wait: bool = True) -> T:
        """The answer to `key`. One caller makes it while others wait; with `wait` false, each makes its own."""
        with self._guard:
            try:
                entry = self._entries[key]  # its `get` would look it up three times
            except KeyError:
                entry = None
            if entry is None or entry.depends_on != depends_on:
                entry = self._entries[key] = _Entry(depends_on)
        if entry.value is not _NOT_MADE:
            return cast(T, entry.value)
        if not entry.lock.acquire(blocking=wait):
            return make()
        try:
            if entry.value is _NOT_MADE:
                entry.value = make()
        finally:
            entry.lock.release()
        return cast(T, entry.value)
