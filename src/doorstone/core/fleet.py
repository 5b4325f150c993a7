"""Fleets: profiles that many devices share, roll-ups over them, courses.

In: views and assessments with counts. Out: profile keys, counts per state and requirement, combinations, a course.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any

from doorstone.core.facts import Candidate, FactSpec, FactValue, Ruling, SettledFact, Verdict, View, dump
from doorstone.core.forecast import Forecast, Reach, Way
from doorstone.core.platforms import Platform
from doorstone.core.sorting import Assessment, State


def profile_facts(platform: Platform) -> frozenset[str]:
    """The facts that make two devices the same case: those that any condition of the sheet looks at, and who it is."""
    return platform.facts_used() | {"machine.model", "os.release", "os.edition"}


def profile_picture(platform: str, names: frozenset[str], view: View, own: str = "") -> dict[str, Any]:
    """Everything about a device that the platform's sheet can see, as JSON: values without times and sources.

    `names` are the sheet's `profile_facts`; `own` keeps a device apart whose decisions are its own.
    """
    facts = {
        name: [dump(view.facts[name].believed.value), *(dump(c.value) for c in view.facts[name].rivals)]
        for name in sorted(names)
        if name in view.facts
    }
    picture: dict[str, Any] = {"platform": platform, "facts": facts}
    picture["verdicts"] = [[v.requirement, v.passed] for v in view.verdicts]
    picture["ruled"] = {name: bool(ruling.value) for name, ruling in sorted(view.ruled.items())}
    return {**picture, "own": own}


def profile_key(picture: Mapping[str, Any]) -> str:
    """A digest of a profile's picture: the same key, the same findings."""
    return hashlib.sha256(json.dumps(picture, separators=(",", ":")).encode()).hexdigest()[:32]


_NO_TIME = datetime(1, 1, 1)


def view_of(picture: Mapping[str, Any], specs: Mapping[str, FactSpec], as_of: date) -> View:
    """The view that all devices of a profile share: its values are theirs, its times and sources are nobody's."""

    def candidate(name: str, value: Any) -> Candidate:
        return Candidate(specs[name].parse(value), "", _NO_TIME)

    facts = {
        name: SettledFact(candidate(name, values[0]), tuple(candidate(name, value) for value in values[1:]))
        for name, values in picture["facts"].items()
        if name in specs
    }
    verdicts = tuple(Verdict(requirement, passed, "", _NO_TIME) for requirement, passed in picture["verdicts"])
    ruled = {name: Ruling("", name, passed, _NO_TIME, "", "", _NO_TIME) for name, passed in picture["ruled"].items()}
    return View(as_of, facts, {}, verdicts, ruled)


