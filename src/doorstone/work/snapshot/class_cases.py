"""Cases: devices of the same case are of the same class, told by the numbers of their values.

Each value's outcomes are worked out once, and each case is settled once. Only devices that report failures in words or
verdicts, or about which something was decided, have no case.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from itertools import combinations
from operator import itemgetter
from typing import Any, NamedTuple

from msgspec import Struct, field

from doorstone.core.devices.profiles import content_of_facts
from doorstone.core.facts import FIX, dump
from doorstone.core.readings.settle import source_of
from doorstone.store.readings.contents import Content, numbers_in
from doorstone.work.snapshot.contents import MOST_VALUES, ContentCache, CurrentContents, bounded
from doorstone.work.snapshot.settling_rules import SettlingRules

NOTHING_ELSE: list[Any] = [[], [], ""]
"""What a class rests on beside facts, where there are no verdicts, no words on them, and no decisions of its own."""


class Place(NamedTuple):
    """Where a device belongs: its platform and what it is there; no profile without a sheet, or out of service."""

    platform: str
    model: str
    running_release: str
    edition: str
    profile: int | None


class _Picks(Struct, frozen=True):
    """Where in the codes of a shape the values stand that make a class; -1 where the shape has none of a fact.

    `platform` is empty where no sheet describes it.
    """

    platform: str
    tested: tuple[int, ...]
    others: tuple[int, ...]


class Case(NamedTuple):
    """What still counts of what one source and nobody says, outcomes of tests, numbers of words."""

    platform: str
    own: tuple[bool, bool]
    nobodys: tuple[bool, bool]
    outcomes: tuple[str, ...]
    words: tuple[int, ...]


class PlainCase(NamedTuple):
    """A case of one source, where its values stand, and their numbers."""

    case: Case
    picks: _Picks
    codes: Sequence[int]


class _Shared(NamedTuple):
    """A fact that several contents hold, and where; `tested` if it counts by the outcomes of its tests alone."""

    name: str
    tested: bool
    holders: tuple[tuple[int, int], ...]


class _Plan(NamedTuple):
    """On which values the class of a device rests, each by its content and its place there: facts that one content
    holds, tested or as they are, and facts that several hold.
    """

    tested: tuple[tuple[str, int, int], ...]
    words: tuple[tuple[str, int, int], ...]
    shared: tuple[_Shared, ...]


class SeveralCase(NamedTuple):
    """What still counts of what each source and nobody says, outcomes of tests, numbers of words, and what counts of
    the facts that several hold.
    """

    platform: str
    plan: _Plan
    ages: tuple[tuple[bool, bool], ...]
    nobodys: tuple[bool, bool]
    outcomes: tuple[str, ...]
    words: tuple[int, ...]
    shared: tuple[Hashable, ...]


class Standing(NamedTuple):
    """Where a device belongs, and the last day on which it is as it was settled; None if no word on it ages."""

    place: Place
    until: str | None


SightCase = tuple[tuple[str, ...], tuple[int, ...]]
"""Outcomes of tests, and numbers of values that are part of a class as they are."""


class _Sight(Struct, frozen=True):
    """What readings of a shape share that one source took on a day, on one platform, with facts only.

    `tested` and `others` pick from the numbers of values those by whose outcomes, and by which as they are, devices
    stand apart; `standings` are those met so far, by outcomes and numbers, None if facts alone do not tell.
    `present` are the tested facts that the shape has.
    """

    picks: _Picks
    present: tuple[int, ...]
    tested: Callable[[Sequence[int]], tuple[int, ...]]
    others: Callable[[Sequence[int]], tuple[int, ...]]
    outcomes: dict[int, str]
    standings: dict[SightCase, Standing] | None


class IngestCache(Struct):
    """What one piece of work has found out and may use again: contents, and where each class is placed.

    What is found out of classes holds only under the rules of `basis`.
    """

    contents: ContentCache = field(default_factory=ContentCache)
    platforms: dict[int, int] = field(default_factory=dict)
    outcomes: dict[str, dict[int, str]] = field(default_factory=dict)
    picks: dict[tuple[int, int], _Picks] = field(default_factory=dict)
    plans: dict[tuple[str, tuple[int, ...]], _Plan] = field(default_factory=dict)
    shared: dict[tuple[str, str, tuple[int, ...]], Hashable] = field(default_factory=dict)
    places: dict[Hashable, Place] = field(default_factory=dict)
    sights: dict[tuple[int, int, str, str], _Sight] = field(default_factory=dict)
    until: dict[tuple[Any, ...], str | None] = field(default_factory=dict)
    basis: Any = None


def _picker(places: Sequence[int]) -> Callable[[Sequence[int]], tuple[int, ...]]:
    """What picks the numbers at these places."""
    if len(places) > 1:
        return itemgetter(*places)
    return lambda numbers: tuple([numbers[place] for place in places])


class ClassCases:
    """Tells the case of a device, by the rules of settling."""

    def __init__(self, db: sqlite3.Connection, by: SettlingRules, known: IngestCache) -> None:
        self.db = db
        self.by = by
        self.known = known

    def find_case(
        self, source: str, day: str, shape: int, codes: Sequence[int]
    ) -> tuple[dict[SightCase, Standing], SightCase] | None:
        """The case of a device with one reading, which holds facts only, and the standings in which to look it up.

        None if no sheet describes the device.
        """
        at = self.known.platforms.get(shape)
        if at is None:
            at = self._platform_at(shape)
        if at < 0:
            return None
        key = (shape, codes[at], source, day)
        sight = self.known.sights.get(key) or self._sight(*key)
        if sight.standings is None:
            return None
        try:
            return sight.standings, (tuple(map(sight.outcomes.__getitem__, sight.tested(codes))), sight.others(codes))
        except KeyError:
            letters = self._outcomes(sight.outcomes, sight.picks, codes)
            return sight.standings, (tuple([letters[i] for i in sight.present]), sight.others(codes))

    def tested_values(self, content: Content) -> Hashable:
        """The numbers of the values of a content that tests look at, or that are part of a class as they are."""
        codes, at = numbers_in(content.codes), self._platform_at(content.shape)
        sight = (content.shape, codes[at] if at >= 0 else 0)
        picks = (self.known.picks.get(sight) or self._picks(*sight)) if at >= 0 else _Picks("", (), ())
        if not picks.platform:
            return content
        return picks.platform, tuple([codes[i] if i >= 0 else 0 for i in (*picks.tested, *picks.others)])

    def plain(self, current: CurrentContents, content: Content) -> PlainCase | None:
        """The case of a device of which one source alone speaks, with facts only; None if no sheet describes it."""
        ((source, at, _),) = current
        codes = numbers_in(content.codes)
        at_platform = self._platform_at(content.shape)
        if at_platform < 0:
            return None
        sight = (content.shape, codes[at_platform])
        picks = self.known.picks.get(sight) or self._picks(*sight)
        if not picks.platform:
            return None
        outcomes = self.known.outcomes.setdefault(picks.platform, {})
        try:
            letters = tuple([outcomes[codes[i]] if i >= 0 else "" for i in picks.tested])
        except KeyError:
            letters = self._outcomes(outcomes, picks, codes)
        others = tuple([codes[i] if i >= 0 else 0 for i in picks.others])
        case = Case(picks.platform, self.by.ages(source, at[:10]), self.by.ages("nobody", at[:10]), letters, others)
        return PlainCase(case, picks, codes)

    def _sight(self, shape: int, platform_code: int, source: str, day: str) -> _Sight:
        picks = self.known.picks.get((shape, platform_code)) or self._picks(shape, platform_code)
        present = tuple(i for i, place in enumerate(picks.tested) if place >= 0)
        outcomes = self.known.outcomes.setdefault(picks.platform, {})
        tested, others = _picker([picks.tested[i] for i in present]), _picker([i for i in picks.others if i >= 0])
        standings: dict[SightCase, Standing] = {}
        found = _Sight(
            picks, present, tested, others, outcomes, standings if picks.platform and source != FIX else None
        )
        return bounded(self.known.sights).setdefault((shape, platform_code, source, day), found)

    def class_key(self, plain: PlainCase, shape: int) -> tuple[str, Mapping[str, Any]] | None:
        """The key of the class of such a device, and the values that are part of it as they are; None if only
        settling tells.
        """
        (case, picks, codes), facts = plain, self.known.contents.shape(self.db, shape)
        classifier = self.by.classifier(picks.platform)
        outcomes = {
            name: letter
            for name, letter in zip(classifier.tested, case.outcomes, strict=True)
            if self.by.counts(name, case.own)
        }
        value = self.known.contents.value
        words = {
            name: [value(self.db, codes[i])]
            for i, name in enumerate(facts)
            if name in (*classifier.words, "os.platform") and self.by.counts(name, case.own)
        }
        return self._key(picks.platform, facts, outcomes, words, case.nobodys)

    def class_content(self, plain: PlainCase, shape: int) -> dict[str, Any]:
        """What stands for the class of such a device that has a key, as `profile_content` has it."""
        (case, picks, codes), facts = plain, self.known.contents.shape(self.db, shape)
        classifier, value, parse = self.by.classifier(picks.platform), self.known.contents.value, self.by.reader.parse
        reported = {f"reported.{requirement}" for requirement in self.by.sheets[picks.platform].reported}
        quiet = {name: [False] for name in reported if name in classifier.names and self.by.counts(name, case.nobodys)}
        counting = {
            name: [dump(parse(name, value(self.db, codes[i])))]
            for i, name in enumerate(facts)
            if name in classifier.names and self.by.counts(name, case.own)
        }
        return content_of_facts(picks.platform, {**counting, **quiet})

    def class_key_of_several(self, case: SeveralCase) -> tuple[str, Mapping[str, Any]] | None:
        """As `class_key`, of a device of which several sources speak."""
        classifier, plan, value = self.by.classifier(case.platform), case.plan, self.known.contents.value
        outcomes, words = dict[str, str](), dict[str, list[Any]]()
        for (name, which, _), letter in zip(plan.tested, case.outcomes, strict=True):
            if self.by.counts(name, case.ages[which]):
                outcomes[name] = letter
        for (name, which, _), code in zip(plan.words, case.words, strict=True):
            if self.by.counts(name, case.ages[which]):
                words[name] = [value(self.db, code)]
        for fact, found in zip(plan.shared, case.shared, strict=True):
            if isinstance(found, str):
                outcomes[fact.name] = found
            elif isinstance(found, tuple) and found:
                words[fact.name] = [value(self.db, code) for code in found]
        for name in words.keys() & set(classifier.tested):
            outcomes[name] = classifier.outcome(name, words[name])
        facts = [*(name for name, _, _ in (*plan.tested, *plan.words)), *(fact.name for fact in plan.shared)]
        return self._key(case.platform, facts, outcomes, words, case.nobodys)

    def _key(
        self, platform: str, facts: Iterable[str], outcomes: Mapping[str, str], words: Mapping[str, list[Any]],
        nobodys: tuple[bool, bool],
    ) -> tuple[str, Mapping[str, Any]] | None:  # fmt: skip
        """The key of a class by what counts, and by nobody reporting a failure."""
        classifier = self.by.classifier(platform)
        reported = {f"reported.{requirement}" for requirement in self.by.sheets[platform].reported}
        if classifier.compares or not reported.isdisjoint(facts) or "os.platform" not in words:
            return None
        quiet = {name: classifier.outcome(name, [False]) for name in reported if self.by.counts(name, nobodys)}
        letters = [quiet.get(name, "") if name in reported else outcomes.get(name, "") for name in classifier.tested]
        listed = [json.dumps(words[name]) if name in words else "" for name in classifier.words]
        return classifier.key(letters, listed, [], NOTHING_ELSE), {name: held[0] for name, held in words.items()}

    def _picks(self, shape: int, platform_code: int) -> _Picks:
        """What makes a class of devices of whose readings the shape, and the platform, are these."""
        platform = str(self.known.contents.value(self.db, platform_code))
        found = _Picks("", (), ())
        if platform in self.by.sheets:
            facts, classifier = self.known.contents.shape(self.db, shape), self.by.classifier(platform)
            at = {name: i for i, name in enumerate(facts)}
            others = sorted(classifier.compared)
            places = [tuple(at.get(name, -1) for name in names) for names in (classifier.tested, others)]
            found = _Picks(platform, *places)
        return bounded(self.known.picks).setdefault((shape, platform_code), found)

    def _outcomes(self, known: dict[int, str], picks: _Picks, codes: Sequence[int]) -> tuple[str, ...]:
        """The outcomes of the tested facts, those not known yet worked out."""
        classifier, found = self.by.classifier(picks.platform), []
        for name, i in zip(classifier.tested, picks.tested, strict=True):
            code = codes[i] if i >= 0 else 0
            if i >= 0 and code not in known:
                value = self.known.contents.value(self.db, code)
                bounded(known, MOST_VALUES)[code] = classifier.outcome(name, [value])
            found.append(known[code] if i >= 0 else "")
        return tuple(found)

    def several(self, current: CurrentContents, contents: Sequence[Content]) -> SeveralCase | None:
        """The case of a device of which several sources speak, with facts only; None if only settling it tells.

        Facts that one of the contents holds count by their outcomes; of those that several hold it counts which is
        believed and whether they are contested, as settling has it.
        """
        codes = [numbers_in(content.codes) for content in contents]
        held = zip(contents, codes, strict=True)
        platforms = {numbers[at] for content, numbers in held if (at := self._platform_at(content.shape)) >= 0}
        platform = str(self.known.contents.value(self.db, platforms.pop())) if len(platforms) == 1 else ""
        if platform not in self.by.sheets:
            return None
        plan = self._plan(platform, tuple([content.shape for content in contents]))
        outcomes = self.known.outcomes.setdefault(platform, {})
        letters = []
        for name, which, place in plan.tested:
            code = codes[which][place]
            if code not in outcomes:
                value = self.known.contents.value(self.db, code)
                bounded(outcomes, MOST_VALUES)[code] = self.by.classifier(platform).outcome(name, [value])
            letters.append(outcomes[code])
        words = tuple([codes[which][place] for _, which, place in plan.words])
        ages = [self.by.ages(source, at[:10]) for source, at, _ in current]
        ranks = [(source_of(self.by.sources, source).trust, at, source) for source, at, _ in current]
        contested = []
        for fact in plan.shared:
            counting = [(ranks[w], codes[w][p]) for w, p in fact.holders if self.by.counts(fact.name, ages[w])]
            ranked = sorted(counting, reverse=True)
            if len({source for (_, _, source), _ in ranked}) < len(ranked):
                return None
            contested.append(self._contested(platform, fact, tuple([code for _, code in ranked])))
        nobodys = self.by.ages("nobody", max(at for _, at, _ in current)[:10])
        return SeveralCase(platform, plan, tuple(ages), nobodys, tuple(letters), words, tuple(contested))

    def _contested(self, platform: str, fact: _Shared, codes: tuple[int, ...]) -> Hashable:
        """What counts of values of a fact, the most trusted first: all of them if any two disagree, else the first."""
        key = (platform, fact.name, codes)
        if key not in self.known.shared:
            values = [self.known.contents.value(self.db, code) for code in codes]
            spec, parsed = self.by.specs[fact.name], [self.by.reader.parse(fact.name, value) for value in values]
            apart = any(not spec.close(one, other) for one, other in combinations(parsed, 2))
            listed = len(codes) if apart else min(1, len(codes))
            found: Hashable = codes[:listed]
            if fact.tested:
                found = self.by.classifier(platform).outcome(fact.name, values[:listed])
            bounded(self.known.shared, MOST_VALUES)[key] = found
        return self.known.shared[key]

    def _plan(self, platform: str, shapes: tuple[int, ...]) -> _Plan:
        """Where the values stand on which the class of such a device rests."""
        found = self.known.plans.get((platform, shapes))
        if found is None:
            classifier = self.by.classifier(platform)
            as_they_are = {*classifier.compared, "os.platform"}
            holders: dict[str, list[tuple[int, int]]] = {}
            for which, shape in enumerate(shapes):
                for place, name in enumerate(self.known.contents.shape(self.db, shape)):
                    if name in classifier.names or name in as_they_are:
                        holders.setdefault(name, []).append((which, place))
            single = {name: held[0] for name, held in sorted(holders.items()) if len(held) == 1}
            found = bounded(self.known.plans)[platform, shapes] = _Plan(
                tuple((name, *at) for name, at in single.items() if name not in as_they_are),
                tuple((name, *at) for name, at in single.items() if name in as_they_are),
                tuple(
                    _Shared(name, name not in as_they_are, tuple(held))
                    for name, held in sorted(holders.items())
                    if len(held) > 1
                ),
            )
        return found

    def _platform_at(self, shape: int) -> int:
        """Where in the codes of a shape the platform stands; -1 where it has none."""
        found = self.known.platforms.get(shape)
        if found is None:
            facts = self.known.contents.shape(self.db, shape)
            found = bounded(self.known.platforms)[shape] = facts.index("os.platform") if "os.platform" in facts else -1
        return found
