"""Mappings: how a foreign table or JSON becomes readings. In: TOML. Out: a `ColumnMapping`, or every problem at once.

format = 1
others = "ignore"                      # or refuse, the default: a column that is not mentioned is an error
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

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from difflib import get_close_matches
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError

from doorstone.core.facts import FactError, FactSpec, FactType
from doorstone.formats.sheet import Lines, SheetProblem, shape_problem
from doorstone.formats.toml import TomlError, read_toml

ROW = ("device", "source", "taken_at")
ABOUT = ("name", "site", "role", "critical")
WORDINGS = {
    "enabled": "on", "active": "on", "activated": "on", "yes, on": "on",
    "disabled": "off", "inactive": "off", "deactivated": "off", "present but off": "off",
    "none": "absent", "missing": "absent", "not present": "absent", "not supported": "absent", "unsupported": "absent",
}  # fmt: skip
"""Vendors' words for the facts that are `on`, `off` or `absent`, understood in any mapped column."""
_NOTHING = {"", "n/a", "na", "null", "unknown", "-", "--", "?"}
_Name = Annotated[str, StringConstraints(min_length=1, max_length=200)]


class MappingError(ValueError):
    """A mapping that is refused, with every problem found."""

    def __init__(self, problems: list[SheetProblem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems))
        self.problems = tuple(problems)


class CellError(ValueError):
    """A cell or field that cannot be used: its place, what is wrong, the mend."""

    def __init__(self, place: str, message: str, mend: str) -> None:
        super().__init__(message)
        self.place, self.message, self.mend = place, message, mend


class ColumnPart(BaseModel):
    """One column of the foreign table, or one key of the foreign object, nested ones joined by dots."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    from_: _Name = Field(alias="from", description="The column's name, as it stands in the file")
    to: _Name = Field(description="A fact, or device, source, taken_at, name, site, role, critical, texts, verdict:ID")
    unit: str | None = Field(None, description="Unit of bare numbers in the column")
    values: dict[str, str | bool | int] = Field({}, description="The file's words, in any case, to ours")
    time: str | None = Field(None, description="How a date or time is written, such as %d/%m/%Y %H:%M")
    separator: str | None = Field(None, min_length=1, max_length=5, description="What parts the words of a set")


class MappingDocument(BaseModel):
    """A mapping file, format 1."""

    model_config = ConfigDict(extra="forbid")

    format: Literal[1]
    others: Literal["refuse", "ignore"] = "refuse"
    constant: dict[str, str] = Field({}, description="Of every row: source, taken_at, site, role, or any fact")
    column: list[ColumnPart] = Field(min_length=1)


@dataclass(frozen=True, slots=True)
class ColumnMapping:
    """How the columns of a foreign file become parts of a reading."""

    columns: Mapping[str, tuple[ColumnPart, ...]]
    constants: Mapping[str, str]
    ignore: bool
    specs: Mapping[str, FactSpec]

    def missing(self, header: list[str]) -> list[str]:
        """Columns that are mapped but do not stand in the file."""
        return [name for name in self.columns if name not in header]

    def unknown(self, header: list[str]) -> list[str]:
        """Columns of the file that nothing is said about."""
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

    def _value(self, part: ColumnPart, raw: Any) -> Any:
        text = str(raw).strip() if isinstance(raw, str | int | float) and not isinstance(raw, bool) else ""
        plain = text.lower()
        words = {word.strip().lower(): ours for word, ours in part.values.items()}
        if isinstance(raw, bool):
            return words.get(str(raw).lower(), raw)
        if plain in words:
            return words[plain]
        if raw is None or (isinstance(raw, str) and plain in _NOTHING):
            return None
        spec = self.specs.get(part.to)
        if spec and spec.choices and plain not in spec.choices:
            if set(spec.choices) == {"on", "off", "absent"} and plain in WORDINGS:
                return WORDINGS[plain]
            message = f"{text!r} is none of {', '.join(spec.choices)}"
            raise CellError(part.from_, message, f'Add it to values in the mapping: values = {{ "{text}" = "..." }}')
        if part.time is not None:
            try:
                return datetime.strptime(text, part.time).isoformat()
            except ValueError as error:
                raise CellError(part.from_, f"{text!r} is not written as {part.time}", "Correct time") from error
        if part.separator is not None and isinstance(raw, str):
            return [word.strip() for word in raw.split(part.separator) if word.strip()]
        if part.unit is not None and text and not text[-1].isalpha():
            return f"{text} {part.unit}"
        return raw if isinstance(raw, list) else text


def _put(row: dict[str, Any], to: str, value: Any) -> None:
    if to.startswith("verdict:"):
        row["verdicts"][to.removeprefix("verdict:")] = value
    elif to == "texts":
        row.setdefault("texts", []).extend(value if isinstance(value, list) else [value])
    elif to in (*ROW, *ABOUT):
        row[to] = value
    else:
        row["facts"][to] = value


def read_mapping(text: str, specs: Mapping[str, FactSpec]) -> ColumnMapping:
    """Read a mapping file. Raises `MappingError` with every place that is wrong."""
    try:
        raw = read_toml(text)
    except TomlError as error:
        raise MappingError([SheetProblem(error.line, "TOML", error.message, error.hint)]) from error
    locate = Lines(text)
    try:
        document = MappingDocument.model_validate(raw)
    except ValidationError as error:
        raise MappingError([shape_problem(locate, item) for item in error.errors(include_url=False)]) from error
    problems = []
    for name in document.constant:
        if not _known(name, specs):
            problems.append(_unknown(locate(("constant", name)), f"constant.{name}", name, specs))
    for at, part in enumerate(document.column):
        where = f"column[{at + 1}]"
        line = locate(("column", at, "to"))
        if not _known(part.to, specs):
            problems.append(_unknown(line, f"{where}.to", part.to, specs))
        elif part.unit is not None:
            problems += _unit_problems(locate(("column", at, "unit")), f"{where}.unit", part, specs)
    if problems:
        raise MappingError(problems)
    columns: dict[str, tuple[ColumnPart, ...]] = {}
    for part in document.column:
        columns[part.from_] = (*columns.get(part.from_, ()), part)
    return ColumnMapping(columns, document.constant, document.others == "ignore", specs)


def _known(name: str, specs: Mapping[str, FactSpec]) -> bool:
    return name in specs or name in (*ROW, *ABOUT, "texts") or name.startswith("verdict:")


def _unknown(line: int | None, place: str, name: str, specs: Mapping[str, FactSpec]) -> SheetProblem:
    near = get_close_matches(name, [*specs, *ROW, *ABOUT, "texts"], 1, 0.6)
    mend = f"Did you mean {near[0]}?" if near else "Name a fact, or device, source, taken_at, site, role, texts"
    return SheetProblem(line, place, f"There is no {name!r} to map to", mend)


def _unit_problems(line: int | None, place: str, part: ColumnPart, specs: Mapping[str, FactSpec]) -> list[SheetProblem]:
    spec = specs.get(part.to)
    if spec is None or spec.type not in (FactType.INTEGER, FactType.DECIMAL):
        return [SheetProblem(line, place, f"{part.to} has no unit", "Leave unit out")]
    try:
        spec.parse(f"1 {part.unit}")
    except FactError as error:
        return [SheetProblem(line, place, error.message, error.mend)]
    return []