def rules_basis(platform: Platform, release: str, as_of: date) -> str:
    """A digest of all that sorts a device at a release, decisions apart: what it asks, of which list, and its fixes.

    A date in a condition makes the answer one of the day, so the day is part of it then.
    """
    rules: list[Any] = []
    dated = False
    for r in platform.requirements_at(release):
        conditions = [r.condition, *(fix.when for fix in r.fixes)]
        leaves = [leaf for condition in conditions for leaf in condition.leaves()]
        dated = dated or any(leaf.op == "within_days" for leaf in leaves)
        listed = [sorted(leaf.operand) for leaf in leaves if leaf.op == "listed_in"]
        fixes = [[f.title, f.when.data(), _dumped(f.gives), f.minutes, str(f.cost)] for f in r.fixes]
        rules.append([r.id, r.condition.data(), listed, platform.sheet_sort(r, release), fixes])
    text = json.dumps([rules, as_of.isoformat() if dated else ""], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def looks_at_days(platform: Platform, release: str) -> bool:
    """Whether what a release asks depends on the day: then a device's findings may change overnight by themselves."""
    conditions = [
        condition
        for r in platform.requirements_at(release)
        for condition in (r.condition, *(fix.when for fix in r.fixes))
    ]
    return any(leaf.op == "within_days" for condition in conditions for leaf in condition.leaves())


def _dumped(values: Mapping[str, FactValue]) -> dict[str, Any]:
    return {name: dump(value) for name, value in values.items()}


NOT_FAILING = ("met", "unread", "disputed")


@dataclass(frozen=True, slots=True)
class Sorted:
    """A profile against a release: the state and the mark of each requirement, in the sheet's order."""

    state: str
    marks: Mapping[str, str]

    @property
    def failing(self) -> tuple[str, ...]:
        return tuple(name for name, mark in self.marks.items() if mark not in NOT_FAILING)


def sorted_as(assessment: Assessment) -> Sorted:
    return Sorted(assessment.state.value, {f.requirement.id: f.mark for f in assessment.findings})


@dataclass(frozen=True, slots=True)
class RequirementCount:
    requirement: str
    title: str
    marks: Mapping[str, int]


@dataclass(frozen=True, slots=True)
class Combination:
    """Requirements that fail together, with the mark of each, on `devices` devices."""

    requirements: tuple[str, ...]
    devices: int


@dataclass(frozen=True, slots=True)
class RollUp:
    release: str
    devices: int
    states: Mapping[str, int]
    requirements: tuple[RequirementCount, ...]
    combinations: tuple[Combination, ...]


def roll_up(platform: Platform, release: str, profiles: Iterable[tuple[Sorted, int]]) -> RollUp:
    """Counts over profiles, each standing for a number of devices."""
    states: Counter[str] = Counter()
    marks: dict[str, Counter[str]] = {r.id: Counter() for r in platform.requirements_at(release)}
    together: Counter[tuple[str, ...]] = Counter()
    for found, count in profiles:
        states[found.state] += count
        for requirement, mark in found.marks.items():
            marks[requirement][mark] += count
        if found.failing:
            together[found.failing] += count
    return RollUp(
        release,
        states.total(),
        {state.value: states[state.value] for state in State},
        tuple(RequirementCount(r.id, r.title, dict(marks[r.id])) for r in platform.requirements_at(release)),
        tuple(Combination(names, n) for names, n in sorted(together.items(), key=lambda e: (-e[1], e[0]))),
    )


@dataclass(frozen=True, slots=True)
class Course:
    """The recommended way for a device: take, fix, except, read, stay or retire; `by` is the day to have done it."""

    way: str
    by: date | None
    why: str


def course(release: str, forecast: Forecast, as_of: date, stay_days: int = 180) -> Course:
    """The course towards `release`. Staying is recommended while today's release is serviced `stay_days` more."""
    if forecast.unread:
        return Course("read", None, forecast.unread)
    through = forecast.serviced_through
    by = through if through and through >= as_of else None
    lasts = by is not None and by - as_of >= timedelta(days=stay_days)
    reach = next((r for r in forecast.reaches if r.release == release), None)
    if reach is None:
        if lasts and forecast.release == release:
            return Course("stay", forecast.technical.runway, f"It runs {release} already")
        if lasts:
            return Course("stay", through, f"It runs {forecast.release}, which is later than {release}")
        return _onward(forecast, by)
    found = _towards(reach, by)
    if found is not None:
        return found
    if lasts:
        return Course("stay", through, f"{reach.why}; {forecast.release} is serviced through {through}")
    return Course("retire", forecast.technical.runway, reach.why)


def _onward(forecast: Forecast, by: date | None) -> Course:
    """The course of a device whose release is, or will soon be, out of servicing: the next move that there is."""
    ends = f"{forecast.release} is serviced through {by}" if by else f"{forecast.release} is out of servicing"
    for move in forecast.technical.moves[:1]:
        found = _towards(next(r for r in forecast.reaches if r.release == move.release), by)
        if found is not None:
            return replace(found, why=f"{ends}; {found.why}")
    return Course("retire", forecast.technical.runway, f"{ends}; {forecast.technical.ended_by}")


def _towards(reach: Reach, by: date | None) -> Course | None:
    """The course by a way to a release; None if the way leads nowhere."""
    release = reach.release
    clean = ", by a clean install: what is on the device is lost" if reach.data_lost else ""
    match reach.way:
        case Way.OFFERED:
            return Course("take", by, f"Every requirement of {release} is met")
        case Way.CLEAN:
            lost = "it takes a clean install, and what is on the device is lost"
            return Course("take", by, f"Every requirement of {release} is met, but it is not offered: {lost}")
        case Way.AFTER_FIX:
            then = f"then {release} can be put on{clean}" if clean else f"then {release} is offered"
            return Course("fix", by, f"{len(reach.fixes)} to fix, {then}")
        case Way.BY_EXCEPTION:
            first = f"{len(reach.fixes)} to fix first; " if reach.fixes else ""
            with_ = f"with {' and '.join(reach.overrides)}{clean}"
            if not reach.missing:
                named = f"{' and '.join(reach.exceptions)} in hand" if reach.exceptions else "excepted"
                then = f"not usable: {reach.not_approved}" if reach.not_approved else "make the kit"
                return Course("except", by, f"{first}{named}, {with_}: {then}")
            checks = f"{len(reach.missing)} check{'s' if len(reach.missing) > 1 else ''} to except"
            return Course("except", by, f"{first}{checks}, {with_}")
        case Way.UNKNOWN:
            return Course("read", by, reach.why)
    return None
