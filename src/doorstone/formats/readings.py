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
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from difflib import get_close_matches
from typing import Any, BinaryIO

import orjson

from doorstone.core.facts import FactError, FactSpec
from doorstone.core.readings.first_lines import FirstLines
from doorstone.core.readings.value_table import ValueTable
from doorstone.formats.mapping import ABOUT, ROW, CellError, ColumnMapping
from doorstone.formats.reading_records import DEVICE_ID, Content, ImportProblem, ReadingRecord
from doorstone.formats.text_lines import MOST_LINE, FileError, delimiter_of, parse_json, text_lines, too_long

FORMS = ("ndjson", "json", "csv", "tsv")
_VERDICTS = {"pass": True, "fail": False, "true": True, "false": False, "yes": True, "no": False}
MOST_JSON = 64 * 2**20
MOST_TEXT = 500
MOST_VALUES = 100_000
MOST_ALIKE = 10_000
_WORDS = frozenset({str, type(None)})
_KEYS = frozenset({*ROW, *ABOUT, "facts", "verdicts", "texts", "unread"})
_NO_TEXT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff]")  # control characters, halves of one


@dataclass(frozen=True, slots=True)
class Parsed:
    records: tuple[ReadingRecord, ...]
    problems: tuple[ImportProblem, ...]


def read_text(text: str, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None = None) -> Parsed:
    """Read a whole text. Never raises for bad input: what is wrong comes back as problems."""
    found = list(read_stream(io.BytesIO(text.encode("utf-8", "surrogatepass")), form, specs, mapping))
    return Parsed(
        tuple(one for one in found if isinstance(one, ReadingRecord)),
        tuple(one for one in found if isinstance(one, ImportProblem)),
    )


def read_stream(
    stream: BinaryIO, form: str, specs: Mapping[str, FactSpec], mapping: ColumnMapping | None = None
) -> Iterator[ReadingRecord | ImportProblem]:
    """Read a seekable stream of bytes line by line: UTF-8, or UTF-16 with its mark. `form` is one of `FORMS`."""
    word = "item" if form == "json" else "line"
    seen = FirstLines()
    empty = True
    coder = _Coder(specs)
    for number, row in _rows(stream, form, coder, mapping):
        empty = False
        try:
            if isinstance(row, CellError):
                raise row
            record = row if isinstance(row, ReadingRecord) else _record(number, row, coder)
            if (first := seen.first(hash((record.device, record.source, record.taken_at)), number)) != number:
                at = record.taken_at.replace("T", " ")
                message = f"{record.device} from {record.source} at {at} stands in {word} {first} already"
                raise CellError("device", message, f"Keep one of the two {word}s")
            yield record
        except CellError as error:
            fatal = isinstance(error, FileError)
            yield ImportProblem(number, error.place, error.message, error.hint, word, fatal)
    if empty:
        hint = "Check that it is the file you meant"
        yield ImportProblem(1, "file", "There is no reading in it", hint, word, fatal=True)


def _rows(stream: BinaryIO, form: str, coder: _Coder, mapping: ColumnMapping | None) -> Iterator[tuple[int, Any]]:
    if form == "ndjson":
        return _jsontext_lines(stream, mapping) if mapping or _marked(stream) else _plaintext_lines(stream, coder)
    if form == "json":
        return _json_items(stream, mapping)
    return _table_rows(stream, "\t" if form == "tsv" else "", coder.specs, mapping)


# --------------------------------------------------------------------- lines


def _marked(stream: BinaryIO) -> bool:
    """Whether the file begins with a byte order mark, or has lines that end otherwise than with a line feed."""
    head = stream.read(MOST_LINE)
    stream.seek(0)
    return head.startswith((b"\xff\xfe", b"\xfe\xff", b"\xef\xbb\xbf")) or b"\r" in head.replace(b"\r\n", b"")


def _plaintext_lines(stream: BinaryIO, coder: _Coder) -> Iterator[tuple[int, ReadingRecord | CellError]]:
    """NDJSON in UTF-8: each line as its record, or as what is wrong with it."""

    number = 0
    while line := stream.readline(4 * MOST_LINE + 1):
        number += 1
        if len(line) > 4 * MOST_LINE and not line.endswith(b"\n"):
            while (rest := stream.readline(MOST_LINE)) and not rest.endswith(b"\n"):
                pass
        try:
            if not line.isspace():
                yield number, _line_record(number, line, coder)
        except CellError as error:
            yield number, error


