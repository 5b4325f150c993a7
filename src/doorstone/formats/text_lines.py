"""Lines of text files as people send them: encodings, marks between cells, JSON that is cut off or says a thing twice.

In: a seekable stream of bytes. Out: numbered lines, or what is wrong in their place; nothing here raises for bad input.
"""

from __future__ import annotations

import io
import json
import re
from collections.abc import Iterator
from typing import Any, BinaryIO

from doorstone.formats.mapping import CellError

MOST_LINE = 100_000
_NOT_UTF_8 = "Save the file as UTF-8, or name its encoding in a mapping"


class FileError(CellError):
    """Something that makes the whole file unusable."""


def too_long() -> CellError:
    """What is wrong with a line of more than `MOST_LINE` characters."""
    return CellError("line", f"longer than {MOST_LINE:,} characters", "Split it into lines")


def text_lines(stream: BinaryIO, encoding: str = "") -> Iterator[tuple[int, str | CellError]]:
    """Numbered lines of text; one that is too long or is not text comes as an error in its place."""
    head = stream.read(2)
    stream.seek(0)
    encoding = "utf-16" if head in (b"\xff\xfe", b"\xfe\xff") else encoding or "utf-8-sig"
    errors = "surrogateescape" if encoding == "utf-8-sig" else "replace"
    text = io.TextIOWrapper(stream, encoding, errors, newline="")
    number = 0
    try:
        while line := text.readline(MOST_LINE + 1):
            number += 1
            if len(line) > MOST_LINE and line[-1] not in "\r\n":
                while (rest := text.readline(MOST_LINE)) and rest[-1] not in "\r\n":
                    pass
                yield number, too_long()
                continue
            bad = re.search("[\ud800-\udfff]", line)
            if bad:
                where = f"column {bad.start() + 1}"
                yield number, CellError(where, "A character here is not UTF-8", _NOT_UTF_8)
            else:
                yield number, line
    finally:
        if not stream.closed:
            text.detach()


def parse_json(text: str, wanted: str = "one whole JSON object a line") -> Any:
    """The value of a JSON text, or a `CellError`: a key that stands twice and NaN are refused."""
    try:
        return json_decoder.decode(text)
    except (ValueError, RecursionError) as error:
        return json_fault(error, text, wanted)


def json_fault(
    error: ValueError | RecursionError, text: str, wanted: str, lines: int = 0, columns: int = 0
) -> CellError:
    """What is wrong with a JSON text. `lines` stand before it, and `columns` on its first line."""
    if not isinstance(error, json.JSONDecodeError):
        message = "nested too deep" if isinstance(error, RecursionError) else str(error)
        return CellError("line", message, f"Write {wanted}, plain")
    cut = error.pos >= len(text.rstrip()) - 1 and error.msg != "Extra data"
    cut = cut or error.msg.startswith("Unterminated string")
    column = error.colno + (columns if error.lineno == 1 else 0)
    at, message = (len(text) + columns + 1, "It is cut off") if cut else (column, f"Not JSON: {error.msg}")
    alone = "\n" not in text.strip() and not lines
    place = f"column {at}" if alone else f"line {error.lineno + lines}, column {column}"
    return CellError(place, message, f"Write {wanted}")


def _no_repeats(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    data = dict(pairs)
    if len(data) != len(pairs):
        raise ValueError("a key stands twice")
    return data


def _no_constant(word: str) -> Any:
    raise ValueError(f"{word} is not a number")


json_decoder = json.JSONDecoder(object_pairs_hook=_no_repeats, parse_constant=_no_constant)


def delimiter_of(stream: BinaryIO, encoding: str) -> str:
    """What parts the cells of a table: the mark that stands most often in its first line that is not blank."""
    head = next((line for _, line in text_lines(stream, encoding) if isinstance(line, CellError) or line.strip()), "")
    stream.seek(0)
    if isinstance(head, CellError):
        return ","
    plain = re.sub(r'"[^"]*"', "", head)
    return max(",;\t", key=lambda mark: (plain.count(mark), mark == ","))
