"""Reads a platform sheet. In: TOML text and the lists beside it. Out: a `Platform`, or every problem at once.

A problem names the line where it can, the place in the sheet, what is wrong, and the hint.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from difflib import get_close_matches

from msgspec import Struct
from msgspec.structs import replace
from pydantic import ValidationError

from doorstone.core.conditions import ALWAYS, Condition, ConditionError, Leaf
from doorstone.core.conditions import parse as parse_condition
from doorstone.core.facts import BUILT_IN, FactError, FactSpec, FactType
from doorstone.core.kits.settings_store import ANSWERS
from doorstone.core.platforms.platform import (
    Effect,
    Fix,
    FollowUp,
    Gate,
    ModelRow,
    Origin,
    Override,
    Platform,
    Release,
    Requirement,
    Route,
    SettingsSet,
    Sort,
    SortRule,
    Standing,
    UpdateClass,
)
from doorstone.formats.sheet_files import SheetFiles
from doorstone.formats.sheet_meaning import contradictions
from doorstone.formats.sheet_schema import (
    ConditionPart,
    FollowUpPart,
    OverridePart,
    RequirementPart,
    SetPart,
    SheetDocument,
)
from doorstone.formats.toml import TomlError, out_of_bounds, read_toml
from doorstone.formats.toml_places import TomlPlaces

Path = tuple[str | int, ...]


class SheetProblem(Struct, frozen=True):
    """One thing wrong with a sheet. `line` counts from 1; None where the sheet gives no place for it."""

    line: int | None
    place: str
    message: str
    hint: str

    def __str__(self) -> str:
        where = f"line {self.line}, {self.place}" if self.line else self.place
        return f"{where}: {self.message}. {self.hint}"


class SheetError(ValueError):
    """A sheet that is refused, with every problem found."""

    def __init__(self, name: str, problems: Sequence[SheetProblem]) -> None:
        super().__init__(f"{name}: {problems[0]}" + (f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""))
        self.name = name
        self.problems = tuple(problems)


def read_sheet(text: str, lists: Mapping[str, str], name: str = "sheet.toml") -> Platform:
    """Read a sheet. `lists` maps file name -> text, one entry a line. Raises `SheetError`."""
    if len(text) > 2_000_000:
        raise SheetError(
            name, [SheetProblem(None, "file", "The sheet is over 2 MB", "Put long lists in files beside it")]
        )
    try:
        raw = read_toml(text)
    except TomlError as error:
        raise SheetError(name, [SheetProblem(error.line, "TOML", error.message, error.hint)]) from error
    locate = TomlPlaces(text)
    bounds = [
        SheetProblem(locate(path), ".".join(map(str, path)), message, hint)
        for path, message, hint in out_of_bounds(raw)
    ]
    if bounds:
        raise SheetError(name, bounds)
    try:
        document = SheetDocument.model_validate(raw)
    except ValidationError as error:
        problems = shape_problems(locate, error)
        raise SheetError(name, problems) from error
    return _Builder(document, lists, locate, name).build()


def parse_list(text: str) -> frozenset[str]:
    """The entries of a list file: first column of each line, blank lines and `#` comments left out."""
    lines = (line.split(",")[0].strip().strip('"') for line in text.splitlines())
    return frozenset(line for line in lines if line and not line.startswith("#"))


def read_model_table(text: str, releases: Sequence[str]) -> tuple[dict[str, ModelRow], list[tuple[int, str, str]]]:
    """Model -> its row, and (line, what is wrong, the hint) for each row that cannot be read."""
    rows: dict[str, ModelRow] = {}
    problems = []
    reader = csv.reader(io.StringIO(text))
    header: list[str] | None = None
    for cells in reader:
        line = reader.line_num
        if not any(cell.strip() for cell in cells) or cells[0].startswith("#"):
            continue
        if header is None:
            header = [cell.strip() for cell in cells]
            if missing := [name for name in ("model", "last", "possible", "patches") if name not in header]:
                problems.append(
                    (line, f"The column {missing[0]!r} is missing", "Begin with model,last,possible,patches")
                )
                break
            continue
        row = dict(zip(header, (cell.strip() for cell in cells), strict=False))
        model, last = row.get("model", ""), row.get("last", "")
        possible = row.get("possible", "") or last
        if not model or model in rows:
            problems.append((line, f"The model {model!r} is empty or stands twice", "Give each model one line"))
        elif unknown := [name for name in (last, possible) if name and name not in releases]:
            problems.append((line, f"Unknown release {unknown[0]!r}", f"Use one of {', '.join(releases)}, or nothing"))
        else:
            patches = tuple(patch.strip() for patch in row.get("patches", "").split(";") if patch.strip())
            rows[model] = ModelRow(model, last, possible, patches)
    return rows, problems


def _row_words(row: ModelRow) -> str:
    patches = f", patches {' and '.join(row.patches)}" if row.patches else ""
    return f"{row.model} to {row.last or 'none'}, possible to {row.possible or 'none'}{patches}"


def place_of(path: Path) -> str:
    words = ""
    for step in path:
        words += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if words else str(step)
    return words or "sheet"


_KIND = re.compile(r"bool|int|constrained-str|list\[.*\]")
"""What stands in a place where a value could be one of several things."""


def shape_problems(locate: TomlPlaces, error: ValidationError) -> list[SheetProblem]:
    """The problems of a document's shape, one for each place, also where a value may take one of several forms."""
    found: dict[tuple[int | None, str], SheetProblem] = {}
    for item in error.errors(include_url=False):
        problem = _shape_problem(locate, item)
        key = problem.line, problem.place
        if (known := found.get(key)) is None:
            found[key] = problem
        elif problem.message not in known.message:
            other = problem.message.removeprefix("Input should be ")
            found[key] = replace(known, message=f"{known.message}, or {other}")
    return list(found.values())


