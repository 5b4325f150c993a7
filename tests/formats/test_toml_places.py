"""Places in TOML: each path is found on its own line, however the text is laid out."""

from __future__ import annotations

from typing import Any

import pytest
import tomli_w
from hypothesis import given
from hypothesis import strategies as st

from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.formats.toml import read_toml
from doorstone.formats.toml_places import TomlPlaces
from tests.running import SHEET

MESSY = '''\
a.b."c d" = 1
note = """
id = "not a key"
[release]
"""
x = [ 1,  # one
  { k = 2, deep = { "q.z" = 3 } },
  [ 4,
    5 ],
]

[[release]]
id = "9"
  [release.media]
  sha = "x"
  [[release.media.part]]
  n = 1
[[ release ]]
  [release . media]
  sha = """
  sha = 'inside' """
  ['release'."media".more]
'''


@pytest.mark.parametrize(
    ("path", "line"),
    [
        (("a",), 1), (("a", "b", "c d"), 1), (("note",), 2), (("id",), None), (("x", 0), 6), (("x", 1, "k"), 7),
        (("x", 1, "deep", "q.z"), 7), (("x", 2), 8), (("x", 2, 1), 9), (("release", 0), 12), (("release", 0, "id"), 13),
        (("release", 0, "media"), 14), (("release", 0, "media", "sha"), 15),
        (("release", 0, "media", "part", 0, "n"), 17),
        (("release", 1), 18), (("release", 1, "media"), 19), (("release", 1, "media", "sha"), 20),
        (("release", 1, "media", "more"), 22), (("release", 1, "id"), 18), (("release", 1, "id", 4), 18),
    ],
)  # fmt: skip
def test_every_place_of_a_messy_text_is_found(path: tuple[str | int, ...], line: int | None) -> None:
    assert read_toml(MESSY)["release"][1]["media"]["more"] == {}
    assert TomlPlaces(MESSY)(path) == line


KEYS = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=4)
LEAVES = st.integers(0, 99) | st.text("ab=[]\"'\n#", max_size=6) | st.booleans()
TABLES = st.recursive(
    LEAVES, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(KEYS, inner, max_size=3), max_leaves=12
)


def places(data: Any, path: tuple[str | int, ...] = ()) -> list[tuple[tuple[str | int, ...], Any]]:
    steps = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    return [(path, data)] + [found for step, value in steps for found in places(value, (*path, step))]


@given(st.dictionaries(KEYS, TABLES, max_size=4))
def test_whatever_is_written_is_found_where_it_stands(data: dict[str, Any]) -> None:
    """With a number of its own in each leaf, its line holds that number."""
    count = 1000

    def numbered(value: Any) -> Any:
        nonlocal count
        if isinstance(value, dict):
            return {key: numbered(one) for key, one in value.items()}
        if isinstance(value, list):
            return [numbered(one) for one in value]
        count += 1
        return count

    text = tomli_w.dumps(numbered(data))
    lines, find = text.splitlines(), TomlPlaces(text)
    for path, value in places(read_toml(text)):
        if isinstance(value, int):
            line = find(path)
            assert line is not None
            assert str(value) in lines[line - 1]


def test_a_sheet_names_the_line_of_an_element_inside_a_list_of_many_lines() -> None:
    text = SHEET.read_text().replace(
        'upgrade_from = ["8", "9.0"]', 'upgrade_from = [\n  "8",  # the old one\n  9.0,\n]', 1
    )
    with pytest.raises(SheetError) as refused:
        read_sheet(text, {})
    (problem,) = refused.value.problems
    assert problem.line == text.splitlines().index("  9.0,") + 1
