"""JSON lists that are read item by item say what a whole parser says, in the memory of one item."""

from __future__ import annotations

import io
import json
import tracemalloc
from typing import Any, BinaryIO

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.formats import json_items as reading
from doorstone.formats.json_items import json_items
from doorstone.formats.text_lines import FileError

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=12,
)


@given(st.lists(VALUES, max_size=8), st.sampled_from([None, 1]), st.booleans(), st.integers(1, 9), st.booleans())
def test_any_list_is_read_as_a_whole_parser_reads_it(
    items: list[Any], indent: int | None, plain: bool, piece: int, inside: bool
) -> None:
    given: Any = {"made by": [1, {}], "readings": items, "count": 2} if inside else items
    text = json.dumps(given, indent=indent, ensure_ascii=plain).encode("utf-8", "surrogatepass")
    try:
        text.decode()
    except UnicodeDecodeError:
        return
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(reading, "_PIECE", piece)
        patched.setattr(reading._Text.more, "__defaults__", (piece,))
        assert list(json_items(io.BytesIO(text))) == list(enumerate(items, 1))


@given(st.lists(VALUES, min_size=1, max_size=5), st.data())
def test_a_list_that_is_cut_off_is_never_read_to_its_end(items: list[Any], data: st.DataObject) -> None:
    text = json.dumps(items)
    found = list(json_items(io.BytesIO(text[: data.draw(st.integers(1, len(text) - 1))].encode())))
    assert isinstance(found[-1][1], FileError)
    assert [item for _, item in found[:-2]] == items[: max(len(found) - 2, 0)]  # the last may be a part of a number


@pytest.mark.parametrize(
    ("text", "number", "place", "message"),
    [
        (b'[{"a": 1},\n {"a": 1, "a": 2}]', 1, "line", "a key stands twice"),
        (b'[{"a": 1},\n {"a": NaN}]', 1, "line", "NaN is not a number"),
        (b'[{"a": 1},\n {"b" 2}]', 1, "line 2, column 7", "Not JSON: Expecting ':' delimiter"),
        (b'[{"a": 1}\n {"b": 2}]', 1, "line 2, column 2", "Not JSON: Expecting ',' delimiter"),
        (b"[1, 2] x", 2, "column 8", "Not JSON: Extra data"),
        (b"[1, 2", 2, "column 6", "It is cut off"),
        (b"[1, 2,]", 2, "column 8", "It is cut off"),
        (b"[1, \xff2]", 1, "file", "Byte 5 is not UTF-8"),
        (b'{"a": 1}', 1, "file", "Not a list of readings"),
        (b'{"readings": 1}', 1, "file", "Not a list of readings"),
        (b'{"readings": [], "readings": []}', 1, "line", "a key stands twice"),
        (b"7", 1, "file", "Not a list of readings"),
        (b"[" * 100_000, 1, "line", "nested too deep"),
    ],
)
def test_what_is_wrong_is_named_with_its_place(text: bytes, number: int, place: str, message: str) -> None:
    at, found = list(json_items(io.BytesIO(text)))[-1]
    assert isinstance(found, FileError)
    assert (at, found.place, found.message) == (number, place, message)


def test_an_item_has_a_largest_size() -> None:
    found = list(json_items(io.BytesIO(b'["' + b"x" * (reading.MOST_ITEM + 2**17))))
    assert [str(item.message) for _, item in found] == ["An item is longer than 8 MiB"]


def test_a_lone_object_is_one_item_where_it_may_be() -> None:
    text = b'{"chassis": {"serial": "A"}}'
    assert list(json_items(io.BytesIO(text), lone=True)) == [(1, {"chassis": {"serial": "A"}})]
    assert list(json_items(io.BytesIO(b" "))) == list(json_items(io.BytesIO(b"[]"))) == []


class _Endless(io.RawIOBase):
    """A list of empty objects of a given size that is nowhere held."""

    def __init__(self, size: int) -> None:
        self.left, self.begun = size, False

    def read(self, size: int = -1) -> bytes:
        if not self.begun and self.left:
            self.begun = True
            return b"["
        take = min(size // 3, self.left // 3)
        self.left -= take * 3
        return b"{}," * take if take else b""

    def seek(self, *_: int) -> int:
        self.begun = False
        return 0


def test_a_long_list_takes_the_memory_of_a_piece() -> None:
    stream: BinaryIO = _Endless(3 * 2**17)  # type: ignore[assignment]
    tracemalloc.start()
    count = sum(1 for _ in json_items(stream))
    _, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert count == 2**17 + 1  # and that it is cut off
    assert most < 2**20
