"""Lines of NDJSON in UTF-8: each as the object that it holds, or as what is wrong with it.

Lines are looked at many at a time: what calls for a closer look is mostly in none of them.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Sequence
from typing import Any, BinaryIO

import orjson

from doorstone.formats.mapping import CellError
from doorstone.formats.reading_rows import Rows
from doorstone.formats.text_lines import MOST_LINE, parse_json, too_long

_AT_ONCE = 1 << 17
"""Bytes of lines that are looked at together: what they hold stays in the processor's cache meanwhile."""
_LONGEST = 4 * MOST_LINE
_SPACED = (b'" ', b'"\t', b'"\r')
"""Marks of lines in which a key may be apart from its colon."""
_NOT_PLAIN = (b"\\", b"\x7f")
"""Marks of lines whose text needs a look."""


def marked(stream: BinaryIO) -> bool:
    """Whether the file begins with a byte order mark, or has lines that end otherwise than with a line feed."""
    head = stream.read(MOST_LINE)
    stream.seek(0)
    return head.startswith((b"\xff\xfe", b"\xfe\xff", b"\xef\xbb\xbf")) or b"\r" in head.replace(b"\r\n", b"")


def line_rows(stream: BinaryIO) -> Iterator[Rows]:
    """The rows of a stream. A line that is blank is left out."""
    number = 0
    for whole in _parts(stream):
        lines = io.BytesIO(whole).readlines()
        yield _rows(number + 1, lines, whole)
        number += len(lines)


def _parts(stream: BinaryIO) -> Iterator[bytes]:
    """Whole lines together, of one that is too long only its beginning."""
    while part := stream.read(_AT_ONCE):
        if not part.endswith(b"\n"):
            last = stream.readline(_LONGEST + 1)
            part += last
            if len(last) > _LONGEST and not last.endswith(b"\n"):
                while (rest := stream.readline(MOST_LINE)) and not rest.endswith(b"\n"):
                    pass
        yield part


def _rows(first: int, lines: Sequence[bytes], whole: bytes) -> Rows:
    # Single bytes are found in a fraction of the time that two in a row take.
    spaced = [mark for mark in _SPACED if mark[1:] in whole and mark in whole]
    odd = [mark for mark in _NOT_PLAIN if mark in whole]
    held = _loaded(lines)
    if not spaced and not odd and _every_key_once(held, whole) and max(map(len, lines)) <= MOST_LINE:
        return Rows(list(range(first, first + len(held))), held)
    rows = Rows()
    for number, line, data in zip(range(first, first + len(lines)), lines, held, strict=True):
        apart = len(line) > MOST_LINE or (spaced and _holds(line, spaced))
        if type(data) is dict and not apart and _each_once(data, line):
            if odd and _holds(line, odd):
                rows.odd.add(number)
        elif line.isspace():
            continue
        else:
            data = _object(line)
            rows.odd.add(number)
        rows.numbers.append(number)
        rows.held.append(data)
    return rows


def _loaded(lines: Sequence[bytes]) -> list[Any]:
    """What each line holds; None for one that cannot be read."""
    found, rest = list[Any](), iter(lines)
    while len(found) < len(lines):
        try:
            found.extend(map(orjson.loads, rest))
        except orjson.JSONDecodeError:  # of the line that is gone from `rest`; those before it are found
            found.append(None)
    return found


def _every_key_once(held: Sequence[Any], whole: bytes) -> bool:
    """As `_each_once`, of all lines together: each line has as many marks as keys, or more."""
    keys = 0
    for data in held:
        facts = data.get("facts") if type(data) is dict else None
        if type(facts) is not dict:
            return False
        keys += len(data) + len(facts)
    return keys == whole.count(b'":')


def _each_once(data: dict[str, Any], line: bytes) -> bool:
    """Whether no key stands twice in an object: each `":` of its line ends a key, or stands behind a backslash."""
    return line.count(b'":') == len(data) + sum([len(held) for held in data.values() if type(held) is dict])


def _holds(line: bytes, marks: Sequence[bytes]) -> bool:
    """Whether a line holds any of these marks."""
    return any(mark in line for mark in marks)


def _object(line: bytes) -> Any:
    """What a line holds, read with a look at each character, or what is wrong with it."""
    text = _text(line)
    return text if isinstance(text, CellError) else parse_json(text.rstrip("\r\n"))


def _text(line: bytes) -> str | CellError:
    """The text of a line, or what is wrong with it."""
    try:
        text = line.decode()
    except UnicodeDecodeError:
        decoded = line.decode(errors="surrogateescape")
        bad = re.search("[\ud800-\udfff]", decoded)
        where = f"column {bad.start() + 1}" if bad else "line"
        if len(decoded) <= MOST_LINE:
            return CellError(where, "A character here is not UTF-8", "Save the file as UTF-8")
        text = decoded
    return too_long() if len(text) > MOST_LINE and len(text.rstrip("\r\n")) >= MOST_LINE else text
