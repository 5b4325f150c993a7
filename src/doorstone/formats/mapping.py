"""Mappings: how a foreign table or JSON becomes readings. In: TOML. Out: a `ColumnMapping`, or every problem at once.

format = 1
others = "ignore"                      # or refuse, the default: a column that is not mentioned is an error
separator = ";"                        # of the table's cells; found out if left out
encoding = "windows-1252"              # UTF-8, or UTF-16 with its mark, if left out
decimal = ","                          # and thousands = "."
dates = ["%d.%m.%Y", "%Y-%m-%d"]       # a date that two of them read differently is refused
nothing = ["n.v.", "k. A."]            # what says nothing, beside the usual words
sizes = "as-sold"                      # GB on a memory label means GiB; as-written, the default, takes it at its word
[constant]
source = "inventory"
taken_at = "2027-01-11"
[[column]]
from = "RAM (MB)"
to = "memory.mib"
unit = "MB"
[[column]]
from = "TPM"
to = "tpm.state"
values = { "Enabled" = "on", "Present, not ready" = "off", "None" = "absent" }
"""

from __future__ import annotations

import codecs
from collections.abc import Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from difflib import get_close_matches
from typing import Annotated, Any, Literal

from msgspec import Struct
from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError

from doorstone.core.facts import FactError, FactSpec, FactType, FactValue
from doorstone.core.numbers import Marks
from doorstone.formats.sheet import SheetProblem, shape_problems
from doorstone.formats.toml import TomlError, read_toml
from doorstone.formats.toml_places import TomlPlaces

ROW = ("device", "source", "taken_at")
ABOUT = ("name", "site", "role", "critical")
WORDINGS = {
    "enabled": "on", "active": "on", "activated": "on", "yes, on": "on",
    "disabled": "off", "inactive": "off", "deactivated": "off", "present but off": "off",
    "none": "absent", "missing": "absent", "not present": "absent", "not supported": "absent", "unsupported": "absent",
}  # fmt: skip
"""Vendors' words for the facts that are `on`, `off` or `absent`, understood in any mapped column."""
_NOTHING = {"", "n/a", "na", "null", "unknown", "-", "--", "?"}
AS_SOLD = {"kB": "KiB", "KB": "KiB", "MB": "MiB", "GB": "GiB", "TB": "TiB"}
"""What the words on a memory label mean: a module sold as 8 GB holds 8 GiB. Disks are sold in the plain sense."""
NOW = "now"
_Name = Annotated[str, StringConstraints(min_length=1, max_length=200)]


class MappingError(ValueError):
    """A mapping that is refused, with every problem found."""

    def __init__(self, problems: list[SheetProblem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems))
        self.problems = tuple(problems)


class CellError(ValueError):
    """A cell or field that cannot be used: its place, what is wrong, the hint."""

    def __init__(self, place: str, message: str, hint: str) -> None:
        super().__init__(message)
        self.place, self.message, self.hint = place, message, hint


