"""Lines of NDJSON in UTF-8: each as the object that it holds, or as what is wrong with it.

Lines are looked at many at a time: what calls for a closer look is mostly in none of them.
"""

from __future__ import annotations

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
    for lines in _batches(stream):
        yield _rows(number + 1, lines)
        number += len(lines)


def _batches(stream: BinaryIO) -> Iterator[list[bytes]]:
    """The lines, of one that is too long only its beginning."""
    lines, size = list[bytes](), 0
    while line := stream.readline(_LONGEST + 1):
        lines.append(line)
        size += len(line)
        if len(line) > _LONGEST and not line.endswith(b"\n"):
            while (rest := stream.readline(MOST_LINE)) and not rest.endswith(b"\n"):
                pass
        if size >= _AT_ONCE:
            yield lines
            lines, size = [], 0
    if lines:
        yield lines


def _rows(first: int, lines: Sequence[bytes]) -> Rows:
    whole = b"".join(lines)
    # Single bytes are found in a fraction of the time that two in a row take.
    spaced = [mark for mark in _SPACED if mark[1:] in whole and mark in whole]
    odd = [mark for mark in _NOT_PLAIN if mark in whole]
    rows, loads = Rows(), orjson.loads
    for number, line in enumerate(lines, first):
        data = None
        if len(line) <= MOST_LINE and not (spaced and _holds(line, spaced)):
            try:
                data = loads(line)
            except orjson.JSONDecodeError:
                if line.isspace():
                    continue
        if type(data) is dict and _each_once(data, line):
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


def _each_once(data: dict[str, Any], line: bytes) -> bool:
    """Whether no key stands twice in an object: each `":` of its line ends a key, or stands behind a backslash."""
    marks = line.count(b'":')
    facts = data.get("facts")
    if type(facts) is dict and marks == len(data) + len(facts):  # most say nothing else
        return True
    return marks == len(data) + sum([len(held) for held in data.values() if type(held) is dict])


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
