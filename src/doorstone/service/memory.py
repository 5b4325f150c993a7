"""Memory of the service's process: garbage collection and the C library's heaps, set for a large fleet."""

from __future__ import annotations

import ctypes
import gc

MANY_OBJECTS = 100_000
COLLECTED_AFTER = (10_000, 20, 50)
"""Objects, collections of young ones, and of older ones, after which cycles are looked for.

Readings and pages make many objects and hardly a cycle: at Python's own 700, 10 and 10 it takes an eighth of an import.
"""
_M_ARENA_MAX = -8  # of glibc's malloc.h


def exclude_lasting_objects() -> None:
    """Exclude objects that have lasted from garbage collection, once many have come since the last time.

    A full collection goes through all of them while nobody is answered: half a second with a million devices.
    """
    if len(gc.get_objects(generation=2)) > max(MANY_OBJECTS, gc.get_freeze_count() // 4):
        gc.unfreeze()
        gc.collect()
        gc.freeze()


def set_up_memory() -> None:
    """Set up the process; to be called before there is a second thread."""
    _share_one_heap()
    gc.set_threshold(*COLLECTED_AFTER)


def _share_one_heap() -> None:
    """Have all threads take memory from one heap.

    The GNU C library gives each thread a heap, which keeps the memory of the largest page it ever made: with a million
    devices, a fifth of the service's memory. Other C libraries are left as they are.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(_M_ARENA_MAX, 1)
