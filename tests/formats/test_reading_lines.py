"""Lines that are read many at a time are what each is that is read with a look at every character."""

from __future__ import annotations

import io
import json
from typing import Any

from hypothesis import example, given
from hypothesis import strategies as st

from doorstone.formats.mapping import CellError
from doorstone.formats.reading_lines import _object, line_rows
from doorstone.formats.text_lines import MOST_LINE

PIECES = [
    "{",
    "}",
    '"a"',
    '"b"',
    '"facts"',
    ":",
    ",",
    "1",
    "[",
    "]",
    " ",
    "\t",
    "\r",
    '"',
    "\\",
    '\\"',
    ":",
    '"x":',
    "\x7f",
    "é",
]
values = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text('a":\\é\x7f \t,{}', max_size=4),
    lambda inner: st.lists(inner, max_size=2) | st.dictionaries(st.text('a":\\ ', max_size=2), inner, max_size=3),
    max_leaves=6,
)
whole = st.builds(
    lambda value, ascii_, marks: json.dumps(value, ensure_ascii=ascii_, separators=marks),
    values | st.dictionaries(st.text("ab", max_size=1), values, max_size=3),
    st.booleans(),
    st.sampled_from([(",", ":"), (", ", ": "), (" , ", " : "), (",", "\t:"), (",", "\r:")]),
)
lines = whole | st.lists(st.sampled_from(PIECES), max_size=12).map("".join)


def carefully(line: bytes) -> Any:
    found = _object(line)
    return (found.place, found.message) if isinstance(found, CellError) else found


@given(st.lists(lines.map(str.encode) | st.binary(max_size=6), max_size=8))
@example([b'{"a":1}', b'{"a":1,"a":2}', b'{"a" :1}', b'{"a":"\\":"}', b'{"a":1,"a" :2}', b'{"facts":{"b":1,"b":2}}'])
@example(
    [b'{"a":1,"a":2,"x":{"b" :1}}', b'{"a":1}' + b" " * MOST_LINE, b'{"a":"' + b"x" * MOST_LINE + b'"}', b"\xff", b""]
)
def test_many_lines_are_what_each_is_alone(many: list[bytes]) -> None:
    text = b"\n".join(one.replace(b"\n", b"") for one in many)
    found = {
        number: (held.place, held.message) if isinstance(held, CellError) else held
        for rows in line_rows(io.BytesIO(text))
        for number, held in zip(rows.numbers, rows.held, strict=True)
    }
    alone = {n: carefully(line) for n, line in enumerate(text.split(b"\n"), 1) if line and not line.isspace()}
    assert found == alone
    odd = set().union(*[rows.odd for rows in line_rows(io.BytesIO(text))])
    for number in found.keys() - odd:  # no character in it needs a look
        assert "\x7f" not in json.dumps(found[number], ensure_ascii=False)
        assert "\\" not in json.dumps(found[number], ensure_ascii=False)
