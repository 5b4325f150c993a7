"""Lines of NDJSON in UTF-8: each as the object that it holds, or as what is wrong with it.

Lines are looked at many at a time: where quotes end keys, and where a line holds what needs a closer look, is found in
all of them at once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any, BinaryIO

import numpy
import orjson

from doorstone.formats.mapping import CellError
from doorstone.formats.reading_rows import Row
from doorstone.formats.text_lines import MOST_LINE, parse_json, too_long

_AT_ONCE = 1 << 18
"""Bytes of lines that are looked at together."""
_LONGEST = 4 * MOST_LINE
_QUOTE, _COLON, _BACKSLASH, _DELETE = (ord(mark) for mark in '":\\\x7f')


def marked(stream: BinaryIO) -> bool:
    """Whether the file begins with a byte order mark, or has lines that end otherwise than with a line feed."""
    head = stream.read(MOST_LINE)
    stream.seek(0)
    return head.startswith((b"\xff\xfe", b"\xfe\xff", b"\xef\xbb\xbf")) or b"\r" in head.replace(b"\r\n", b"")


def line_rows(stream: BinaryIO) -> Iterator[Row]:
    """The rows of a stream. A line that is blank is left out."""
    number = 0
    for lines in _batches(stream):
        yield from _rows(number + 1, lines)
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


def _rows(first: int, lines: Sequence[bytes]) -> Iterator[Row]:
    keys, written, spaced = _marks(lines)
    for at, line in enumerate(lines):
        data = None
        if at not in spaced and len(line) <= MOST_LINE:
            try:
                data = orjson.loads(line)
            except orjson.JSONDecodeError:
                if line.isspace():
                    continue
        # Each `":` ends a key, or stands in a text behind a backslash: as many as keys, and no key stands twice.
        if type(data) is dict and keys[at] == len(data) + sum([len(v) for v in data.values() if type(v) is dict]):
            yield Row(first + at, data, at not in written)
        elif not line.isspace():
            yield Row(first + at, _object(line), False)


def _marks(lines: Sequence[bytes]) -> tuple[list[int], set[int], set[int]]:
    """Of lines: how many quotes are followed by a colon in each; which hold a backslash or U+007F; and which hold a
    quote that is followed by white space.
    """
    edges = numpy.cumsum([0, *map(len, lines)])
    marks = numpy.frombuffer(b"".join(lines) + b"\n", numpy.uint8)
    after = marks[1:]
    quotes = marks[:-1] == _QUOTE
    colons = numpy.searchsorted(numpy.flatnonzero(quotes & (after == _COLON)), edges)
    spaced = numpy.flatnonzero(quotes & ((after == 32) | (after == 9) | (after == 13)))
    written = numpy.flatnonzero((marks == _BACKSLASH) | (marks == _DELETE))
    return numpy.diff(colons).tolist(), _lines_of(written, edges), _lines_of(spaced, edges)


def _lines_of(places: Any, edges: Any) -> set[int]:
    """The lines in which these places lie."""
    return set((numpy.searchsorted(edges, places, "right") - 1).tolist())


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