def _line_record(number: int, line: bytes, coder: _Coder) -> ReadingRecord:
    data = _plain_object(line)
    if data is not None:
        return _record(number, data, coder, plain=True)
    text = _text(line)
    if isinstance(text, CellError):
        raise text
    data = parse_json(text.rstrip("\r\n"))
    if isinstance(data, CellError):
        raise data
    return _record(number, data, coder)


def _plain_object(line: bytes) -> dict[str, Any] | None:
    """The object of a line, if nothing in it needs a closer look: no escape, no key that stands twice.

    Without escapes and without space after a quote, each `":` ends a key: their number tells of a repeated one.
    """
    if b"\\" in line or b"\x7f" in line or b'" ' in line or b'"\t' in line or len(line) > MOST_LINE:
        return None
    try:
        data = orjson.loads(line)
    except orjson.JSONDecodeError:
        return None
    if type(data) is not dict:
        return None
    keys = len(data) + sum([len(part) for part in data.values() if type(part) is dict])
    return data if line.count(b'":') == keys else None


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


# ---------------------------------------------------------------------- JSON


def _jsontext_lines(stream: BinaryIO, mapping: ColumnMapping | None) -> Iterator[tuple[int, Any]]:
    for number, line in text_lines(stream, mapping.document.encoding if mapping else ""):
        if isinstance(line, CellError):
            yield number, line
        elif line.strip():
            yield number, _mapped(parse_json(line.rstrip("\r\n")), mapping)


def _json_items(stream: BinaryIO, mapping: ColumnMapping | None) -> Iterator[tuple[int, Any]]:
    raw = stream.read(MOST_JSON + 1)
    if len(raw) > MOST_JSON:
        yield 1, FileError("file", f"over {MOST_JSON // 2**20} MiB of JSON in one piece", "Write one object a line")
        return
    try:
        given = mapping.document.encoding if mapping else ""
        text = raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else given or "utf-8-sig")
    except UnicodeDecodeError as error:
        yield 1, FileError("file", f"Byte {error.start + 1} is not UTF-8", "Save the file as UTF-8")
        return
    data = parse_json(text, "one list of JSON objects") if text.strip() else []
    if isinstance(data, CellError):
        yield 1, FileError(data.place, data.message, data.hint)
        return
    items = data.get("readings") if isinstance(data, dict) else data
    if items is None and mapping is not None:
        items = [data]  # one foreign object is one device
    if not isinstance(items, list):
        yield 1, FileError("file", "Not a list of readings", 'Write [ {...}, {...} ] or { "readings": [ ... ] }')
        return
    for number, item in enumerate(items, 1):
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


# ------------------------------------------------------------------- records


def _record(number: int, row: Any, coder: _Coder, *, plain: bool = False) -> ReadingRecord:
    """A reading of an object. `plain` objects hold no characters that need a look."""
    if not isinstance(row, dict):
        raise CellError("line", "Not an object", 'Write {"device": ..., "source": ..., "facts": {...}}')
    if not row.keys() <= _KEYS:
        extra = sorted(row.keys() - _KEYS)
        raise CellError(extra[0], f"Unknown key {extra[0]!r}", "Facts go under 'facts'")
    for place, text in () if plain else _words_of("line", row):
        if bad := _NO_TEXT.search(text):
            raise CellError(place, f"U+{ord(bad[0]):04X} is no character of a text", "Write it without")
    device, source, taken_at = _word(row, "device"), coder.source(row), _time(row.get("taken_at", ""))
    facts, verdicts, unread = row.get("facts", {}), row.get("verdicts", {}), row.get("unread", {})
    if not (isinstance(facts, dict) and isinstance(verdicts, dict) and isinstance(unread, dict)):
        raise CellError("facts", "facts, verdicts and unread are objects", 'Write "facts": {"memory.mib": 8192}')
    texts = _texts(row.get("texts"))
    if not facts and not verdicts and texts is None:
        raise CellError("facts", "The reading is empty", "Give at least one fact, verdict or text")
    about = coder.about(row)
    why = {str(name)[:100]: str(reason)[:MOST_TEXT] for name, reason in list(unread.items())[:200]} if unread else {}
    content = Content(*coder.coded(facts), _verdicts(verdicts) if verdicts else {}, texts, why)
    return ReadingRecord(number, device, source, taken_at, content, about)


