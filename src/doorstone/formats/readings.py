"""Reads readings from NDJSON, JSON, CSV and TSV, as they stream in. Out: records and problems, each with its line.

NDJSON: one object a line with `device`, `source`, `taken_at`, `facts`, and optionally `verdicts`, `texts` (failures in
the source's own words), `unread` (fact to why) and the device's `name`, `site`, `role`, `critical`. JSON: a list of
such objects. CSV and TSV: the same as columns; facts by their name, optionally with a unit, `memory.mib [GiB]`;
verdicts as `verdict:REQUIREMENT` with pass or fail. A mapping turns foreign columns and keys into these.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Mapping
from difflib import get_close_matches
from itertools import islice
from operator import attrgetter
from typing import Any, BinaryIO, NamedTuple

from msgspec import Struct

from doorstone.core.facts import FactSpec
from doorstone.core.readings.first_lines import FirstLines
from doorstone.core.readings.value_table import ValueTable
from doorstone.formats.json_items import json_items
from doorstone.formats.mapping import ABOUT, ROW, CellError, ColumnMapping
from doorstone.formats.reading_lines import line_rows, marked
from doorstone.formats.reading_records import ImportProblem, ReadingColumns, ReadingRecord
from doorstone.formats.reading_rows import RowReader, Rows
from doorstone.formats.text_lines import FileError, delimiter_of, parse_json, text_lines

FORMS = ("ndjson", "json", "csv", "tsv")
_AT_ONCE = 500
"""Rows that are checked together."""
_LINE = attrgetter("line")


class Parsed(Struct, frozen=True):
    records: tuple[ReadingRecord, ...]
    problems: tuple[ImportProblem, ...]


def read_text(text: str, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None = None) -> Parsed:
    """Read a whole text. Bad input raises nothing: what is wrong is returned as problems."""
    found = list(read_stream(io.BytesIO(text.encode("utf-8", "surrogatepass")), form, specs, mapping))
    return Parsed(
        tuple(one for one in found if isinstance(one, ReadingRecord)),
        tuple(one for one in found if isinstance(one, ImportProblem)),
    )


def read_stream(
    stream: BinaryIO, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None = None
) -> Iterator[ReadingRecord | ImportProblem]:
    """As `read_columns`, one by one in the order of their lines."""
    for readings, problems in read_columns(stream, form, specs, mapping):
        found: list[ReadingRecord | ImportProblem] = [*readings.records(), *problems]
        yield from sorted(found, key=_LINE)


class FilePart(NamedTuple):
    """Readings that were read together, and what is wrong with other rows between them, by line."""

    readings: ReadingColumns
    problems: list[ImportProblem]


def read_columns(
    stream: BinaryIO, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None = None
) -> Iterator[FilePart]:
    """Read a seekable stream of bytes line by line: UTF-8, or UTF-16 with its mark. `form` is one of `FORMS`."""
    word = "item" if form == "json" else "line"
    first_lines = FirstLines()
    reader = RowReader(specs)
    anything = False
    for rows in _rows(stream, form, specs, mapping):
        anything = anything or bool(rows.numbers)
        found, wrong = reader.read(rows)
        problems = [ImportProblem(n, e.place, e.message, e.hint, word, isinstance(e, FileError)) for n, e in wrong]
        keys = map(hash, zip(found.devices, found.sources, found.times, strict=True))
        firsts = first_lines.firsts(keys, found.lines)
        again = (
            {place for place, line in enumerate(found.lines) if firsts[place] != line} if firsts != found.lines else ()
        )
        for place in sorted(again):
            device, source, at = found.devices[place], found.sources[place], found.times[place].replace("T", " ")
            message = f"{device} from {source} at {at} stands in {word} {firsts[place]} already"
            hint = f"Keep one of the two {word}s"
            problems.append(ImportProblem(found.lines[place], "device", message, hint, word))
        yield FilePart(found.without(again), sorted(problems, key=_LINE))
    if not anything:
        hint = "Check that it is the file you meant"
        nothing = ImportProblem(1, "file", "There is no reading in it", hint, word, fatal=True)
        yield FilePart(ReadingColumns(ValueTable(specs)), [nothing])


def _rows(stream: BinaryIO, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None) -> Iterator[Rows]:
    if form == "ndjson" and not (mapping or marked(stream)):
        yield from line_rows(stream)
        return
    if form == "ndjson":
        found = _jsontext_lines(stream, mapping)
    elif form == "json":
        found = _json_items(stream, mapping)
    else:
        found = _table_rows(stream, "\t" if form == "tsv" else "", specs, mapping)
    while part := list(islice(found, _AT_ONCE)):
        numbers, held = zip(*part, strict=True)
        yield Rows(list(numbers), list(held), set(numbers))


# ---------------------------------------------------------------------- JSON


def _jsontext_lines(stream: BinaryIO, mapping: ColumnMapping | None) -> Iterator[tuple[int, Any]]:
    for number, line in text_lines(stream, mapping.document.encoding if mapping else ""):
        if isinstance(line, CellError):
            yield number, line
        elif line.strip():
            yield number, _mapped(parse_json(line.rstrip("\r\n")), mapping)


def _json_items(stream: BinaryIO, mapping: ColumnMapping | None) -> Iterator[tuple[int, Any]]:
    encoding = mapping.document.encoding if mapping else ""
    for number, item in json_items(stream, encoding, lone=mapping is not None):  # one foreign object is one device
        yield number, _mapped(item, mapping)


def _mapped(item: Any, mapping: ColumnMapping | None) -> Any:
    if mapping is None or isinstance(item, CellError) or not isinstance(item, dict):
        return item
    try:
        return mapping.item(item)
    except CellError as error:
        return error


# -------------------------------------------------------------------- tables


def _table_rows(
    stream: BinaryIO, delimiter: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None
) -> Iterator[tuple[int, Any]]:
    """Rows of a table with a header line. A line that is no text becomes an error, and counts as blank in its table."""
    bad: list[tuple[int, CellError]] = []
    at = 0
    encoding = mapping.document.encoding if mapping else ""

    def lines() -> Iterator[str]:
        nonlocal at
        for number, line in text_lines(stream, encoding):
            at = number
            if isinstance(line, CellError):
                bad.append((number, line))
                yield "\n"
            else:
                yield line

    delimiter = (mapping.document.separator if mapping else "") or delimiter or delimiter_of(stream, encoding)
    reader = csv.reader(lines(), delimiter=delimiter, strict=True)
    header: list[str] | None = None
    while True:
        row: Any
        try:
            row = next(reader)
        except StopIteration:
            yield from bad
            return
        except csv.Error as error:
            row = CellError("row", f"Not a table: {error}", "Check the quotes of this row")
        yield from bad
        bad.clear()
        if isinstance(row, list) and not any(cell.strip() for cell in row):
            continue
        if header is None:
            header = [cell.strip() for cell in row] if isinstance(row, list) else []
            problems = list(_header_problems(header, specs, mapping)) if header else [_as_file(row)]
            if problems:
                yield from ((at, problem) for problem in problems)
                return
        elif isinstance(row, CellError):
            yield at, row
        elif len(row) != len(header):
            words = f"{len(row)} cells where the header has {len(header)}"
            yield at, CellError("row", words, "Give each column one cell")
        else:
            yield at, _table_row(dict(zip(header, row, strict=True)), mapping)


def _as_file(error: CellError) -> CellError:
    return FileError("header", error.message, error.hint)


def _header_problems(
    columns: list[str], specs: Mapping[str, FactSpec], mapping: ColumnMapping | None
) -> Iterator[CellError]:
    for at, column in enumerate(columns):
        if column in columns[:at]:
            yield FileError(column or "header", "The column stands twice", "Remove one of them")
    if mapping is not None:
        for column in mapping.missing(columns):
            yield FileError("header", f"The column {column!r} is mapped but missing", "Correct the mapping's from")
        for column in mapping.unknown(columns):
            hint = 'Map it, or write others = "ignore" in the mapping'
            yield FileError(column or "header", f"Nothing is said about {column!r}", hint)
        return
    for needed in ROW:
        if needed not in columns:
            yield FileError("header", f"The column {needed!r} is missing", f"Add a column named {needed}")
    for column in columns:
        name = _split_unit(column)[0]
        if name not in specs and column not in (*ROW, *ABOUT, "texts") and not column.startswith("verdict:"):
            near = get_close_matches(name, [*specs, *ROW, *ABOUT], 1, 0.6)
            hint = f"Did you mean {near[0]}?" if near else "Name it by a fact, remove it, or give a mapping"
            yield FileError(column or "header", f"Unknown column {column!r}", hint)


def _split_unit(column: str) -> tuple[str, str]:
    found = re.fullmatch(r"(\S+) *\[(\w+)\]", column)
    return (found[1], found[2]) if found else (column, "")


def _table_row(cells: Mapping[str, str], mapping: ColumnMapping | None) -> Any:
    if mapping is not None:
        try:
            return mapping.row(cells)
        except CellError as error:
            return error
    data: dict[str, Any] = {"facts": {}, "verdicts": {}}
    for column, cell in cells.items():
        name, unit = _split_unit(column)
        if cell.strip() == "":
            continue
        if column in (*ROW, *ABOUT):
            data[column] = cell.strip()
        elif column == "texts":
            data["texts"] = [text.strip() for text in cell.split(";") if text.strip()]
        elif column.startswith("verdict:"):
            data["verdicts"][column.removeprefix("verdict:")] = cell.strip()
        else:
            bare = re.fullmatch(r"[+-]?[0-9.,]+", cell.strip()) is not None
            data["facts"][name] = f"{cell} {unit}" if unit and bare else cell
    return data
