"""What a round of the scheduler leaves behind in its own process."""

from __future__ import annotations

import gc
import weakref
from collections.abc import Iterator

import pytest

from doorstone.service.scheduler import MANY_OBJECTS, exclude_lasting_objects


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
