"""The board: all profiles of a platform against a release at once.

In: the profiles' pictures, then a release, the decisions, a day. Out: the state and the marks of each profile, the
same as `sorting.assess` gives it. A requirement looks at few facts, so most profiles share its finding: it is made
once per distinct set of what it can see, and looked up for the rest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from operator import itemgetter
from typing import Any

from doorstone.core.fleet import Sorted, profile_facts, view_of
from doorstone.core.platforms import Platform, Requirement
from doorstone.core.sorting import (
    Assessment,
    Decision,
    RequirementFinding,
    Scope,
    assessed,
    finding_of,
    settled_state,
)

Row = tuple[int, ...]


class ProfileTable:
    """Profiles as rows of small numbers: the same number in a column, the same values of that fact.

    A profile never changes, so a row that is here cannot be old.
    """

    def __init__(self, names: Iterable[str], requirements: Iterable[str]) -> None:
        self.columns = [*sorted(names), *(f"verdict:{name}" for name in sorted(requirements)), "own"]
        self.at = {name: at for at, name in enumerate(self.columns)}
        self.numbers: list[int] = []
        self.pictures: list[Mapping[str, Any]] = []
        self.rows: list[Row] = []
        self.place: dict[int, int] = {}
        self._codes: list[dict[str, int]] = [{"None": 0} for _ in self.columns]

    def add(self, pictures: Mapping[int, Mapping[str, Any]]) -> None:
        """Add profiles by their numbers."""
        for number, picture in pictures.items():
            self.place[number] = len(self.rows)
            self.numbers.append(number)
            self.pictures.append(picture)
            self.rows.append(self._row(picture))

    def _row(self, picture: Mapping[str, Any]) -> Row:
        said: dict[str, Any] = dict(picture["facts"])
        for requirement, passed in picture["verdicts"]:
            said.setdefault(f"verdict:{requirement}", []).append(passed)
        for requirement, passed in picture["ruled"].items():
            said.setdefault(f"verdict:{requirement}", []).append(("ruled", passed))
        said["own"] = picture["own"] or None
        row = []
        for name, codes in zip(self.columns, self._codes, strict=True):
            text = repr(said.get(name))
            row.append(codes.setdefault(text, len(codes)))
        return tuple(row)


def table_for(platform: Platform) -> ProfileTable:
    """An empty table with a column for all that the platform's requirements can see."""
    return ProfileTable(profile_facts(platform), {r.id for r in platform.requirements})


class Board:
    """The profiles of a table against one release, by the rules of one day."""

    def __init__(
        self, platform: Platform, release: str, decisions: Sequence[Decision], as_of: date, table: ProfileTable
    ) -> None:
        self._platform = platform
        self._release = release
        self._decisions = tuple(d for d in decisions if d.release == release)
        self._as_of = as_of
        self._table = table
        self._requirements = platform.requirements_at(release)
        self._findings: list[dict[Any, int]] = [{} for _ in self._requirements]
        self._known: list[list[RequirementFinding]] = [[] for _ in self._requirements]
        self._states: dict[tuple[int, ...], Sorted] = {}
        self._assessments: dict[tuple[int, ...], Assessment] = {}
        self._sights = [self._sight(requirement) for requirement in self._requirements]

    def sort(self) -> list[Sorted]:
        """Each row of the table as it is sorted, in its order. Profiles that are sorted alike share one object."""
        rows = self._table.rows
        if not self._requirements:
            alike = Sorted(settled_state([]), {})
            return [alike] * len(rows)
        codes = [self._codes(at, requirement, rows) for at, requirement in enumerate(self._requirements)]
        found = list(zip(*codes, strict=True))
        for outcome in set(found) - self._states.keys():
            self._states[outcome] = self._sorted(outcome)
        return list(map(self._states.__getitem__, found))

    def _codes(self, at: int, requirement: Requirement, rows: Sequence[Row]) -> list[int]:
        """The number of each row's finding on a requirement."""
        seen = list(map(self._sights[at], rows))
        codes = self._findings[at]
        missing = set(seen) - codes.keys()
        if missing:
            places = dict(zip(seen, range(len(rows)), strict=True))  # any row that shows it will do
            for sight in missing:
                codes[sight] = len(self._known[at])
                self._known[at].append(self._finding(requirement, places[sight]))
        return list(map(codes.__getitem__, seen))

    def assessment(self, number: int) -> Assessment:
        """One profile of the table in full, without the times and sources of any one device."""
        place = self._table.place[number]
        row = self._table.rows[place]
        outcome = []
        for at, requirement in enumerate(self._requirements):
            sight, codes = self._sights[at](row), self._findings[at]
            if sight not in codes:
                self._known[at].append(self._finding(requirement, place))
                codes[sight] = len(self._known[at]) - 1
            outcome.append(codes[sight])
        key = tuple(outcome)
        if key not in self._assessments:
            findings = [known[code] for known, code in zip(self._known, outcome, strict=True)]
            self._assessments[key] = assessed(self._release, findings)
        return self._assessments[key]

    def _sight(self, requirement: Requirement) -> Callable[[Row], Any]:
        """What a finding on the requirement depends on, as a function of a row."""
        names = requirement.condition.facts().union(*(fix.when.facts() for fix in requirement.fixes))
        scopes = {d.scope for d in self._decisions if d.requirement == requirement.id}
        if Scope.MODEL in scopes:
            names |= {"machine.model"}
        if Scope.DEVICE in scopes:
            names |= {"own"}
        columns = {self._table.at[name] for name in names if name in self._table.at}
        return itemgetter(*sorted(columns | {self._table.at[f"verdict:{requirement.id}"]}))

    def _finding(self, requirement: Requirement, place: int) -> RequirementFinding:
        picture = self._table.pictures[place]
        view = view_of(picture, self._platform.specs, self._as_of)
        return finding_of(self._platform, requirement, self._release, view, self._decisions, str(picture["own"]))

    def _sorted(self, outcome: tuple[int, ...]) -> Sorted:
        findings = [known[code] for known, code in zip(self._known, outcome, strict=True)]
        return Sorted(settled_state(findings), {f.requirement.id: f.mark for f in findings})