def _shape_problem(locate: TomlPlaces, item: object) -> SheetProblem:
    assert isinstance(item, dict)
    path = tuple(step for step in item["loc"] if not (isinstance(step, str) and _KIND.fullmatch(step)))
    kind = str(item["type"])
    if kind == "extra_forbidden":
        return SheetProblem(
            locate(path), place_of(path), f"Unknown key {path[-1]!r}", "Remove it or correct its spelling"
        )
    if kind == "missing":
        return SheetProblem(locate(path[:-1]), place_of(path), f"{path[-1]!r} is missing", "Add it")
    hint = "See the reference for what may stand here"
    return SheetProblem(locate(path), place_of(path), str(item["msg"]), hint)


class _Builder:
    """Builds a `Platform` from a well-shaped document, and gathers every problem of meaning on the way."""

    def __init__(self, document: SheetDocument, lists: Mapping[str, str], locate: TomlPlaces, name: str) -> None:
        self.doc = document
        self.locate = locate
        self.name = name
        self.problems: list[SheetProblem] = []
        self.tables: dict[str, dict[str, ModelRow]] = {}
        tables = {part.model_table.file for part in document.requirement if part.model_table}
        self.lists = {
            file: parse_list(text)
            for file, text in lists.items()
            if file not in tables and file.endswith((".csv", ".txt"))
        }
        self.specs = dict(BUILT_IN) | {f.name: s for f, s in zip(document.fact, self._own_facts(), strict=True)}
        self.release_ids = [r.id for r in document.release]
        self.requirement_ids = [r.id for r in document.requirement]
        self.override_ids = [o.id for o in document.override]
        self.beside = SheetFiles(lists, self._add, self._known)
        self.store = self.beside.store(document.store)
        for file in sorted(tables):
            self._table(file, lists.get(file))

    def build(self) -> Platform:
        doc = self.doc
        for word, ids in (
            ("release", self.release_ids),
            ("requirement", self.requirement_ids),
            ("override", self.override_ids),
            ("gate", [g.id for g in doc.gate]),
            ("followup", [f.id for f in doc.followup]),
            ("set", [s.id for s in doc.set]),
        ):
            for at, known in enumerate(ids):
                if known in ids[:at]:
                    self._add((word, at, "id"), f"{known!r} stands twice", "Give each its own id")
        platform = Platform(
            doc.platform.id,
            doc.platform.name,
            doc.platform.maker,
            tuple(doc.platform.editions),
            self._releases(),
            tuple(r for at, part in enumerate(doc.requirement) for r in self._requirements(at, part)),
            tuple(self._override(at, part) for at, part in enumerate(doc.override)),
            self._gates(),
            tuple(self._follow_up(at, part) for at, part in enumerate(doc.followup)),
            self.store,
            self.specs,
            self.lists,
            {model: row for table in self.tables.values() for model, row in table.items()},
            tuple(self._set(at, part) for at, part in enumerate(doc.set)),
        )
        if not self.problems:
            for path, message, hint in contradictions(doc, platform):
                self._add(path, message, hint)
        if self.problems:
            raise SheetError(self.name, sorted(self.problems, key=lambda p: (p.line or 0, p.place)))
        return platform

    def _add(self, path: Path, message: str, hint: str) -> None:
        self.problems.append(SheetProblem(self.locate(path), place_of(path), message, hint))

    def _own_facts(self) -> Iterable[FactSpec]:
        for at, part in enumerate(self.doc.fact):
            if part.name in BUILT_IN:
                self._add(("fact", at, "name"), f"{part.name} is built in", "Leave the declaration out")
            share = float((part.tolerance or "0%").removesuffix("%") or 0) / 100
            yield FactSpec(
                part.name, FactType(part.type), part.unit, part.lasting, tuple(part.choices), share, part.title
            )

    def _releases(self) -> tuple[Release, ...]:
        for at, part in enumerate(self.doc.release):
            for edition in part.servicing_ends:
                if edition not in self.doc.platform.editions:
                    path = ("release", at, "servicing_ends")
                    self._add(path, f"Unknown edition {edition!r}", f"Use {', '.join(self.doc.platform.editions)}")
            for earlier in part.upgrade_from:
                if earlier not in self.release_ids[:at]:
                    path = ("release", at, "upgrade_from")
                    self._add(path, f"{earlier!r} is no earlier release", "Name releases that stand before this one")
        return tuple(
            Release(r.id, r.published, dict(r.servicing_ends), tuple(r.upgrade_from), r.rollback_days, r.notice)
            for r in self.doc.release
        )

    def _known(self, kind: str, name: str | None, known: Sequence[str], path: Path) -> None:
        if name is not None and name not in known:
            near = get_close_matches(name, known, 1, 0.6)
            hint = f"Did you mean {near[0]!r}?" if near else f"Use one of {', '.join(known)}"
            self._add(path, f"Unknown {kind} {name!r}", hint)

    def _condition(self, part: ConditionPart | None, path: Path) -> Condition:
        if part is None:
            return ALWAYS
        try:
            data = part.model_dump(by_alias=True, exclude_unset=True)
            return parse_condition(data, self.specs, self.lists)
        except ConditionError as error:
            self._add((*path, *error.path), error.message, error.hint)
            return ALWAYS

    def _table(self, file: str, text: str | None) -> None:
        """Read a model table; what is wrong is told with the table's own line."""
        if text is None:
            self.tables[file] = {}
            hint = "Put the file beside the sheet and load both"
            self.problems.append(SheetProblem(None, file, "The model table is missing", hint))
            return
        rows, problems = read_model_table(text, self.release_ids)
        self.tables[file] = rows
        self.lists[file] = frozenset(_row_words(row) for row in rows.values())
        self.problems += [SheetProblem(line, file, message, hint) for line, message, hint in problems]

    def _requirements(self, at: int, part: RequirementPart) -> Iterable[Requirement]:
        """The requirement; one tied to a model table has a condition of its own at each release."""
        whole = self._requirement(at, part)
        if part.model_table is None:
            yield whole
            return
        begins = self.release_ids.index(part.from_) if part.from_ in self.release_ids else len(self.release_ids)
        ends = self.release_ids.index(part.until) if part.until in self.release_ids else len(self.release_ids)
        table, column = self.tables[part.model_table.file], part.model_table.column
        for number in range(begins, ends):
            release = self.release_ids[number]
            until = self.release_ids[number + 1] if number + 1 < len(self.release_ids) else None
            reached = frozenset(
                row.model
                for row in table.values()
                if getattr(row, column) and self.release_ids.index(getattr(row, column)) >= number
            )
            named = f"{part.model_table.file} for {release}"
            leaf = Leaf("machine.model", "listed_in", reached, self.specs["machine.model"], 0.0, named)
            yield replace(whole, since=release, until=until, condition=leaf)

    def _requirement(self, at: int, part: RequirementPart) -> Requirement:
        path: Path = ("requirement", at)
        if (part.condition is None) == (part.model_table is None):
            self._add(path, "A requirement has a condition or a model_table", "Give exactly one of them")
        self._known("release", part.from_, self.release_ids, (*path, "from"))
        self._known("release", part.until, self.release_ids, (*path, "until"))
        for rule in part.sort:
            self._known("release", rule.from_, self.release_ids, (*path, "sort"))
        for number, effect in enumerate(part.effect):
            self._known("release", effect.from_, self.release_ids, (*path, "effect", number, "from"))
        fixes = []
        for number, fix in enumerate(part.fix):
            here: Path = (*path, "fix", number)
            gives = {}
            for name, value in fix.gives.items():
                spec = self.specs.get(name)
                if spec is None:
                    self._known("fact", name, list(self.specs), (*here, "gives"))
                    continue
                try:
                    gives[name] = spec.parse(value)
                except FactError as error:
                    self._add((*here, "gives"), error.message, error.hint)
            when = self._condition(fix.when, (*here, "when"))
            fixes.append(Fix(fix.title, fix.kind, when, gives, fix.minutes, Decimal(fix.cost)))
        return Requirement(
            part.id,
            part.title,
            part.from_,
            part.until,
            self._condition(part.condition, (*path, "condition")),
            tuple(part.enforced_at),
            tuple(SortRule(rule.from_, Sort(rule.as_)) for rule in part.sort),
            part.because,
            part.source,
            tuple(fixes),
            tuple(
                Effect(
                    effect.from_,
                    {k: Standing(word) for k in UpdateClass if (word := getattr(effect, k.value)) is not None},
                )
                for effect in part.effect
            ),
            tuple(part.reported_as),
            part.weight,
        )

    def _override(self, at: int, part: OverridePart) -> Override:
        path: Path = ("override", at)
        self._known("release", part.from_, self.release_ids, (*path, "from"))
        self._known("release", part.until, self.release_ids, (*path, "until"))
        for name in part.covers:
            self._known("requirement", name, self.requirement_ids, (*path, "covers"))
        for name in part.conflicts:
            self._known("override", name, self.override_ids, (*path, "conflicts"))
        self.beside.override_kind(part, path)
        places = [ANSWERS] if part.kind == "answer" else list(self.doc.store.places)
        settings = self.beside.settings(part.settings, places, (*path, "settings"))
        self.beside.fits_store(settings, self.store, (*path, "settings"))
        return Override(
            part.id,
            part.title,
            frozenset(part.covers),
            frozenset(Route(route) for route in part.routes),
            part.from_,
            part.until,
            part.kind,
            Origin[part.origin.upper()],
            part.weight,
            part.lasting,
            part.restart,
            self._condition(part.needs, (*path, "needs")),
            frozenset(part.conflicts),
            tuple(part.cautions),
            tuple(part.expect),
            settings,
            tuple(part.arguments),
            self.beside.media_files(part.files, path),
            self.beside.loader(part.loader, path),
        )

    def _follow_up(self, at: int, part: FollowUpPart) -> FollowUp:
        when = self._condition(part.when, ("followup", at, "when"))
        return FollowUp(part.id, part.title, part.todo, part.blocking, when, part.ends_rollback, part.due_days)

    def _set(self, at: int, part: SetPart) -> SettingsSet:
        path: Path = ("set", at)
        settings = self.beside.settings(part.settings, list(self.doc.store.places), (*path, "settings"))
        self.beside.fits_store(settings, self.store, (*path, "settings"))
        in_place = self._condition(part.in_place, (*path, "in_place")) if part.in_place else None
        return SettingsSet(part.id, part.title, part.why, settings, in_place)

    def _gates(self) -> tuple[Gate, ...]:
        return tuple(
            Gate(
                g.id,
                g.title,
                self._condition(g.condition, ("gate", at, "condition")),
                g.severity,
                frozenset(Route(route) for route in g.routes),
                g.todo,
                self._condition(g.critical_condition, ("gate", at, "critical_condition"))
                if g.critical_condition
                else None,
                g.critical_severity or "",
            )
            for at, g in enumerate(self.doc.gate)
        )