class ColumnPart(BaseModel):
    """One column of the foreign table, or one key of the foreign object, nested ones joined by dots."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    from_: _Name = Field(alias="from", description="The column as it stands in the file, or the path of JSON keys")
    to: _Name = Field(description="A fact, or device, source, taken_at, name, site, role, critical, texts, verdict:ID")
    unit: str | None = Field(None, description="Unit of bare numbers in the column")
    strip: list[str] = Field([], description="What is taken off the beginning or the end of a cell, in any case")
    split: str | None = Field(
        None, min_length=1, max_length=5, description="What parts a cell of which `take` is taken"
    )
    take: int | None = Field(None, description="Which part: 1 is the first, -1 the last")
    case: Literal["lower", "upper"] | None = Field(None, description="Letters become small or capital ones")
    values: dict[str, str | bool | int] = Field({}, description="The file's words, in any case, to ours")
    time: str | list[str] | None = Field(
        None, description="How a date or time is written, such as %d/%m/%Y %H:%M; several may be given"
    )
    separator: str | None = Field(None, min_length=1, max_length=5, description="What parts the words of a set")
    decimal: Literal[".", ","] | None = Field(None, description="The mark before decimals, if not that of the file")
    thousands: Literal[".", ",", " ", "'", "’"] | None = Field(None, description="The mark between thousands")
    nothing: list[str] | None = Field(None, description="What says nothing in this column, beside the usual words")
    sizes: Literal["as-written", "as-sold"] | None = Field(None, description="What GB means here, if not as the file")


class MappingDocument(BaseModel):
    """A mapping file, format 1."""

    model_config = ConfigDict(extra="forbid")

    format: Literal[1]
    others: Literal["refuse", "ignore"] = Field("refuse", description="What to do with columns that are not mapped")
    separator: str = Field("", max_length=1, description="What parts the cells of a table; found out if left out")
    encoding: str = Field("", description="UTF-8, or UTF-16 with its mark, if left out; windows-1252, iso-8859-15, ...")
    decimal: Literal["", ".", ","] = Field("", description="The mark before decimals")
    thousands: Literal["", ".", ",", " ", "'", "’"] = Field("", description="The mark between thousands")
    dates: list[str] = Field([], description="How dates and times are written, such as %d.%m.%Y")
    nothing: list[str] = Field([], description="What says nothing, beside: n/a, na, null, unknown, -, --, ?")
    sizes: Literal["as-written", "as-sold"] = Field(
        "as-written", description="as-sold: kB, MB, GB, TB of memory mean KiB, MiB, GiB, TiB"
    )
    constant: dict[str, str] = Field({}, description="Of every row: source, taken_at, site, role, or any fact")
    column: list[ColumnPart] = Field(min_length=1)


class ColumnMapping(Struct, frozen=True):
    """How the columns of a foreign file become parts of a reading."""

    columns: Mapping[str, tuple[ColumnPart, ...]]
    document: MappingDocument
    specs: Mapping[str, FactSpec]
    now: datetime | None = None

    @property
    def ignore(self) -> bool:
        return self.document.others == "ignore"

    @property
    def constants(self) -> Mapping[str, str]:
        """What is the same in every row; `now` is the time at which the file is read."""
        at = self.now.isoformat(timespec="seconds") if self.now else ""
        return {
            name: at if (name, value) == ("taken_at", NOW) else value for name, value in self.document.constant.items()
        }

    def missing(self, header: list[str]) -> list[str]:
        """Columns that are mapped but missing from the file."""
        return [name for name in self.columns if name not in header]

    def unknown(self, header: list[str]) -> list[str]:
        """Columns of the file that the mapping does not mention."""
        return [] if self.ignore else [name for name in header if name not in self.columns]

    def row(self, cells: Mapping[str, Any]) -> dict[str, Any]:
        """A foreign row as a row of ours. Raises `CellError` that names the column."""
        made: dict[str, Any] = {"facts": {}, "verdicts": {}}
        for name, value in self.constants.items():
            _put(made, name, value)
        for name, raw in cells.items():
            for part in self.columns.get(name, ()):
                value = self._value(part, raw)
                if value is not None:
                    _put(made, part.to, value)
            if name not in self.columns and not self.ignore:
                raise CellError(name, f"Nothing is said about {name!r}", 'Map it, or write others = "ignore"')
        return made

    def item(self, data: Mapping[str, Any]) -> dict[str, Any]:
        """A foreign JSON object as a row of ours: `from` is a path of keys, joined by dots."""
        flat = flat_keys(data)
        for path in self.columns:
            if path not in flat and (found := at_path(data, path)) is not None:
                flat[path] = found
        if self.ignore:
            flat = {name: value for name, value in flat.items() if name in self.columns}
        return self.row(flat)

    def _value(self, part: ColumnPart, raw: Any) -> Any:
        if isinstance(raw, dict):  # an object whose keys are the words: a set
            raw = [str(name) for name, held in raw.items() if held not in (False, None)]
        if isinstance(raw, str):
            raw = _shaped(part, raw)
        text = str(raw).strip() if isinstance(raw, str | int | float) and not isinstance(raw, bool) else ""
        plain = text.lower()
        words = {word.strip().lower(): ours for word, ours in part.values.items()}
        if isinstance(raw, bool):
            return words.get(str(raw).lower(), raw)
        if plain in words:
            return words[plain]
        nothing = {word.strip().lower() for word in (*self.document.nothing, *(part.nothing or ()))}
        if raw is None or (isinstance(raw, str) and plain in _NOTHING | nothing):
            return None
        spec = self.specs.get(part.to)
        if spec and spec.choices and plain not in spec.choices:
            if set(spec.choices) == {"on", "off", "absent"} and plain in WORDINGS:
                return WORDINGS[plain]
            message = f"{text!r} is none of {', '.join(spec.choices)}"
            raise CellError(part.from_, message, f'Add it to values in the mapping: values = {{ "{text}" = "..." }}')
        if text and (part.time or self._dated(part, spec)):
            return self._moment(part, text)
        if part.separator is not None and isinstance(raw, str):
            return [word.strip() for word in raw.split(part.separator) if word.strip()]
        if spec and spec.type in (FactType.INTEGER, FactType.DECIMAL) and text:
            return self._number(part, spec, raw, text)
        return raw if isinstance(raw, list) else text

    def _dated(self, part: ColumnPart, spec: FactSpec | None) -> bool:
        dated = part.to == "taken_at" or (spec is not None and spec.type in (FactType.DATE, FactType.TIMESTAMP))
        return dated and bool(self.document.dates)

    def _moment(self, part: ColumnPart, text: str) -> str:
        """A date or time as ISO 8601; one that two of the ways to write it read differently is refused."""
        ways = [part.time] if isinstance(part.time, str) else part.time or self.document.dates
        found: dict[str, str] = {}
        for way in ways:
            try:
                found.setdefault(datetime.strptime(text, way).isoformat(), way)
            except ValueError:
                continue
        if not found:
            raise CellError(part.from_, f"{text!r} is not written as {' or '.join(ways)}", "Add to time or dates")
        if len(found) > 1:
            both = " or ".join(f"{moment[:10]} ({way})" for moment, way in found.items())
            raise CellError(part.from_, f"{text!r} can be read as {both}", "Leave one of them in time or dates")
        return next(iter(found))

    def _number(self, part: ColumnPart, spec: FactSpec, raw: Any, text: str) -> FactValue:
        marks = Marks(part.decimal or self.document.decimal, part.thousands or self.document.thousands)
        if not isinstance(raw, str):  # a number of JSON is one already
            marks, text = Marks(".", " "), format(Decimal(text), "f")
        sold = (part.sizes or self.document.sizes) == "as-sold" and spec.name.startswith("memory.")
        try:
            return spec.quantity(text, marks, part.unit or "", AS_SOLD if sold else {})
        except FactError as error:
            raise CellError(part.from_, error.message, error.hint) from error


def _shaped(part: ColumnPart, text: str) -> str:
    """A cell without what is taken off, or the part of it that is taken, in the case that is asked for."""
    for word in part.strip:
        text = text.strip()
        if text.casefold().startswith(word.casefold()):
            text = text[len(word) :]
        if text.casefold().endswith(word.casefold()):
            text = text[: -len(word)]
    if part.split is not None and part.take is not None and text.strip():
        pieces = text.split(part.split)
        if not -len(pieces) <= part.take <= len(pieces):
            count = "1 part" if len(pieces) == 1 else f"{len(pieces)} parts"
            message = f"{text!r} has {count} between {part.split!r}, and take asks for {part.take}"
            raise CellError(part.from_, message, "Correct the cell, or split and take in the mapping")
        text = pieces[part.take - 1 if part.take > 0 else part.take]
    return text.lower() if part.case == "lower" else text.upper() if part.case == "upper" else text


def flat_keys(item: Mapping[str, Any], before: str = "", depth: int = 0) -> dict[str, Any]:
    """Nested keys joined by dots. Items of a list of objects go by their `id`, else by their place from 0 on."""
    flat: dict[str, Any] = {}
    for name, value in item.items():
        if isinstance(value, dict) and depth < MOST_DEEP:
            flat.update(flat_keys(value, f"{before}{name}.", depth + 1))
        elif isinstance(value, list) and value and all(isinstance(one, dict) for one in value) and depth < MOST_DEEP:
            flat.update(flat_keys(_by_id(value), f"{before}{name}.", depth + 1))
        else:
            flat[f"{before}{name}"] = value
    return flat


MOST_DEEP = 20


def _by_id(items: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Items by their `id`; one whose id stands already, or that has none, by its place."""
    found: dict[str, Any] = {}
    for at, item in enumerate(items):
        name = str(item.get("id", at))
        found[name if name not in found else f"{name}#{at}"] = item
    return found


