"""Bulk assessment: all profiles of a platform against a release at once.

In: the profiles' contents, then a release, the decisions, a day. Out: the state and the marks of each profile, the
same as `assess` gives it. A requirement looks at few facts, so most profiles share its finding: it is made
once per distinct set of what it can see, and looked up for the rest.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date
from itertools import count, repeat
from operator import itemgetter

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import view_of
from doorstone.core.facts import View
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
    state_of,
)
from doorstone.core.sorting.counts import NOT_FAILING, Combination, RequirementCount, RollUp, Sorted
from doorstone.core.sorting.fix_search import openers
from doorstone.core.sorting.profile_table import Classes, ProfileTable, ProfileValues


def table_for(platform: Platform, as_of: date, values: ProfileValues) -> ProfileTable:
    """An empty table with a column for all that the platform's conditions can see."""
    return ProfileTable(Classifier(platform, as_of), {r.id for r in platform.requirements}, values)


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
        self._sorted: SortedProfile | None = None

    def sort(self) -> SortedProfile:
        """Every row of the table as it is sorted; rows that were sorted before are not looked at again."""
        if self._sorted is None or len(self._sorted) != len(self._table.numbers):
            codes = [self._classes(at).of for at in range(len(self._requirements))]
            place = dict(self._table.place)
            self._sorted = SortedProfile(self._requirements, self._known, codes, place, self._sorted)
        return self._sorted

    def assessment(self, number: int) -> Assessment:
        """One profile of the table in full, without the times and sources of any one device."""
        outcome = self.outcome(number)
        if outcome not in self._assessments:
            self._assessments[outcome] = assessed(self._release, self._findings(outcome))
        return self._assessments[outcome]

    def after_fixes(self, number: int, view: View, given: Collection[str], own: str) -> Assessment:
        """One profile once fixes have given it facts of these names, as `view` shows it; `own` names its device, if
        something was decided about it alone. What looks at none of these facts is found as before.
        """
        findings = self._findings(self.outcome(number))
        for at, (requirement, names) in enumerate(zip(self._requirements, self._names, strict=True)):
            if not names.isdisjoint(given):
                findings[at] = finding_of(self._platform, requirement, self._release, view, self._decisions, own)
        return assessed(self._release, findings)

    def _findings(self, outcome: tuple[int, ...]) -> list[RequirementFinding]:
        return [known[code] for known, code in zip(self._known, outcome, strict=True)]

    def outcome(self, number: int) -> tuple[int, ...]:
        """The number of a profile's finding on each requirement: equal numbers give equal answers, fixed or not."""
        place = self._table.place[number]
        if self._looked_at != len(self._table.numbers):
            self._codes = [self._classes(at).of for at in range(len(self._requirements))]
            self._looked_at = len(self._table.numbers)
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
        content, names = self._table.values.content(self._table.numbers[place]), self._names[at]
        seen = {**content, "facts": {name: value for name, value in content["facts"].items() if name in names}}
        view = view_of(seen, self._platform.specs, self._as_of)
        own = str(content["own"])
        return finding_of(self._platform, self._requirements[at], self._release, view, self._decisions, own)


