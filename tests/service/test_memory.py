"""Garbage collection and heaps of the service's process."""

from __future__ import annotations

import gc
import subprocess
import sys
import weakref
from collections.abc import Iterator

import pytest

from doorstone.service.memory import MANY_OBJECTS, exclude_lasting_objects


@pytest.fixture
def thawed() -> Iterator[None]:
    gc.unfreeze()
    gc.collect()
    yield
    gc.unfreeze()


class Loop:
    """Refers to itself: only the collector frees it."""

    def __init__(self) -> None:
        self.own = self


@pytest.mark.usefixtures("thawed")
def test_what_lasts_is_excluded_from_collection_once_and_garbage_is_not_kept() -> None:
    lasting: list[list[None]] = [[] for _ in range(MANY_OBJECTS + 1)]
    gc.collect()
    gone = weakref.ref(Loop())
    exclude_lasting_objects()
    excluded = gc.get_freeze_count()
    assert excluded > len(lasting)
    assert gone() is None
    later: list[list[None]] = [[] for _ in range(MANY_OBJECTS // 4)]
    gc.collect()
    exclude_lasting_objects()
    assert gc.get_freeze_count() <= excluded  # too few have come to look at all of them again
    assert len(later) == MANY_OBJECTS // 4


HEAPS = """
import ctypes, sys, threading
from doorstone.service.memory import set_up_memory

if sys.argv[1] == "one":
    set_up_memory()
ready = threading.Barrier(4)
def hold():
    held = [bytes(2_000) for _ in range(100)]
    ready.wait()
threads = [threading.Thread(target=hold) for _ in range(4)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
c = ctypes.CDLL(None)
c.fdopen.restype = ctypes.c_void_p
out = ctypes.c_void_p(c.fdopen(1, b"w"))
c.malloc_info(0, out)
c.fflush(out)
"""


@pytest.mark.process
def test_threads_set_up_memory() -> None:
    def heaps(word: str) -> int:
        done = subprocess.run([sys.executable, "-c", HEAPS, word], capture_output=True, text=True, check=True)
        return done.stdout.count("<heap nr=")

    assert heaps("one") == 1
    assert heaps("each") > 1