def at_path(data: Any, path: str) -> Any:
    """What stands at a path of keys: an object or list too; None if nothing does. A key may itself hold dots.

    `**.` stands for any keys before the rest: the first place where the rest is found, in the order of the file.
    """
    if path == "" or data is None:
        return data if path == "" else None
    if path.startswith("**."):
        rest = path.removeprefix("**.")
        if (found := at_path(data, rest)) is not None:
            return found
        within = data.values() if isinstance(data, dict) else data if isinstance(data, list) else ()
        return next((held for one in within if (held := at_path(one, path)) is not None), None)
    if isinstance(data, list) and all(isinstance(one, dict) for one in data):
        data = _by_id(data)
    if not isinstance(data, dict):
        return None
    for name, value in data.items():
        if path == name:
            return value
        if path.startswith(f"{name}.") and (found := at_path(value, path[len(name) + 1 :])) is not None:
            return found
    return None


def _put(row: dict[str, Any], to: str, value: Any) -> None:
    if to.startswith("verdict:"):
        row["verdicts"][to.removeprefix("verdict:")] = value
    elif to == "texts":
        row.setdefault("texts", []).extend(value if isinstance(value, list) else [value])
    elif to in (*ROW, *ABOUT):
        row[to] = value
    else:
        row["facts"][to] = value


