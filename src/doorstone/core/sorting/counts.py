"""A profile's state and marks, and counts of many: by state, by requirement, by combination."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from msgspec import Struct

from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, State

NOT_FAILING = ("met", "unread", "disputed")


class Sorted(Struct, frozen=True):
    """A profile against a release: the state and the mark of each requirement, in the sheet's order."""

    state: str
    marks: Mapping[str, str]

    @property
    def failing(self) -> tuple[str, ...]:
        return tuple(name for name, mark in self.marks.items() if mark not in NOT_FAILING)


def sorted_as(assessment: Assessment) -> Sorted:
    return Sorted(assessment.state.value, {f.requirement.id: f.mark for f in assessment.findings})


class RequirementCount(Struct, frozen=True):
    requirement: str
    title: str
    marks: Mapping[str, int]


class Combination(Struct, frozen=True):
    """Requirements that fail together, with the mark of each, on `devices` devices."""

    requirements: tuple[str, ...]
    devices: int


class RollUp(Struct, frozen=True):
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
