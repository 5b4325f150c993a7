"""Fleets: profiles that many devices share, roll-ups over them, courses.

In: views and assessments with counts. Out: profile keys, counts per state and requirement, combinations, a course.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from doorstone.core.facts import View, dump
from doorstone.core.forecast import Forecast, Way
from doorstone.core.platforms import Platform
from doorstone.core.sorting import Assessment, State


def profile_key(platform: Platform, view: View) -> str:
    """A digest of everything about the device that any condition of the sheet can see: same key, same findings."""
    names = platform.facts_used() | {"machine.model", "os.release", "os.edition"}
    seen = {
        name: [dump(view.facts[name].believed.value), *(dump(c.value) for c in view.facts[name].rivals)]
        for name in sorted(names)
        if name in view.facts
    }
    dates = any(platform.specs[name].type.value in ("date", "timestamp") for name in seen if name in platform.specs)
    verdicts = [[v.requirement, v.passed] for v in view.verdicts]
    picture = [platform.id, seen, verdicts, view.as_of.isoformat() if dates else ""]
    return hashlib.sha256(json.dumps(picture, separators=(",", ":")).encode()).hexdigest()[:24]


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


def roll_up(platform: Platform, release: str, assessments: Iterable[tuple[Assessment, int]]) -> RollUp:
    """Counts over assessments, each standing for a number of devices."""
    states: Counter[str] = Counter()
    marks: dict[str, Counter[str]] = {r.id: Counter() for r in platform.requirements_at(release)}
    together: Counter[tuple[str, ...]] = Counter()
    for assessment, count in assessments:
        states[assessment.state.value] += count
        for finding in assessment.findings:
            marks[finding.requirement.id][finding.mark] += count
        if failing := tuple(f.requirement.id for f in assessment.unmet()):
            together[failing] += count
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
    through = forecast.serviced_through
    by = through if through and through >= as_of else None
    if forecast.release == release:
        return Course("stay", forecast.technical.runway, f"It runs {release} already")
    reach = next((r for r in forecast.reaches if r.release == release), None)
    if reach is None:
        return Course("stay", through, f"It runs {forecast.release}, which is later than {release}")
    match reach.way:
        case Way.OFFERED:
            return Course("take", by, f"Every requirement of {release} is met")
        case Way.AFTER_FIX:
            return Course("fix", by, f"{len(reach.fixes)} to fix, then {release} is offered")
        case Way.BY_EXCEPTION:
            first = f"{len(reach.fixes)} to fix first; " if reach.fixes else ""
            checks = f"{len(reach.checks)} check{'s' if len(reach.checks) > 1 else ''} to except"
            return Course("except", by, f"{first}{checks}, with {' and '.join(reach.overrides)}")
        case Way.UNKNOWN:
            return Course("read", by, reach.why)
    if through is not None and through - as_of >= timedelta(days=stay_days):
        return Course("stay", through, f"{reach.why}; {forecast.release} is serviced through {through}")
    return Course("retire", forecast.technical.runway, reach.why)
