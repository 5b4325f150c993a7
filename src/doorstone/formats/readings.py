"""Reads readings from NDJSON and CSV. In: text and fact specs. Out: records and problems, each with its line.

NDJSON: one object a line with `device`, `source`, `taken_at`, `facts`, and optionally `verdicts` and the device's
`name`, `site`, `role`, `critical`. CSV: the same as columns; facts by their name, optionally with a unit,
`memory.mib [GiB]`; verdicts as `verdict:REQUIREMENT` with pass or fail.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from difflib import get_close_matches
from typing import Any

from doorstone.core.facts import FactError, FactSpec, FactValue, Reading

DEVICE_ID = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")
_ABOUT = ("name", "site", "role", "critical")
_ROW = ("device", "source", "taken_at")
_VERDICTS = {"pass": True, "fail": False, "true": True, "false": False, "yes": True, "no": False}
MOST_LINE = 100_000


@dataclass(frozen=True, slots=True)
class ReadingRecord:
    """One reading of one device, with what the file says about the device itself."""

    line: int
    device: str
    reading: Reading
    about: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ImportProblem:
    """One thing wrong with an import: the line, the field or column, what is wrong, the mend."""

    line: int
    place: str
    message: str
    mend: str

    def __str__(self) -> str:
        return f"line {self.line}, {self.place}: {self.message}. {self.mend}"


@dataclass(frozen=True, slots=True)
class Parsed:
    records: tuple[ReadingRecord, ...]
    problems: tuple[ImportProblem, ...]


class _BadFieldError(ValueError):
    def __init__(self, place: str, message: str, mend: str) -> None:
        super().__init__(message)
        self.place, self.message, self.mend = place, message, mend


def read_ndjson(text: str, specs: Mapping[str, FactSpec]) -> Parsed:
    """Read NDJSON. Never raises for bad input: what is wrong comes back as problems."""
    return _gather(_json_rows(text), specs)


def read_csv(text: str, specs: Mapping[str, FactSpec]) -> Parsed:
    """Read CSV with a header line. Never raises for bad input: what is wrong comes back as problems."""
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    try:
        columns = list(reader.fieldnames or [])
    except csv.Error as error:
        return Parsed((), (ImportProblem(1, "header", f"Not CSV: {error}", "Save it as comma-separated text"),))
    problems = tuple(_header_problems(columns, specs))
    if problems:
        return Parsed((), problems)
    return _gather(_csv_rows(reader), specs)


def _header_problems(columns: list[str], specs: Mapping[str, FactSpec]) -> Iterator[ImportProblem]:
    for needed in _ROW:
        if needed not in columns:
            yield ImportProblem(1, "header", f"The column {needed!r} is missing", f"Add a column named {needed}")
    for at, column in enumerate(columns):
        name = _split_unit(column)[0]
        if column in columns[:at]:
            yield ImportProblem(1, column, "The column stands twice", "Remove one of them")
        elif name not in specs and column not in (*_ROW, *_ABOUT) and not column.startswith("verdict:"):
            near = get_close_matches(name, [*specs, *_ROW, *_ABOUT], 1, 0.6)
            mend = f"Did you mean {near[0]}?" if near else "Name it by a fact, or remove it"
            yield ImportProblem(1, column, f"Unknown column {column!r}", mend)


def _split_unit(column: str) -> tuple[str, str]:
    found = re.fullmatch(r"(\S+) *\[(\w+)\]", column)
    return (found[1], found[2]) if found else (column, "")


def _json_rows(text: str) -> Iterator[tuple[int, Any]]:
    for number, line in enumerate(text.split("\n"), 1):
        if not line.strip():
            continue
        if len(line) > MOST_LINE:
            yield number, _BadFieldError("line", f"longer than {MOST_LINE:,} characters", "Split it into lines")
            continue
        try:
            yield number, json.loads(line, object_pairs_hook=_no_repeats, parse_constant=_no_constant)
        except json.JSONDecodeError as error:
            cut = error.pos >= len(line.rstrip()) - 1 or error.msg.startswith("Unterminated string")
            at, message = (len(line) + 1, "The line is cut off") if cut else (error.colno, f"Not JSON: {error.msg}")
            yield number, _BadFieldError(f"column {at}", message, "Write one whole JSON object a line")
        except (ValueError, RecursionError) as error:
            message = "nested too deep" if isinstance(error, RecursionError) else str(error)
            yield number, _BadFieldError("line", message, "Write one plain JSON object a line")


def _no_repeats(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    data = dict(pairs)
    if len(data) != len(pairs):
        raise ValueError("a key stands twice")
    return data


def _no_constant(word: str) -> Any:
    raise ValueError(f"{word} is not a number")


def _csv_rows(reader: csv.DictReader[str]) -> Iterator[tuple[int, Any]]:
    while True:
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            yield reader.line_num, _BadFieldError("row", f"Not CSV: {error}", "Check the quotes of this row")
            return
        yield reader.line_num, _csv_row(row)


def _csv_row(row: dict[Any, Any]) -> Any:
    if None in row or any(cell is None for cell in row.values()):
        return _BadFieldError("row", "The number of cells differs from the header", "Give each column one cell")
    data: dict[str, Any] = {"facts": {}, "verdicts": {}}
    for column, cell in row.items():
        name, unit = _split_unit(column)
        if cell.strip() == "":
            continue
        if column in (*_ROW, *_ABOUT):
            data[column] = cell.strip()
        elif column.startswith("verdict:"):
            data["verdicts"][column.removeprefix("verdict:")] = cell.strip()
        else:
            bare = re.fullmatch(r"[+-]?[0-9.,]+", cell.strip()) is not None
            data["facts"][name] = f"{cell} {unit}" if unit and bare else cell
    return data


def _gather(rows: Iterable[tuple[int, Any]], specs: Mapping[str, FactSpec]) -> Parsed:
    records: list[ReadingRecord] = []
    problems: list[ImportProblem] = []
    seen: dict[tuple[str, str, datetime], int] = {}
    for number, row in rows:
        try:
            if isinstance(row, _BadFieldError):
                raise row
            record = _record(number, row, specs)
            key = (record.device, record.reading.source, record.reading.taken_at)
            if key in seen:
                message = f"{record.device} from {key[1]} at {key[2]} stands in line {seen[key]} already"
                raise _BadFieldError("device", message, "Keep one of the two lines")
            seen[key] = number
            records.append(record)
        except _BadFieldError as error:
            problems.append(ImportProblem(number, error.place, error.message, error.mend))
    if not records and not problems:
        problems.append(ImportProblem(1, "file", "There is no reading in it", "Check that it is the file you meant"))
    return Parsed(tuple(records), tuple(problems))


def _record(number: int, row: Any, specs: Mapping[str, FactSpec]) -> ReadingRecord:
    if not isinstance(row, dict):
        raise _BadFieldError("line", "Not an object", 'Write {"device": ..., "source": ..., "facts": {...}}')
    if extra := sorted(set(row) - {*_ROW, *_ABOUT, "facts", "verdicts"}):
        raise _BadFieldError(extra[0], f"Unknown key {extra[0]!r}", "Facts go under 'facts'")
    device, source = _word(row, "device"), _word(row, "source")
    try:
        taken_at = datetime.fromisoformat(str(row.get("taken_at", ""))).replace(tzinfo=None)
    except ValueError as error:
        message = f"{row.get('taken_at')!r} is not a time" if row.get("taken_at") else "It is missing"
        raise _BadFieldError("taken_at", message, "Write it as 2027-01-18T09:30:00") from error
    facts, verdicts = row.get("facts", {}), row.get("verdicts", {})
    if not isinstance(facts, dict) or not isinstance(verdicts, dict):
        raise _BadFieldError("facts", "facts and verdicts are objects", 'Write "facts": {"memory.mib": 8192}')
    if not facts and not verdicts:
        raise _BadFieldError("facts", "The reading is empty", "Give at least one fact or verdict")
    about = {name: str(row[name])[:200] for name in _ABOUT if row.get(name) is not None}
    reading = Reading(source, taken_at, _facts(facts, specs), _verdicts(verdicts))
    return ReadingRecord(number, device, reading, about)


def _word(row: Mapping[str, Any], name: str) -> str:
    value = row.get(name)
    if not isinstance(value, str) or not DEVICE_ID.fullmatch(value):
        message = f"{value!r} is not a {name} id" if value else "It is missing"
        raise _BadFieldError(name, message, "Use letters, digits, dot, dash and underscore, up to 64")
    return value


def _facts(raw: Mapping[str, Any], specs: Mapping[str, FactSpec]) -> dict[str, FactValue]:
    facts = {}
    for name, value in raw.items():
        spec = specs.get(name)
        if spec is None:
            near = get_close_matches(name, list(specs), 1, 0.6)
            raise _BadFieldError(name, f"Unknown fact {name!r}", f"Did you mean {near[0]}?" if near else "Remove it")
        if value is None:
            continue
        try:
            facts[name] = spec.parse(value)
        except FactError as error:
            raise _BadFieldError(name, error.message, error.mend) from error
    return facts


def _verdicts(raw: Mapping[str, Any]) -> dict[str, bool]:
    verdicts = {}
    for name, word in raw.items():
        if str(word).lower() not in _VERDICTS:
            raise _BadFieldError(f"verdict:{name}", f"{word!r} is no verdict", "Write pass or fail")
        verdicts[name] = _VERDICTS[str(word).lower()]
    return verdicts
