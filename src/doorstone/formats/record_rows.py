"""Rows of records from files: attempts, observations, fixes, lives, settlements, follow-ups. CSV, TSV, NDJSON and JSON.

In: a text, the fields of one record, and optionally a mapping of foreign columns and words, in the form of
`formats/mapping.py`. Out: rows as plain data with their lines, and every problem; nothing here raises for bad input.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from difflib import get_close_matches
from typing import Any

from msgspec import Struct

from doorstone.core.facts import FactSpec, FactType
from doorstone.formats.mapping import ABOUT, ROW, CellError, ColumnMapping, MappingError, read_mapping
from doorstone.formats.reading_records import ImportProblem
from doorstone.formats.sheet import SheetProblem
from doorstone.formats.text_lines import FileError, delimiter_of, parse_json, text_lines


class RecordRow(Struct, frozen=True):
    """A row of the file: its line (of a JSON list its item), and its fields; empty cells are left out."""

    line: int
    fields: Mapping[str, Any]


def record_mapping(text: str, fields: Mapping[str, FactSpec]) -> ColumnMapping | None:
    """The mapping of a file of such records; None for an empty text. Raises `MappingError` with every place."""
    if not text.strip():
        return None
    mapping = read_mapping(text, fields)
    targets = [part.to for parts in mapping.columns.values() for part in parts] + list(mapping.document.constant)
    unknown = [name for name in targets if name not in fields]
    if unknown:
        raise MappingError([SheetProblem(None, name, f"There is no field {name!r}", _near(name, fields))
                            for name in unknown])  # fmt: skip
    return mapping


def _near(name: str, fields: Mapping[str, FactSpec]) -> str:
    near = get_close_matches(name, list(fields), 1, 0.5)
    return f"Did you mean {near[0]}?" if near else f"Use {', '.join(fields)}"


def read_rows(
    text: str, form: str, fields: Mapping[str, FactSpec], mapping: ColumnMapping | None = None
) -> tuple[list[RecordRow], list[ImportProblem]]:
    """Every row that can be read, and what is wrong with the others."""
    rows: list[RecordRow] = []
    problems: list[ImportProblem] = []
    word = "item" if form == "json" else "line"
    for line, found in _found(text, form, fields, mapping):
        try:
            if isinstance(found, CellError):
                raise found
            rows.append(RecordRow(line, _plain(found, fields)))
        except CellError as error:
            problems.append(ImportProblem(line, error.place, error.message, error.hint, word))
    if not rows and not problems:
        problems.append(ImportProblem(1, "file", "There is no row in it", "Check that it is the file you meant", word))
    return rows, problems


def _found(
    text: str, form: str, fields: Mapping[str, FactSpec], mapping: ColumnMapping | None
) -> Iterator[tuple[int, Any]]:
    if form in ("csv", "tsv"):
        yield from _table(text, "\t" if form == "tsv" else "", fields, mapping)
    elif form == "json":
        data = parse_json(text, "one list of JSON objects")
        items = data if isinstance(data, list) else [data]
        yield from ((at, _mapped(item, fields, mapping)) for at, item in enumerate(items, 1))
    else:
        for at, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
            if line.strip():
                yield at, _mapped(parse_json(line), fields, mapping)


def _mapped(item: Any, fields: Mapping[str, FactSpec], mapping: ColumnMapping | None) -> Any:
    if isinstance(item, CellError):
        return item
    if not isinstance(item, dict):
        return CellError("row", "Not an object", f'Write {{"{next(iter(fields))}": ..., ...}}')
    if mapping is None:
        for name in item:
            if name not in fields:
                return CellError(name, f"There is no field {name!r}", _near(name, fields))
        return item
    try:
        return _flat(mapping.item(item))
    except CellError as error:
        return error


def _table(
    text: str, delimiter: str, fields: Mapping[str, FactSpec], mapping: ColumnMapping | None
) -> Iterator[tuple[int, Any]]:
    raw = text.encode("utf-8", "surrogatepass")
    at, bad = 0, list[tuple[int, CellError]]()

    def lines() -> Iterator[str]:
        nonlocal at
        for number, line in text_lines(io.BytesIO(raw)):
            at = number
            if isinstance(line, CellError):
                bad.append((number, line))
            yield "\n" if isinstance(line, CellError) else line

    mark = (mapping.document.separator if mapping else "") or delimiter or delimiter_of(io.BytesIO(raw), "")
    header: list[str] | None = None
    reader = csv.reader(lines(), delimiter=mark, strict=True)
    while True:
        try:
            cells = next(reader, None)
        except csv.Error as error:
            yield at, CellError("row", f"Not a table: {error}", "Check the quotes of this row")
            continue
        yield from bad
        bad.clear()
        if cells is None:
            return
        if not any(cell.strip() for cell in cells):
            continue
        if header is None:
            header = [cell.strip() for cell in cells]
            problems = list(_header_problems(header, fields, mapping))
            if problems:
                yield from ((at, problem) for problem in problems)
                return
        elif len(cells) != len(header):
            words = f"{len(cells)} cells where the header has {len(header)}"
            yield at, CellError("row", words, "Give each column one cell")
        else:
            yield at, _cells(dict(zip(header, cells, strict=True)), mapping)


def _header_problems(
    header: list[str], fields: Mapping[str, FactSpec], mapping: ColumnMapping | None
) -> Iterator[CellError]:
    for at, column in enumerate(header):
        if column in header[:at]:
            yield FileError(column or "header", "The column stands twice", "Remove one of them")
    if mapping is not None:
        for column in mapping.missing(header):
            yield FileError("header", f"The column {column!r} is mapped but missing", "Correct the mapping's from")
        for column in mapping.unknown(header):
            hint = 'Map it, or write others = "ignore" in the mapping'
            yield FileError(column or "header", f"Nothing is said about {column!r}", hint)
        return
    for column in header:
        if column not in fields:
            yield FileError(column or "header", f"Unknown column {column!r}", _near(column, fields))


def _cells(cells: Mapping[str, str], mapping: ColumnMapping | None) -> Any:
    if mapping is None:
        return {name: cell.strip() for name, cell in cells.items()}
    try:
        return _flat(mapping.row(cells))
    except CellError as error:
        return error


def _flat(row: Mapping[str, Any]) -> dict[str, Any]:
    """A row of a mapping as one level of fields."""
    return {**row.get("facts", {}), **{name: row[name] for name in (*ROW, *ABOUT) if name in row}}


def _plain(row: Mapping[str, Any], fields: Mapping[str, FactSpec]) -> dict[str, Any]:
    """The fields that say something; the words of a set, joined by semicolons in a cell, one by one."""
    made = {}
    for name, value in row.items():
        if value in (None, "") or (isinstance(value, str) and not value.strip()):
            continue
        of_set = fields[name].type is FactType.SET and isinstance(value, str)
        one = _word(value, fields[name])
        made[name] = [word.strip() for word in value.split(";") if word.strip()] if of_set else one
    return made


def _word(value: Any, field: FactSpec) -> Any:
    """One of the words that a field takes, whatever its case, its spaces and dashes; any other value as it is."""
    if not (field.choices and isinstance(value, str)):
        return value
    plain = "-".join(value.replace("_", " ").replace("-", " ").casefold().split())
    return next((word for word in field.choices if word.casefold() == plain), value)
