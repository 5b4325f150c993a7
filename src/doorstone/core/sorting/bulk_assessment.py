"""The board: all profiles of a platform against a release at once.

In: the profiles' contents, then a release, the decisions, a day. Out: the state and the marks of each profile, the
same as `sorting.assess` gives it. A requirement looks at few facts, so most profiles share its finding: it is made
once per distinct set of what it can see, and looked up for the rest.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from operator import itemgetter
from typing import Any

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import view_of
from doorstone.core.platforms.platform import Platform, Requirement
from doorstone.core.sorting.assessment import (
    Assessment,
    Decision,
    RequirementFinding,
    Scope,
    State,
    assessed,
    finding_of,
    reach,
    settled_state,
    state_of,
)
from doorstone.core.sorting.counts import NOT_FAILING, Combination, RequirementCount, RollUp, Sorted
from doorstone.core.sorting.fix_search import openers

Row = tuple[int, ...]


class ProfileTable:
    """Profiles as rows of small numbers: the same number in a column, the same outcomes of all tests of that fact.

    A profile never changes, so a row that is here cannot be old.
    """

    def __init__(self, classifier: Classifier, requirements: Iterable[str]) -> None:
        self._classifier = classifier
        self._tested = frozenset(classifier.tested) - classifier.compared
        self.columns = [*sorted(classifier.names), *(f"verdict:{name}" for name in sorted(requirements)), "own"]
        self.at = {name: at for at, name in enumerate(self.columns)}
        self.numbers: list[int] = []
        self.contents: list[Mapping[str, Any]] = []
        self.rows: list[Row] = []
        self.place: dict[int, int] = {}
        self._codes: list[dict[str, int]] = [{"None": 0} for _ in self.columns]
        self._classes: dict[tuple[int, ...], Classes] = {}

    def add(self, contents: Mapping[int, Mapping[str, Any]]) -> None:
        """Add profiles by their numbers."""
        for number, content in contents.items():
            self.place[number] = len(self.rows)
            self.numbers.append(number)
            self.contents.append(content)
            self.rows.append(self._row(content))

    def classes(self, columns: tuple[int, ...]) -> Classes:
        """The rows told apart by these columns alone."""
        found = self._classes.setdefault(columns, Classes(itemgetter(*columns), [], [], {}))
        found.take(self.rows)
        return found

    def _row(self, content: Mapping[str, Any]) -> Row:
        values_of: dict[str, Any] = dict(content["facts"])
        for requirement, passed in content["verdicts"]:
            values_of.setdefault(f"verdict:{requirement}", []).append(passed)
        for requirement, passed in content["ruled"].items():
            values_of.setdefault(f"verdict:{requirement}", []).append(("ruled", passed))
        values_of["own"] = content["own"] or None
        row = []
        for name, codes in zip(self.columns, self._codes, strict=True):
            values = values_of.get(name)
            if values is not None and name in self._tested:
                text = self._classifier.outcome(name, values)
            else:
                text = repr(values)
            row.append(codes.setdefault(text, len(codes)))
        return tuple(row)


@dataclass(slots=True)
class Classes:
    """Rows that show the same are of one class: the class of each row, and one row of each class."""

    sight: Callable[[Row], Any]
    of: list[int]
    example: list[int]
    numbers: dict[Any, int]

    def take(self, rows: Sequence[Row]) -> None:
        """Take in the rows that were added since."""
        for place in range(len(self.of), len(rows)):
            sight = self.sight(rows[place])
            number = self.numbers.setdefault(sight, len(self.numbers))
            if number == len(self.example):
                self.example.append(place)
            self.of.append(number)


def table_for(platform: Platform, as_of: date) -> ProfileTable:
    """An empty table with a column for all that the platform's conditions can see."""
    return ProfileTable(Classifier(platform, as_of), {r.id for r in platform.requirements})


class BulkAssessment:
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
        self._known: list[list[RequirementFinding]] = [[] for _ in self._requirements]
        self._names = [self._seen_by(requirement) for requirement in self._requirements]
        self._columns = [
            tuple(sorted({table.at[name] for name in names if name in table.at} | self._verdicts(r)))
            for r, names in zip(self._requirements, self._names, strict=True)
        ]
        self._assessments: dict[tuple[int, ...], Assessment] = {}
        self._codes: list[list[int]] = []
        self._looked_at = 0

    def sort(self) -> SortedProfile:
        """Every row of the table as it is sorted."""
        codes = [self._classes(at).of[:] for at in range(len(self._requirements))]
        return SortedProfile(self._requirements, [known[:] for known in self._known], codes, dict(self._table.place))

    def assessment(self, number: int) -> Assessment:
        """One profile of the table in full, without the times and sources of any one device."""
        outcome = self.outcome(number)
        if outcome not in self._assessments:
            findings = [known[code] for known, code in zip(self._known, outcome, strict=True)]
            self._assessments[outcome] = assessed(self._release, findings)
        return self._assessments[outcome]

    def outcome(self, number: int) -> tuple[int, ...]:
        """The number of a profile's finding on each requirement: equal numbers give equal answers, fixed or not."""
        place = self._table.place[number]
        if self._looked_at != len(self._table.rows):
            self._codes = [self._classes(at).of for at in range(len(self._requirements))]
            self._looked_at = len(self._table.rows)
        return tuple([codes[place] for codes in self._codes])

    def _classes(self, at: int) -> Classes:
        """The rows as one requirement can tell them apart, each class with its finding."""
        found, known = self._table.classes(self._columns[at]), self._known[at]
        for example in found.example[len(known) :]:
            known.append(self._finding(at, example))
        return found

    def _seen_by(self, requirement: Requirement) -> frozenset[str]:
        """What a finding on the requirement depends on, verdicts apart."""
        names = requirement.condition.facts().union(*(fix.when.facts() for fix in requirement.fixes))
        for other in openers(requirement, self._requirements) if requirement.fixes else ():
            names |= other.condition.facts().union(*(fix.when.facts() for fix in other.fixes))
        scopes = {d.scope for d in self._decisions if d.requirement == requirement.id}
        if Scope.MODEL in scopes:
            names |= {"machine.model"}
        if Scope.DEVICE in scopes:
            names |= {"own"}
        return names

    def _verdicts(self, requirement: Requirement) -> set[int]:
        """The columns of the verdicts that a finding depends on: on the requirement, and on those that may help it."""
        asked = (requirement, *openers(requirement, self._requirements)) if requirement.fixes else (requirement,)
        return {self._table.at[f"verdict:{known.id}"] for known in asked}

    def _finding(self, at: int, place: int) -> RequirementFinding:
        content, names = self._table.contents[place], self._names[at]
        seen = {**content, "facts": {name: value for name, value in content["facts"].items() if name in names}}
        view = view_of(seen, self._platform.specs, self._as_of)
        own = str(content["own"])
        return finding_of(self._platform, self._requirements[at], self._release, view, self._decisions, own)


