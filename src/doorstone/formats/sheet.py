"""Reads a platform sheet. In: TOML text and the lists beside it. Out: a `Platform`, or every problem at once.

A problem names the line where it can, the place in the sheet, what is wrong, and the mend.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from difflib import get_close_matches

from pydantic import ValidationError

from doorstone.core.conditions import ALWAYS, Condition, ConditionError
from doorstone.core.conditions import parse as parse_condition
from doorstone.core.facts import BUILT_IN, FactError, FactSpec, FactType
from doorstone.core.kits import ANSWERS
from doorstone.core.platforms import (
    Effect,
    Fix,
    FollowUp,
    Gate,
    Origin,
    Override,
    Platform,
    Release,
    Requirement,
    Route,
    Setting,
    Sort,
    SortRule,
    Standing,
    Store,
    UpdateClass,
)
from doorstone.formats.sheet_schema import ConditionPart, OverridePart, RequirementPart, SheetDocument

Path = tuple[str | int, ...]


@dataclass(frozen=True, slots=True)
class SheetProblem:
    """One thing wrong with a sheet. `line` counts from 1; None where the sheet gives no place for it."""

    line: int | None
    place: str
    message: str
    mend: str

    def __str__(self) -> str:
        where = f"line {self.line}, {self.place}" if self.line else self.place
        return f"{where}: {self.message}. {self.mend}"


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
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found[1]) if found else None
        raise SheetError(name, [SheetProblem(line, "TOML", str(error), "Correct the TOML at this place")]) from error
    except RecursionError as error:
        raise SheetError(name, [SheetProblem(None, "TOML", "Nested too deep", "Write it flatter")]) from error
    locate = _Lines(text)
    try:
        document = SheetDocument.model_validate(raw)
    except ValidationError as error:
        problems = [_shape_problem(locate, item) for item in error.errors(include_url=False)]
        raise SheetError(name, problems) from error
    return _Builder(document, lists, locate, name).build()


def parse_list(text: str) -> frozenset[str]:
    """The entries of a list file: first column of each line, blank lines and `#` comments left out."""
    lines = (line.split(",")[0].strip().strip('"') for line in text.splitlines())
    return frozenset(line for line in lines if line and not line.startswith("#"))


class _Lines:
    """Finds the line of a place in TOML text: tables and keys at the start of a line are followed in order."""

    def __init__(self, text: str) -> None:
        self.lines: dict[Path, int] = {}
        counts: dict[Path, int] = {}
        table: Path = ()
        for number, line in enumerate(text.splitlines(), 1):
            if found := re.match(r"\s*\[\[\s*([A-Za-z0-9_.-]+)\s*\]\]", line):
                table = self._array(tuple(found[1].split(".")), counts)
                self.lines[table] = number
            elif found := re.match(r"\s*\[\s*([A-Za-z0-9_.-]+)\s*\]", line):
                table = tuple(found[1].split("."))
                self.lines[table] = number
            elif found := re.match(r'\s*"?([A-Za-z0-9_.-]+)"?\s*=', line):
                self.lines.setdefault((*table, found[1]), number)

    def _array(self, names: tuple[str, ...], counts: dict[Path, int]) -> Path:
        path: Path = ()
        for name in names[:-1]:
            path = (*path, name)
            if path in counts:
                path = (*path, counts[path] - 1)
        path = (*path, names[-1])
        counts[path] = counts.get(path, 0) + 1
        return (*path, counts[path] - 1)

    def __call__(self, path: Path) -> int | None:
        while path:
            if path in self.lines:
                return self.lines[path]
            path = path[:-1]
        return None


def _place(path: Path) -> str:
    words = ""
    for step in path:
        words += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if words else str(step)
    return words or "sheet"


def _shape_problem(locate: _Lines, item: object) -> SheetProblem:
    assert isinstance(item, dict)
    path = tuple(
        step for step in item["loc"] if not (isinstance(step, str) and step in ("bool", "int", "constrained-str"))
    )
    kind = str(item["type"])
    if kind == "extra_forbidden":
        return SheetProblem(
            locate(path), _place(path), f"Unknown key {path[-1]!r}", "Remove it or correct its spelling"
        )
    if kind == "missing":
        return SheetProblem(locate(path[:-1]), _place(path), f"{path[-1]!r} is missing", "Add it")
    return SheetProblem(locate(path), _place(path), str(item["msg"]), "See the sheet reference for what may stand here")


class _Builder:
    """Turns a well-shaped document into a `Platform`, gathering every problem of meaning on the way."""

    def __init__(self, document: SheetDocument, lists: Mapping[str, str], locate: _Lines, name: str) -> None:
        self.doc = document
        self.locate = locate
        self.name = name
        self.problems: list[SheetProblem] = []
        self.lists = {file: parse_list(text) for file, text in lists.items()}
        self.specs = dict(BUILT_IN) | {f.name: s for f, s in zip(document.fact, self._own_facts(), strict=True)}
        self.release_ids = [r.id for r in document.release]
        self.requirement_ids = [r.id for r in document.requirement]
        self.override_ids = [o.id for o in document.override]

    def build(self) -> Platform:
        doc = self.doc
        for word, ids in (
            ("release", self.release_ids),
            ("requirement", self.requirement_ids),
            ("override", self.override_ids),
            ("gate", [g.id for g in doc.gate]),
            ("followup", [f.id for f in doc.followup]),
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
            tuple(self._requirement(at, part) for at, part in enumerate(doc.requirement)),
            tuple(self._override(at, part) for at, part in enumerate(doc.override)),
            self._gates(),
            tuple(FollowUp(f.id, f.title, f.todo, f.blocking) for f in doc.followup),
            Store(doc.store.kind, dict(doc.store.places), doc.store.set_up),
            self.specs,
            self.lists,
        )
        if self.problems:
            raise SheetError(self.name, sorted(self.problems, key=lambda p: (p.line or 0, p.place)))
        return platform

    def _add(self, path: Path, message: str, mend: str) -> None:
        self.problems.append(SheetProblem(self.locate(path), _place(path), message, mend))

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
            Release(r.id, r.published, dict(r.servicing_ends), tuple(r.upgrade_from), r.rollback_days)
            for r in self.doc.release
        )

    def _known(self, kind: str, name: str | None, known: Sequence[str], path: Path) -> None:
        if name is not None and name not in known:
            near = get_close_matches(name, known, 1, 0.6)
            mend = f"Did you mean {near[0]!r}?" if near else f"Use one of {', '.join(known)}"
            self._add(path, f"Unknown {kind} {name!r}", mend)

    def _condition(self, part: ConditionPart | None, path: Path) -> Condition:
        if part is None:
            return ALWAYS
        try:
            data = part.model_dump(by_alias=True, exclude_unset=True)
            return parse_condition(data, self.specs, self.lists)
        except ConditionError as error:
            self._add((*path, *error.path), error.message, error.mend)
            return ALWAYS

    def _requirement(self, at: int, part: RequirementPart) -> Requirement:
        path: Path = ("requirement", at)
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
                    self._add((*here, "gives"), error.message, error.mend)
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
        )

    def _override(self, at: int, part: OverridePart) -> Override:
        path: Path = ("override", at)
        self._known("release", part.from_, self.release_ids, (*path, "from"))
        self._known("release", part.until, self.release_ids, (*path, "until"))
        for name in part.covers:
            self._known("requirement", name, self.requirement_ids, (*path, "covers"))
        for name in part.conflicts:
            self._known("override", name, self.override_ids, (*path, "conflicts"))
        if part.kind == "argument" and not part.arguments:
            self._add(path, "An argument override needs arguments", 'Add arguments = ["--..."]')
        if part.kind in ("setting", "answer") and not part.settings:
            self._add(path, f"An override of kind {part.kind} needs settings", "Add settings = [ ... ]")
        for setting in part.settings:
            places = [ANSWERS] if part.kind == "answer" else list(self.doc.store.places)
            self._known("place", setting.place, places, (*path, "settings"))
            kinds = {"text": str, "integer": int, "flag": bool, "list": list}
            if type(setting.value) is not kinds[setting.type]:
                self._add((*path, "settings"), f"{setting.name} is not of type {setting.type}", "Correct type or value")
            elif isinstance(setting.value, list) and any(";" in item for item in setting.value):
                mend = "Items are joined by semicolons; leave them out of each"
                self._add((*path, "settings"), f"An item of {setting.name} has a semicolon in it", mend)
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
            tuple(Setting(s.path, s.name, s.type, s.value, s.place) for s in part.settings),
            tuple(part.arguments),
        )

    def _gates(self) -> tuple[Gate, ...]:
        return tuple(
            Gate(
                g.id,
                g.title,
                self._condition(g.condition, ("gate", at, "condition")),
                g.severity,
                frozenset(Route(route) for route in g.routes),
                g.todo,
            )
            for at, g in enumerate(self.doc.gate)
        )