def _time(text: Any) -> str:
    """A time as it is kept: ISO 8601 in UTC, to the second."""
    try:
        found = datetime.fromisoformat(str(text))
        if found.tzinfo is None and found.microsecond == 0 and len(text) == _SECONDS and text[10] == "T":
            return str(text)
        if found.tzinfo is not None:
            found = found.astimezone(UTC).replace(tzinfo=None)
    except (ValueError, OverflowError, TypeError) as error:
        message = f"{text!r} is not a time" if text else "It is missing"
        raise CellError("taken_at", message, "Write it as 2027-01-18T09:30:00") from error
    return found.replace(microsecond=0).isoformat()


_SECONDS = len("2027-01-18T09:30:00")


def _words_of(place: str, value: Any) -> Iterator[tuple[str, str]]:
    """Every text in a value, keys too, each with the key under which it stands."""
    if isinstance(value, str):
        yield place, value
    elif isinstance(value, dict):
        for key, held in value.items():
            yield place, key
            yield from _words_of(key, held)
    elif isinstance(value, list):
        for held in value:
            yield from _words_of(place, held)


def _word(row: Mapping[str, Any], name: str) -> str:
    value = row.get(name)
    if not isinstance(value, str) or not DEVICE_ID.fullmatch(value):
        message = f"{value!r} is not a {name} id" if value else "It is missing"
        raise CellError(name, message, "Use letters, digits, dot, dash and underscore, up to 64")
    return value


def _texts(raw: Any) -> tuple[str, ...] | None:
    if raw is None:
        return None
    if not isinstance(raw, list) or not all(isinstance(text, str) for text in raw):
        raise CellError("texts", "texts is a list of failures in words", 'Write "texts": ["The chip was not found."]')
    found = tuple(dict.fromkeys(re.sub(r"\s+", " ", text).strip() for text in raw if text.strip()))
    if any(len(text) > MOST_TEXT or not text.isprintable() for text in found) or len(found) > 50:
        message = f"more than 50 texts, or one over {MOST_TEXT} characters or with control characters"
        raise CellError("texts", message, "Shorten it")
    return found


class _Coder:
    """Codes the facts of a stream's readings; once a table of values is large, the next begins.

    Sources, and what is said of devices themselves, are looked at once each: few differ.
    """

    def __init__(self, specs: Mapping[str, FactSpec]) -> None:
        self.specs = specs
        self._table = ValueTable(specs)
        self._sources: set[str] = set()
        self._abouts: dict[tuple[str | None, ...], dict[str, str]] = {}

    def source(self, row: Mapping[str, Any]) -> str:
        """The source of a row. Raises `CellError`."""
        found = row.get("source")
        if type(found) is str and found in self._sources:
            return found
        word = _word(row, "source")
        if len(self._sources) < MOST_ALIKE:
            self._sources.add(word)
        return word

    def about(self, row: Mapping[str, Any]) -> dict[str, str]:
        """What a row says of the device itself: shared by those that say the same, so not to be changed."""
        words = tuple([row.get(name) for name in ABOUT])
        if not _WORDS.issuperset(map(type, words)):
            return _about(words)
        found = self._abouts.get(words)
        if found is None:
            found = _about(words)
            if len(self._abouts) < MOST_ALIKE:
                self._abouts[words] = found
        return found

    def coded(self, raw: Mapping[str, Any]) -> tuple[ValueTable, int, tuple[int, ...]]:
        """The table, and of it the shape and the values' numbers. Raises `CellError` that names the fact."""
        if len(self._table.values) > MOST_VALUES:
            self._table = ValueTable(self.specs)
        try:
            return self._table, *self._table.coded(raw)
        except (FactError, KeyError):
            for name, value in raw.items():
                _check_fact(name, value, self.specs)
            raise


def _about(words: Iterable[Any]) -> dict[str, str]:
    return {name: str(value)[:200] for name, value in zip(ABOUT, words, strict=True) if value is not None}


def _check_fact(name: str, raw: Any, specs: Mapping[str, FactSpec]) -> None:
    if name not in specs:
        near = get_close_matches(name, list(specs), 1, 0.6)
        raise CellError(name, f"Unknown fact {name!r}", f"Did you mean {near[0]}?" if near else "Remove it")
    if raw is not None:
        try:
            specs[name].parse(raw)
        except FactError as error:
            raise CellError(name, error.message, error.hint) from error


def _verdicts(raw: Mapping[str, Any]) -> dict[str, bool]:
    verdicts = {}
    for name, word in raw.items():
        if str(word).lower() not in _VERDICTS:
            raise CellError(f"verdict:{name}", f"{word!r} is no verdict", "Write pass or fail")
        verdicts[str(name)[:64]] = _VERDICTS[str(word).lower()]
    return verdicts
