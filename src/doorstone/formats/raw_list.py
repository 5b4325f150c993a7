"""A vendor's list as it comes: plain lines, or one column of a table. Out: the names in order, or what is wrong."""

from __future__ import annotations

import csv
import io

from doorstone.formats.mapping import CellError
from doorstone.formats.text_lines import delimiter_of, text_lines

MOST_NAMES = 50_000


def read_names(text: str, form: str, column: str = "") -> list[str]:
    """The names. `form` is lines, csv or tsv; a table of several columns takes the `column`. Raises `CellError`."""
    raw = text.encode("utf-8", "surrogatepass")
    lines = []
    for number, line in text_lines(io.BytesIO(raw)):
        if isinstance(line, CellError):
            raise CellError(f"line {number}, {line.place}", line.message, line.hint)
        lines.append(line)
    if form == "lines":
        names = [line.strip() for line in lines if line.strip() and not line.lstrip().startswith("#")]
    else:
        mark = "\t" if form == "tsv" else delimiter_of(io.BytesIO(raw), "")
        names = _column([row for row in csv.reader(lines, delimiter=mark) if any(cell.strip() for cell in row)], column)
    if not names:
        raise CellError("file", "There is no name in it", "Check that it is the file you meant")
    if len(names) > MOST_NAMES:
        raise CellError("file", f"{len(names):,} names", f"A list holds up to {MOST_NAMES:,}")
    return names


def _column(rows: list[list[str]], column: str) -> list[str]:
    header = [cell.strip() for cell in rows[0]] if rows else []
    if not column and len(header) > 1:
        raise CellError("column", "The table has several columns", f"Name one of {', '.join(header)}")
    if column and column not in header:
        raise CellError("column", f"There is no column {column!r}", f"There is {', '.join(header) or 'none'}")
    at = header.index(column) if column else 0
    return [row[at].strip() for row in rows[1:] if len(row) > at and row[at].strip()]
