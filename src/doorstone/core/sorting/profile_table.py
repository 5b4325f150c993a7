"""Profiles as columns of small numbers, so that what a sheet asks is worked out once for each distinct value.

In: the contents of profiles as JSON, and a classifier of a sheet. Out: columns in which equal numbers mean equal
outcomes of all tests of a fact. A content never changes, and its values outlive any sheet: after a change of a sheet
only the tests that changed are asked again, of each distinct value of their fact.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterable, Mapping, Sequence
from itertools import count, repeat
from typing import Any

import msgspec

from doorstone.core.devices.classes import Classifier

MOST_OUTCOMES = 400
VERDICT = "verdict:"


class _Content(msgspec.Struct):
    """The content of a profile, its values left as they are written."""

    facts: dict[str, msgspec.Raw]
    verdicts: list[tuple[str, bool]]
    decided: dict[str, bool] = msgspec.field(name="ruled")
    own: str


class _Column:
    """The values of one fact over all profiles: `codes` has one for each profile, 0 where there is no value."""

    def __init__(self) -> None:
        self.codes: list[int] = []
        self.values: list[bytes | None] = [None]
        self._code_of: dict[bytes | None, int] = {None: 0}

    def put(self, place: int, value: bytes | None) -> None:
        self.reach(place)
        code = self._code_of.get(value)
        if code is None:
            code = self._code_of[value] = len(self.values)
            self.values.append(value)
        self.codes.append(code)

    def reach(self, length: int) -> None:
        """Fill up to a length: profiles that were added since have no value here."""
        self.codes += [0] * (length - len(self.codes))


class ProfileValues:
    """The contents of a platform's profiles, whatever sheet they were made under."""

    def __init__(self) -> None:
        self.place: dict[int, int] = {}
        self._texts: list[str] = []
        self._columns: defaultdict[str, _Column] = defaultdict(_Column)
        self._outcomes: dict[Hashable, dict[int, str]] = {}

    def add(self, contents: Mapping[int, str]) -> None:
        """Add profiles by their numbers, each as the JSON of its content."""
        for number, text in contents.items():
            at, content = len(self._texts), msgspec.json.decode(text, type=_Content)
            self.place[number] = at
            self._texts.append(text)
            for name, held in content.facts.items():
                self._columns[name].put(at, bytes(held))
            for name, verdicts in _verdicts_of(content).items():
                self._columns[name].put(at, repr(verdicts).encode())
            if content.own:
                self._columns["own"].put(at, content.own.encode())

    def content(self, number: int) -> Mapping[str, Any]:
        """The content of a profile that was added."""
        found: dict[str, Any] = msgspec.json.decode(self._texts[self.place[number]])
        return found

    def seen(self, number: int, names: Iterable[str]) -> tuple[int, ...]:
        """The numbers of a profile's values of facts: equal ones for equal values."""
        place = self.place[number]
        return tuple([self.column(name).codes[place] for name in names])

    def column(self, name: str) -> _Column:
        """The values of a fact, of the verdicts on a requirement, or of `own`."""
        column = self._columns[name]
        column.reach(len(self._texts))
        return column

    def outcomes(self, name: str, classifier: Classifier) -> dict[int, str]:
        """Code of a value -> what the tests of a classifier make of it, as far as it was asked before."""
        if len(self._outcomes) > MOST_OUTCOMES:
            self._outcomes.clear()
        return self._outcomes.setdefault((name, classifier.tests_of(name)), {})


