"""Quiet readings: what differs, and the way back."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.readings.quiet import changed, changes_of

NUMBERS = st.lists(st.integers(0, 2**32 - 1), max_size=200)


def test_a_place_and_a_number_by_hand() -> None:
    base = [7] * 20
    assert changes_of(base, base) == b""
    assert changes_of(base, [*base[:3], 5, *base[4:]]) == bytes([3, 5])
    # 300 = 0b10_0101100: the lower seven bits first, with the mark that more follows
    assert changes_of(base, [*base[:19], 300]) == bytes([19, 0b10101100, 0b10])
    assert changed(base, bytes([3, 5, 19, 0b10101100, 0b10])) == [7, 7, 7, 5, *base[4:19], 300]


def test_what_holds_other_facts_is_not_kept_so() -> None:
    assert changes_of([1, 2], [1, 2, 3]) is None


@given(NUMBERS, st.data())
def test_the_way_back_gives_what_was_told_apart(base: list[int], data: st.DataObject) -> None:
    numbers = [data.draw(st.sampled_from([was, 0, 2**32 - 1])) for was in base]
    changes = changes_of(base, numbers)
    assert changes is not None
    assert changed(base, changes) == numbers


@pytest.mark.parametrize("changes", [bytes([9, 1]), bytes([0]), bytes([0, 0x80])])
def test_bytes_that_are_no_changes_are_refused(changes: bytes) -> None:
    with pytest.raises(ValueError, match=r"no changes of 2 values|cut off"):
        changed([1, 2], changes)
