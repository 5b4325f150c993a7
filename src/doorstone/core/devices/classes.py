"""Classes: devices that give the same answers, whatever their values are.

Each test of a fact in a sheet splits its values into a handful: met or unmet, below or above. Devices with the same
outcomes of all tests, of contested values too, with the same release, edition, model and decisions of their own are
sorted alike, foretold alike and carried by the same overrides. Facts that only gates look at are no part of a class.

In: a platform, a day, then profiles' contents (see `fleet.profile_content`). Out: a key for each, equal for a class.
"""

from __future__ import annotations

import json
from collections.abc import Hashable, Iterable, Iterator, Mapping
from datetime import date
from itertools import product
from typing import Any

from doorstone.core.conditions import Condition, Leaf
from doorstone.core.facts import FactValue
from doorstone.core.platforms.platform import Platform, Route

WORDS = ("os.release", "os.edition", "machine.model")
"""Facts that are part of a class as they are."""
MOST_KNOWN = 500_000


class Classifier:
    """Tells profiles of a platform apart by their answers on one day.

    A value's outcomes are worked out once: a fact with 3,000 different values and two tests of it takes 6,000 tests,
    however many devices there are.
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
        self._facts = sorted(self._tests)
        self._given: dict[str, list[FactValue]] = {}
        for requirement in platform.requirements:
            for fix in requirement.fixes:
                for name, value in fix.gives.items():
                    self._given.setdefault(name, []).append(value)
        self._known: dict[tuple[str, str], int] = {}
        self._codes: dict[Any, int] = {}

    def of(self, content: Mapping[str, Any]) -> Hashable:
        """The class of a profile by its content."""
        facts = content["facts"]
        outcomes = tuple([self._outcomes(name, facts[name]) if name in facts else -1 for name in self._facts])
        words = tuple([json.dumps(facts[name]) if name in facts else "" for name in WORDS])
        pairs = tuple([self._pair(leaf, facts) for leaf in self._pairs])
        verdicts = tuple(sorted(map(tuple, content["verdicts"])))
        return outcomes, words, pairs, verdicts, tuple(sorted(content["ruled"].items())), content["own"]

    def _outcomes(self, name: str, values: list[Any]) -> int:
        """A number for what the tests of a fact make of its values: the believed one first, then its rivals."""
        key = (name, repr(values))
        code = self._known.get(key)
        if code is None:
            if len(self._known) > MOST_KNOWN:
                self._known.clear()
            read = [self._specs[name].parse(value) for value in values]
            made = (
                name,
                tuple(tuple(leaf.outcome({name: value}, self._as_of) for leaf in self._tests[name]) for value in read),
            )
            code = self._known[key] = self._codes.setdefault(made, len(self._codes))
        return code

    def _pair(self, leaf: Leaf, facts: Mapping[str, list[Any]]) -> Hashable:
        """What a test of two facts makes of them, as they are and as fixes may make either."""
        sides = [self._values(name, facts) for name in (leaf.fact, leaf.operand)]
        return tuple(
            leaf.outcome({leaf.fact: one, leaf.operand: other}, self._as_of) for one, other in product(*sides)
        ), tuple(len(facts.get(name, ())) for name in (leaf.fact, leaf.operand))

    def _values(self, name: str, facts: Mapping[str, list[Any]]) -> Iterable[FactValue]:
        yield from (self._specs[name].parse(value) for value in facts.get(name, ()))
        yield from self._given.get(name, ())


def _conditions(platform: Platform) -> Iterator[Condition]:
    """Every condition on which an answer about a device rests, gates of a kit apart."""
    for requirement in platform.requirements:
        yield requirement.condition
        yield from (fix.when for fix in requirement.fixes)
    yield from (override.needs for override in platform.overrides)
    for route in Route:
        yield from (gate.condition for gate in platform.path_gates(route))