class ProfileTable:
    """Some of these profiles as a sheet sees them: the same number in a column, the same outcomes of all its tests."""

    def __init__(self, classifier: Classifier, requirements: Iterable[str], values: ProfileValues) -> None:
        self._classifier = classifier
        self._tested = frozenset(classifier.tested) - classifier.compared
        self.values = values
        self._names = [*sorted(classifier.names), *(f"{VERDICT}{name}" for name in sorted(requirements)), "own"]
        self.at = {name: at for at, name in enumerate(self._names)}
        self.place: dict[int, int] = {}
        self.numbers: list[int] = []
        self._picked: list[int] = []
        self._codes: list[dict[str, int]] = [{"": 0} for _ in self._names]
        self._columns: list[list[int]] = [[] for _ in self._names]
        self._classes: dict[tuple[int, ...], Classes] = {}

    def take_over(self, other: ProfileTable) -> None:
        """Begin with the rows of another table of the same values, and with the columns that both sheets see alike."""
        self.place, self.numbers, self._picked = dict(other.place), other.numbers[:], other._picked[:]
        same: dict[int, int] = {}
        for name, at in self.at.items():
            there = other.at.get(name)
            if there is not None and self._seen_by(name) == other._seen_by(name):
                same[there] = at
                self._columns[at], self._codes[at] = other._columns[there][:], dict(other._codes[there])
        for columns, known in other._classes.items():
            if same.keys() >= set(columns):
                self._classes[tuple([same[at] for at in columns])] = known.copy()

    def _seen_by(self, name: str) -> Hashable:
        """By what values of a fact are told apart."""
        return self._classifier.tests_of(name) if name in self._tested else None

    def add(self, numbers: Iterable[int]) -> None:
        """Take in profiles whose contents the values hold."""
        for number in numbers:
            self.place[number] = len(self.numbers)
            self.numbers.append(number)
            self._picked.append(self.values.place[number])

    def column(self, at: int) -> Sequence[int]:
        """One column, a number for each profile that was taken in."""
        found = self._columns[at]
        if new := self._picked[len(found) :]:
            column = self.values.column(self._names[at])
            raw = list(map(column.codes.__getitem__, new))
            found += map(self._codes_for(at, column, set(raw)).__getitem__, raw)
        return found

    def seen(self, number: int, names: Iterable[str]) -> tuple[int, ...]:
        """What the sheet's tests make of a profile's values of facts: equal numbers for equal outcomes of all tests.

        Facts that no test looks at are left out.
        """
        place = self.place[number]
        return tuple([self.column(self.at[name])[place] for name in names if name in self.at])

    def text(self, number: int, name: str) -> str:
        """The believed value of a fact that holds a text; empty where there is none."""
        held = self.values.column(name)
        raw = held.values[held.codes[self.values.place[number]]]
        return "" if raw is None else str(msgspec.json.decode(raw)[0])

    def classes(self, columns: tuple[int, ...]) -> Classes:
        """The profiles told apart by these columns alone."""
        found = self._classes.setdefault(columns, Classes())
        found.take([self.column(at) for at in columns], len(self.numbers))
        return found

    def _codes_for(self, at: int, column: _Column, raw: Iterable[int]) -> Mapping[int, int]:
        """Code of a value -> its number in a column of this table."""
        name, codes = self._names[at], self._codes[at]
        if name not in self._tested:  # it counts as it is
            return {one: codes.setdefault((column.values[one] or b"").decode(), len(codes)) for one in raw}
        known = self.values.outcomes(name, self._classifier)
        for one in raw:
            if one not in known:
                held = column.values[one]
                known[one] = "" if held is None else f"={self._classifier.outcome(name, msgspec.json.decode(held))}"
        return {one: codes.setdefault(known[one], len(codes)) for one in raw}


class Classes:
    """Rows that show the same are of one class: `of` is the class of each row, `example` one row of each class."""

    def __init__(self) -> None:
        self.of: list[int] = []
        self.example: list[int] = []
        self._numbers: defaultdict[Hashable, int] = defaultdict(count().__next__)

    def copy(self) -> Classes:
        """The same, to be carried on apart."""
        other = Classes()
        other.of, other.example = self.of[:], self.example[:]
        other._numbers = defaultdict(count(len(self._numbers)).__next__, self._numbers)
        return other

    def take(self, columns: Sequence[Sequence[int]], rows: int) -> None:
        """Take in the rows that were added since."""
        if (start := len(self.of)) == rows:
            return
        sights: Iterable[Hashable] = repeat((), rows - start)
        if columns:
            news = [column[start:] for column in columns]
            sights = news[0] if len(news) == 1 else zip(*news, strict=True)
        self.of += map(self._numbers.__getitem__, sights)
        place = start
        for number in range(len(self.example), len(self._numbers)):  # they are numbered as they come
            place = self.of.index(number, place)
            self.example.append(place)


def _verdicts_of(content: _Content) -> Mapping[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for requirement, passed in content.verdicts:
        found.setdefault(f"{VERDICT}{requirement}", []).append(passed)
    for requirement, passed in content.decided.items():
        found.setdefault(f"{VERDICT}{requirement}", []).append(("decided", passed))
    return found