class SortedProfile(Mapping[int, Sorted]):
    """Profile -> state and marks, over all profiles of a table; each made when it is asked for.

    `codes` holds, per requirement, the number of each row's finding among the `known` ones.
    """

    def __init__(
        self,
        requirements: Sequence[Requirement],
        known: Sequence[Sequence[RequirementFinding]],
        codes: Sequence[Sequence[int]],
        place: Mapping[int, int],
    ) -> None:
        self._requirements = requirements
        self._codes = codes
        self._place = place
        self._marks = [[finding.mark for finding in column] for column in known]
        self._states = self._all_states(known)

    def _all_states(self, known: Sequence[Sequence[RequirementFinding]]) -> list[State]:
        """The state of each row: the worst of its findings, or unsettled where an open one could be worse still."""
        if not self._codes:
            return [settled_state([])] * len(self._place)
        pairs = [[reach(finding) for finding in column] for column in known]
        levels = [[level for level, _ in column] for column in pairs]
        worst = [[open_ for _, open_ in column] for column in pairs]
        base = map(max, *self._looked_up(levels), [0] * len(self._place))
        could = map(max, *self._looked_up(worst), [0] * len(self._place))
        return [state_of(level, open_) for level, open_ in zip(base, could, strict=True)]

    def _looked_up(self, values: Sequence[Sequence[Any]]) -> list[list[Any]]:
        """Per requirement what each row's finding has of `values`."""
        return [list(map(column.__getitem__, codes)) for column, codes in zip(values, self._codes, strict=True)]

    def __getitem__(self, number: int) -> Sorted:
        place = self._place[number]
        marks = {
            requirement.id: marks[codes[place]]
            for requirement, marks, codes in zip(self._requirements, self._marks, self._codes, strict=True)
        }
        return Sorted(self._states[place], marks)

    def __iter__(self) -> Iterator[int]:
        return iter(self._place)

    def __len__(self) -> int:
        return len(self._place)

    def state(self, number: int) -> State:
        return self._states[self._place[number]]

    def mark(self, number: int, requirement: str) -> str:
        """The mark of one requirement; met if the release does not ask for it."""
        for known, marks, codes in zip(self._requirements, self._marks, self._codes, strict=True):
            if known.id == requirement:
                return marks[codes[self._place[number]]]
        return "met"

    def roll_up(self, release: str, sizes: Mapping[int, int]) -> RollUp:
        """Counts over these profiles, each standing for a number of devices: what `fleet.roll_up` gives."""
        chosen = [(self._place[number], devices) for number, devices in sizes.items()]
        states: Counter[str] = Counter()
        for place, devices in chosen:
            states[self._states[place].value] += devices
        weights = [0] * len(self._place)
        for place, devices in chosen:
            weights[place] = devices
        counts = [self._counted(at, weights) for at in range(len(self._requirements))]
        return RollUp(
            release,
            states.total(),
            {state.value: states[state.value] for state in State},
            tuple(RequirementCount(r.id, r.title, held) for r, held in zip(self._requirements, counts, strict=True)),
            self._together(weights),
        )

    def _counted(self, at: int, weights: Sequence[int]) -> dict[str, int]:
        by_code = [0] * len(self._marks[at])
        for code, devices in zip(self._codes[at], weights, strict=True):
            by_code[code] += devices
        found: Counter[str] = Counter()
        for mark, devices in zip(self._marks[at], by_code, strict=True):
            if devices:
                found[mark] += devices
        return dict(found)

    def _together(self, weights: Sequence[int]) -> tuple[Combination, ...]:
        """Which requirements fail together, and on how many devices; each row's as the bits of a number."""
        bits = [[0 if mark in NOT_FAILING else 1 << at for mark in column] for at, column in enumerate(self._marks)]
        together: dict[int, int] = {}
        masks = map(sum, zip(*self._looked_up(bits), strict=True)) if bits else iter(())
        for mask, devices in zip(masks, weights, strict=False):
            if devices and mask:
                together[mask] = together.get(mask, 0) + devices
        names = [requirement.id for requirement in self._requirements]
        found = [
            (-devices, tuple([name for at, name in enumerate(names) if mask >> at & 1]))
            for mask, devices in together.items()
        ]
        return tuple(Combination(failing, -less) for less, failing in sorted(found))
