"""Write priority: a person who waits for a write goes before pages, and pages go before imports.

One process does everything, so whatever computes slows all else. Pages are worked out a few at a time, and these and
an import wait a moment while somebody writes. An import waits a moment for pages too: a page reads thousands of rows,
and beside a thread that computes it would wait for its turn at each.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager

AT_ONCE = 2
GIVE_WAY = 0.25  # seconds that a page or an import waits for writers at most
PAGE_WAIT = 0.5  # seconds that an import waits for pages at most, before each of its parts
RECENT = 2.0  # seconds for which a write, or a page, is taken as a sign that more will come
LONGEST_REST = 0.2  # seconds


class _Lanes:
    """So many threads at once. The one that has waited longest goes next, which a semaphore does not promise."""

    def __init__(self, lanes: int) -> None:
        self._free = lanes
        self._guard = threading.Lock()
        self.waiting: deque[threading.Lock] = deque()

    def __enter__(self) -> None:
        with self._guard:
            if self._free:
                self._free -= 1
                return
            mine = threading.Lock()
            mine.acquire()
            self.waiting.append(mine)
        mine.acquire()  # until a lane is handed over

    def __exit__(self, *_: object) -> None:
        with self._guard:
            if self.waiting:
                self.waiting.popleft().release()
            else:
                self._free += 1


class WritePriority:
    def __init__(self, lanes: int = AT_ONCE) -> None:
        self._changed = threading.Condition()
        self._writers = 0
        self._paging = 0
        self._mine = threading.local()
        self._last = -RECENT
        self._paged = -RECENT
        self._pages = _Lanes(lanes)

    @contextmanager
    def writing(self) -> Iterator[None]:
        """Inside, a person waits for this thread's write."""
        with self._changed:
            self._writers += 1
        self._mine.writes = True
        try:
            yield
        finally:
            self._mine.writes = False
            with self._changed:
                self._writers -= 1
                self._last = time.monotonic()
                self._changed.notify_all()

    @contextmanager
    def paging(self) -> Iterator[None]:
        """Inside, a page is worked out: a few pages at a time, and after those who write."""
        with self._pages:
            self.give_way()
            with self._changed:
                self._paging += 1
            try:
                yield
            finally:
                with self._changed:
                    self._paging -= 1
                    self._paged = time.monotonic()
                    self._changed.notify_all()

    @property
    def writers(self) -> int:
        """How many people wait for a write."""
        return self._writers

    @property
    def waiting(self) -> int:
        """How many pages wait for a lane."""
        return len(self._pages.waiting)

    @property
    def asked(self) -> bool:
        """Whether somebody asks for pages, or did a moment ago."""
        return self._paging > 0 or time.monotonic() - self._paged < RECENT

    def give_way(self) -> None:
        """Wait, but not for long, while somebody else writes."""
        if self.writers and not getattr(self._mine, "writes", False):
            with self._changed:
                self._changed.wait_for(lambda: not self._writers, GIVE_WAY)

    def rest(self, worked: float) -> None:
        """Rest after a part of an import that took `worked` seconds: as long again while people ask for pages."""
        a_moment = 0.001  # so that whoever waits to write goes first
        time.sleep(min(worked, LONGEST_REST) if self.asked else a_moment)
        self._mine.waited_at = time.monotonic()

    def give_way_to_pages(self) -> None:
        """Wait, but not for long, while somebody else writes or a page is worked out. A thread that writes does not
        wait.

        It waits no longer than it has worked since it last waited: however many ask for pages, it gets on.
        """
        worked = time.monotonic() - getattr(self._mine, "waited_at", 0.0)
        self.give_way()
        if self._paging and not getattr(self._mine, "writes", False):
            with self._changed:
                self._changed.wait_for(lambda: not self._paging, min(worked, PAGE_WAIT))
        self._mine.waited_at = time.monotonic()
