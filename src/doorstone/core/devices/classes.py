"""Classes: devices that give the same answers, whatever their values are.

Each test of a fact in a sheet splits its values into a handful: met or unmet, below or above. Devices with the same
outcomes of all tests, of contested values too, with the same release, edition, model and decisions of their own are
sorted alike, foretold alike and carried by the same overrides. Facts that only gates look at are no part of a class.

In: a platform, a day, then contents of devices (see `profile_content`). Out: a key for each, equal for a class.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Mapping
from datetime import date, datetime
from itertools import product
from typing import Any

from doorstone.core.conditions import Condition, Leaf, Outcome
from doorstone.core.facts import FactSpec, FactValue, dump
from doorstone.core.platforms.platform import Platform, Route

WORDS = ("machine.model", "os.edition", "os.release")
"""Facts that are part of a class as they are. So is `cpu.arch` where a sheet looks at `os.arch`, which a clean install
sets to it."""
MOST_KNOWN = 200_000
_compact = json.JSONEncoder(separators=(",", ":")).encode
_LETTERS = {Outcome.MET: "m", Outcome.UNMET: "u", Outcome.UNREAD: "r"}


class Classifier:
    """Tells devices of a platform apart by their answers on one day.

    A value's outcomes are worked out once: a fact with 3,000 different values and two tests of it takes 6,000 tests,
    however many devices there are. A date is judged by the day, so it counts as it is until every test of it has failed
    for good.
    """

    def __init__(self, platform: Platform, as_of: date) -> None:
        self._specs = platform.specs
        self._as_of = as_of
        leaves = list(dict.fromkeys(leaf for condition in _conditions(platform) for leaf in condition.leaves()))
        self._pairs = [leaf for leaf in leaves if leaf.op in ("same_as", "includes")]
        self._tests: dict[str, list[Leaf]] = {}
        for leaf in leaves:
            if leaf not in self._pairs:
                self._tests.setdefault(leaf.fact, []).append(leaf)
        looks_at = {*self._tests, *(name for leaf in self._pairs for name in (leaf.fact, leaf.operand))}
        self.words = (*WORDS, "cpu.arch") if "os.arch" in looks_at else WORDS
        """The facts that are part of a class as they are."""
        self.compared = frozenset({*self.words, *(name for leaf in self._pairs for name in (leaf.fact, leaf.operand))})
        """Facts that count as they are, whatever tests of them say."""
        self.tested = sorted(self._tests)
        self.names = frozenset({*self.tested, *self.compared})
        self._given: dict[str, list[FactValue]] = {}
        for requirement in platform.requirements:
            for fix in requirement.fixes:
                for name, value in fix.gives.items():
                    self._given.setdefault(name, []).append(value)
        tests = [_described(leaf) for leaf in leaves]
        settled = [_settled_by(self._specs[name]) for name in sorted(self.names) if name in self._specs]
        given = (
            {name: [dump(value) for value in values] for name, values in sorted(self._given.items())}
            if self._pairs
            else {}
        )
        self._given_to_pairs = json.dumps(given)
        self.basis = hashlib.sha256(json.dumps([platform.id, sorted(tests), given, settled]).encode()).hexdigest()
        """A digest of the tests and of how their facts are settled: classes of two sheets are the same if it is."""
        self._known: dict[tuple[str, str], str] = {}

    def of(self, content: Mapping[str, Any]) -> str:
        """The key of the class of a device by its content."""
        facts = content["facts"]
        outcomes = [self.outcome(name, facts[name]) if name in facts else "" for name in self.tested]
        words = [json.dumps(facts[name]) if name in facts else "" for name in self.words]
        pairs = [self._pair(leaf, facts) for leaf in self._pairs]
        rest = [sorted(map(list, content["verdicts"])), sorted(content["ruled"].items()), content["own"]]
        return self.key(outcomes, words, pairs, rest)

    @property
    def compares(self) -> bool:
        """Whether a test looks at two facts at once."""
        return bool(self._pairs)

    def key(self, outcomes: list[str], words: list[str], pairs: list[str], rest: list[Any]) -> str:
        """The key of a class: outcomes in the order of `tested`, words in that of `words`."""
        text = _compact([self.basis, outcomes, words, pairs, rest])
        return hashlib.sha256(text.encode()).hexdigest()[:32]

    @property
    def frame(self) -> Hashable:
        """What classes rest on beside outcomes of single facts: which of these are tested, and tests of two facts."""
        tested = tuple(name for name in self.tested if name not in self.words)  # these count as they are, tested or not
        return tested, self.words, frozenset(self._pairs), self._given_to_pairs

    def torn_by(self, after: Classifier, values: Callable[[str], Iterable[Any]]) -> dict[str, frozenset[str]]:
        """Fact -> the outcomes that its values share by this sheet and do not share by another sheet of the same frame.

        `values` gives every value, as JSON holds it, that any device may have of a fact.
        """
        found = {}
        for name in self.tested:
            if name not in self.words and self.tests_of(name) != after.tests_of(name):
                becomes: dict[str, set[str]] = {}
                for value in values(name):
                    becomes.setdefault(self.outcome(name, [value]), set()).add(after.outcome(name, [value]))
                if torn := frozenset(outcome for outcome, others in becomes.items() if len(others) > 1):
                    found[name] = torn
        return found

    def holds(self, content: Mapping[str, Any], torn: Mapping[str, Collection[str]]) -> bool:
        """Whether a class has values whose outcomes are torn. The content of one of its devices tells."""
        facts = content["facts"]
        return any(self.outcome(name, [value]) in torn[name] for name in torn for value in facts.get(name, ()))

    def agree(self, content: Mapping[str, Any], values: Mapping[str, FactValue], names: Iterable[str]) -> bool:
        """Whether the tests of these facts make the same of a class, by the content of one of its devices, and of
        values of a device."""
        return all(
            self.outcome(name, content["facts"].get(name, [])) == self.outcome(name, [dump(values[name])])
            if name in values
            else name not in content["facts"]
            for name in names
        )

    def tests_of(self, name: str) -> Hashable:
        """The tests of a fact, and the day if one of them looks at it: equal ones make the same of any value."""
        tests = self._tests[name]
        return (*tests, self._as_of if any(leaf.op == "within_days" for leaf in tests) else None)

    def outcome(self, name: str, values: list[Any]) -> str:
        """The outcomes of all tests of a fact on these values, as JSON holds them: the believed value first, then its
        rivals.
        """
        key = (name, repr(values))
        code = self._known.get(key)
        if code is None:
            if len(self._known) > MOST_KNOWN:
                self._known.clear()
            code = self._known[key] = "|".join(self._one(name, self._specs[name].parse(value)) for value in values)
        return code

    def _one(self, name: str, value: FactValue) -> str:
        tests = self._tests[name]
        outcomes = [leaf.outcome({name: value}, self._as_of) for leaf in tests]
        letters = "".join(_LETTERS[outcome] for outcome in outcomes)
        days = [int(leaf.operand) for leaf in tests if leaf.op == "within_days"]
        if days and isinstance(value, date):
            day = value.date() if isinstance(value, datetime) else value
            if (self._as_of - day).days <= max(days):
                return f"{letters} {dump(value)}"
        return letters

    def _pair(self, leaf: Leaf, facts: Mapping[str, list[Any]]) -> str:
        """What a test of two facts makes of them, as they are and as fixes may make either."""
        sides = [self._values(name, facts) for name in (leaf.fact, leaf.operand)]
        outcomes = (leaf.outcome({leaf.fact: one, leaf.operand: other}, self._as_of) for one, other in product(*sides))
        counted = [len(facts.get(name, ())) for name in (leaf.fact, leaf.operand)]
        return "".join(_LETTERS[outcome] for outcome in outcomes) + str(counted)

    def _values(self, name: str, facts: Mapping[str, list[Any]]) -> Iterable[FactValue]:
        yield from (self._specs[name].parse(value) for value in facts.get(name, ()))
        yield from self._given.get(name, ())


def _described(leaf: Leaf) -> str:
    """All that the outcome of a test depends on, beside the value."""
    operand = dump(leaf.operand) if not isinstance(leaf.operand, frozenset | tuple | list | set) else None
    listed = sorted(str(dump(one)) for one in leaf.operand) if operand is None else operand
    return json.dumps([leaf.fact, leaf.op, listed, leaf.tolerance])


def _settled_by(spec: FactSpec) -> list[Any]:
    """Everything in the declaration of a fact that decides which of its values are believed."""
    return [spec.name, spec.type.value, spec.unit, spec.lasting, spec.tolerance, list(spec.choices)]


def _conditions(platform: Platform) -> Iterator[Condition]:
    """Every condition on which an answer about a device rests, gates of a kit apart."""
    for requirement in platform.requirements:
        yield requirement.condition
        yield from (fix.when for fix in requirement.fixes)
    yield from (override.needs for override in platform.overrides)
    for route in Route:
        yield from (gate.condition for gate in platform.path_gates(route))