def read_mapping(text: str, specs: Mapping[str, FactSpec], now: datetime | None = None) -> ColumnMapping:
    """Read a mapping file; `now` is the time for a constant `taken_at = "now"`.

    Raises `MappingError` with every place that is wrong.
    """
    try:
        raw = read_toml(text)
    except TomlError as error:
        raise MappingError([SheetProblem(error.line, "TOML", error.message, error.hint)]) from error
    locate = TomlPlaces(text)
    try:
        document = MappingDocument.model_validate(raw)
    except ValidationError as error:
        raise MappingError(shape_problems(locate, error)) from error
    problems = _file_problems(document, locate)
    for name in document.constant:
        if not _known(name, specs):
            problems.append(_unknown(locate(("constant", name)), f"constant.{name}", name, specs))
    for at, part in enumerate(document.column):
        where = f"column[{at + 1}]"
        line = locate(("column", at, "to"))
        if not _known(part.to, specs):
            problems.append(_unknown(line, f"{where}.to", part.to, specs))
        if (part.split is None) != (part.take is None) or part.take == 0:
            hint = 'Write both, such as split = "-" and take = 2; 1 is the first part, -1 the last'
            problems.append(SheetProblem(locate(("column", at)), where, "split and take belong together", hint))
        if "" in part.strip:
            problems.append(
                SheetProblem(locate(("column", at, "strip")), f"{where}.strip", "A word is empty", "Remove it")
            )
        if _known(part.to, specs) and part.unit is not None:
            problems += _unit_problems(locate(("column", at, "unit")), f"{where}.unit", part, specs)
    if problems:
        raise MappingError(problems)
    columns: dict[str, tuple[ColumnPart, ...]] = {}
    for part in document.column:
        columns[part.from_] = (*columns.get(part.from_, ()), part)
    return ColumnMapping(columns, document, specs, now)


def _file_problems(document: MappingDocument, locate: TomlPlaces) -> list[SheetProblem]:
    """Settings of the file as a whole that cannot be used."""
    problems = []
    if document.encoding:
        try:
            codecs.lookup(document.encoding)
        except LookupError:
            hint = "Write utf-8, utf-16, windows-1252 or iso-8859-15, or leave it out"
            problems.append(SheetProblem(locate(("encoding",)), "encoding", f"{document.encoding!r} is unknown", hint))
    parts = [("", document.decimal, document.thousands)]
    parts += [
        (f"column[{at + 1}].", part.decimal or document.decimal, part.thousands or document.thousands)
        for at, part in enumerate(document.column)
        if part.decimal or part.thousands
    ]
    for place, decimal, thousands in parts:
        if decimal and decimal == thousands:
            hint = "Give each its own mark"
            problems.append(SheetProblem(locate(("thousands",)), f"{place}thousands", "The same mark as decimal", hint))
    return problems


def _known(name: str, specs: Mapping[str, FactSpec]) -> bool:
    return name in specs or name in (*ROW, *ABOUT, "texts") or name.startswith("verdict:")


def _unknown(line: int | None, place: str, name: str, specs: Mapping[str, FactSpec]) -> SheetProblem:
    near = get_close_matches(name, [*specs, *ROW, *ABOUT, "texts"], 1, 0.6)
    hint = f"Did you mean {near[0]}?" if near else "Name a fact, or device, source, taken_at, site, role, texts"
    return SheetProblem(line, place, f"There is no {name!r} to map to", hint)


def _unit_problems(line: int | None, place: str, part: ColumnPart, specs: Mapping[str, FactSpec]) -> list[SheetProblem]:
    spec = specs.get(part.to)
    if spec is None or spec.type not in (FactType.INTEGER, FactType.DECIMAL):
        return [SheetProblem(line, place, f"{part.to} has no unit", "Leave unit out")]
    try:
        spec.parse(f"1 {part.unit}")
    except FactError as error:
        return [SheetProblem(line, place, error.message, error.hint)]
    return []