class SortedProfile(Mapping[int, Sorted]):
    """Profile -> state and marks, over all profiles of a table; each made when it is asked for.

    `codes` holds, per requirement, the number of each row's finding among the `known` ones. Rows with the same
    findings have one outcome, and what is said of it is said once. The rows of `before` come first, as they were.
    """

    def __init__(
        self,
        requirements: Sequence[Requirement],
        known: Sequence[Sequence[RequirementFinding]],
        codes: Sequence[Sequence[int]],
        place: Mapping[int, int],
        before: SortedProfile | None = None,
    ) -> None:
        self._requirements = requirements
        self._place = place
        there, known_rows = (len(before), len(before._rows)) if before is not None else (0, 0)
        numbers: defaultdict[tuple[int, ...], int] = defaultdict(count(known_rows).__next__)
        if before is not None:
            numbers.update(zip(before._rows, range(known_rows), strict=True))
        rows = zip(*(column[there:] for column in codes), strict=True) if codes else repeat((), len(place) - there)
        outcomes = list(map(numbers.__getitem__, rows))
        self._rows: list[tuple[int, ...]] = list(numbers)
        self._marks = [[finding.mark for finding in column] for column in known]
        self._sorted: dict[int, Sorted] = {}
        self._outcome: list[int] = [*before._outcome, *outcomes] if before is not None else outcomes
        states = _states(known, self._rows[known_rows:])
        self._states: list[State] = [*before._states, *states] if before is not None else states

    def __getitem__(self, number: int) -> Sorted:
        outcome = self._outcome[self._place[number]]
        found = self._sorted.get(outcome)
        if found is None:
            row = zip(self._requirements, self._marks, self._rows[outcome], strict=True)
            marks = {requirement.id: column[code] for requirement, column, code in row}
            found = self._sorted[outcome] = Sorted(self._states[outcome], marks)
        return found

    def __iter__(self) -> Iterator[int]:
        return iter(self._place)

    def __len__(self) -> int:
        return len(self._place)

    def with_any(self, marks: Collection[str]) -> set[int]:
        """The profiles with one of these marks."""
        wanted = [[mark in marks for mark in column] for column in self._marks]
        rows = [any(map(list.__getitem__, wanted, row)) for row in self._rows]
        return {number for number, place in self._place.items() if rows[self._outcome[place]]}

    def state(self, number: int) -> State:
        return self._states[self._outcome[self._place[number]]]

    def mark(self, number: int, requirement: str) -> str:
        """The mark of one requirement; met if the release does not ask for it."""
        row = self._rows[self._outcome[self._place[number]]]
        for known, column, code in zip(self._requirements, self._marks, row, strict=True):
            if known.id == requirement:
                return column[code]
        return "met"

    def roll_up(self, release: str, sizes: Mapping[int, int]) -> RollUp:
        """Counts over these profiles, each standing for a number of devices: what `counts.roll_up` gives."""
        weights = [0] * len(self._states)
        for number, devices in sizes.items():
            weights[self._outcome[self._place[number]]] += devices
        states: Counter[State] = Counter()
        for state, devices in zip(self._states, weights, strict=True):
            states[state] += devices
        counts: list[Counter[str]] = [Counter() for _ in self._requirements]
        lacking = list[Iterable[str]]()
        by_requirement = zip(self._requirements, counts, self._marks, _columns(self._rows), strict=False)
        for requirement, count_of, marks, codes in by_requirement:
            sums = [0] * len(marks)
            for code, devices in zip(codes, weights, strict=True):
                sums[code] += devices
            for mark, devices in zip(marks, sums, strict=True):
                if devices:
                    count_of[mark] += devices
            name_if_failing = ["" if mark in NOT_FAILING else requirement.id for mark in marks]
            lacking.append(map(name_if_failing.__getitem__, codes))
        together: Counter[tuple[str, ...]] = Counter()
        for names, devices in zip(zip(*lacking, strict=True), weights, strict=False):
            together[names] += devices
        failing = {tuple(filter(None, names)): devices for names, devices in together.items() if devices}
        failing.pop((), None)
        return RollUp(
            release,
            states.total(),
            {state.value: states[state] for state in State},
            tuple(RequirementCount(r.id, r.title, dict(n)) for r, n in zip(self._requirements, counts, strict=True)),
            tuple(Combination(names, -less) for less, names in sorted((-n, names) for names, n in failing.items())),
        )


def _columns(rows: Sequence[tuple[int, ...]]) -> list[tuple[int, ...]]:
    """Per requirement, the number of each row's finding."""
    return list(zip(*rows, strict=True))


def _states(known: Sequence[Sequence[RequirementFinding]], rows: Sequence[tuple[int, ...]]) -> list[State]:
    """The state of each row: the worst of its findings, or unsettled where an open one could be worse still."""
    columns = list(zip(known, _columns(rows), strict=False))
    if not columns:
        return [state_of(0, 0)] * len(rows)
    reaches = [list(map([reach(finding) for finding in column].__getitem__, codes)) for column, codes in columns]
    levels, opens = ([map(itemgetter(part), column) for column in reaches] for part in (0, 1))
    pairs = list(zip(map(max, repeat(0), *levels), map(max, repeat(0), *opens), strict=True))
    of = {pair: state_of(*pair) for pair in set(pairs)}
    return list(map(of.__getitem__, pairs))
