"""Scenarios: a device's forecast under several assumptions, what each exception does to it, and what if.

In: a platform, a view, decisions, exceptions, a day. Out: forecasts side by side, all by `forecast` and nothing else:
an assumption is a platform changed, an exception left out, a requirement taken as met.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import date
from enum import StrEnum

from msgspec import Struct, field
from msgspec.structs import replace

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.forecast.device_forecast import Forecast, UpgradePath, forecast
from doorstone.core.platforms.platform import Origin, Override, Platform, Release, Sort
from doorstone.core.sorting.assessment import Decision


class Assumption(StrEnum):
    """What is taken for granted of the releases to come."""

    PLANNED = "planned"  # as the sheet says, also what is not published yet
    PUBLISHED = "published"  # nothing beyond what is published today
    PESSIMISTIC = "pessimistic"  # every override from the field ends at the next release


def assume(platform: Platform, assumption: Assumption, as_of: date) -> Platform:
    """The platform as it is under an assumption."""
    if assumption is Assumption.PUBLISHED:
        releases = tuple(
            r if r.published <= as_of else replace(r, servicing_ends={}, upgrade_from=()) for r in platform.releases
        )
        return replace(platform, releases=releases)
    if assumption is Assumption.PESSIMISTIC:
        ahead = next((r for r in platform.releases if r.published > as_of), None)
        if ahead is not None:
            return replace(platform, overrides=tuple(_ended(platform, o, ahead) for o in platform.overrides))
    return platform


def _ended(platform: Platform, override: Override, ahead: Release) -> Override:
    lasts = override.until is None or platform.index(override.until) > platform.index(ahead.id)
    return replace(override, until=ahead.id) if lasts and override.origin is Origin.FIELD else override


class ForecastUnderAssumption(Struct, frozen=True):
    assumption: Assumption
    technical: UpgradePath
    approved: UpgradePath


class ExceptionWeight(Struct, frozen=True):
    """What one exception does: the approved runway with it, without it, and both runways if what it excepts were met.

    A None is no serviced day.
    """

    exception: str
    requirements: tuple[str, ...]
    with_it: date | None
    without_it: date | None
    fixed_technical: date | None
    fixed_approved: date | None

    @property
    def changes(self) -> bool:
        """Whether it makes any difference to the approved runway."""
        return self.with_it != self.without_it


class ScenarioComparison(Struct, frozen=True):
    forecast: Forecast
    assumed: tuple[ForecastUnderAssumption, ...]
    exceptions: tuple[ExceptionWeight, ...]


def compare_scenarios(
    platform: Platform,
    device: str,
    view: View,
    decisions: Sequence[Decision] = (),
    exceptions: Sequence[ExceptionTerms] = (),
    experience: OverrideResults = NONE,
) -> ScenarioComparison:
    """The device's forecast, the same under each assumption, and what each of its exceptions does to it."""
    plain = forecast(platform, device, view, decisions, exceptions, experience=experience)
    assumed = []
    for assumption in Assumption:
        under = assume(platform, assumption, view.as_of)
        found = plain
        if under is not platform:
            found = forecast(under, device, view, decisions, exceptions, experience=experience)
        words = f"it is the last release published by {view.as_of}"
        lines = [
            replace(line, ended_by=words)
            if assumption is Assumption.PUBLISHED and line.ended_kind == "last-release"
            else line
            for line in (found.technical, found.approved)
        ]
        assumed.append(ForecastUnderAssumption(assumption, *lines))
    standing = [e for e in exceptions if e.in_force(max(view.as_of, e.start))]
    weights = tuple(_weight(platform, device, view, decisions, exceptions, one, plain) for one in standing)
    return ScenarioComparison(plain, tuple(assumed), weights)


def _weight(
    platform: Platform,
    device: str,
    view: View,
    decisions: Sequence[Decision],
    exceptions: Sequence[ExceptionTerms],
    one: ExceptionTerms,
    plain: Forecast,
) -> ExceptionWeight:
    without = forecast(platform, device, view, decisions, [e for e in exceptions if e.id != one.id])
    met = forecast(taken_as_met(platform, one.requirements), device, view, decisions, exceptions)
    return ExceptionWeight(
        one.id,
        tuple(sorted(one.requirements)),
        plain.approved.runway,
        without.approved.runway,
        met.technical.runway,
        met.approved.runway,
    )


def taken_as_met(platform: Platform, requirements: Collection[str]) -> Platform:
    """The platform as it is for a device that meets these requirements at every release."""
    return replace(platform, requirements=tuple(r for r in platform.requirements if r.id not in requirements))


# ------------------------------------------------------------------------ what if


class Scenario(Struct, frozen=True):
    """What is supposed: other dates of releases, other ends of overrides, fixes made, checks excepted, other sorts.

    `published` and `serviced` map release -> day, the latter for every edition; `ends` maps override -> first release
    on which it no longer works, empty for none; `fixed` and `granted` are requirements; `sorts` requirement -> sort.
    """

    published: Mapping[str, date] = field(default_factory=dict)
    serviced: Mapping[str, date] = field(default_factory=dict)
    ends: Mapping[str, str] = field(default_factory=dict)
    fixed: frozenset[str] = frozenset()
    granted: frozenset[str] = frozenset()
    sorts: Mapping[str, Sort] = field(default_factory=dict)


def suppose(platform: Platform, given: Scenario) -> Platform:
    """The platform under a supposition. Raises `KeyError` for a release, override or requirement it does not know."""
    for release in (*given.published, *given.serviced, *(end for end in given.ends.values() if end)):
        platform.index(release)
    for name in given.ends:
        platform.override(name)
    for name in (*given.fixed, *given.granted, *given.sorts):
        platform.requirement(name)
    releases = tuple(
        replace(
            r,
            published=given.published.get(r.id, r.published),
            servicing_ends=dict.fromkeys(r.servicing_ends, given.serviced[r.id])
            if r.id in given.serviced
            else r.servicing_ends,
        )
        for r in platform.releases
    )
    overrides = tuple(
        replace(o, until=given.ends[o.id] or None) if o.id in given.ends else o for o in platform.overrides
    )
    requirements = tuple(
        replace(r, sorts=tuple(replace(rule, sort=given.sorts[r.id]) for rule in r.sorts)) if r.id in given.sorts else r
        for r in platform.requirements
        if r.id not in given.fixed
    )
    return replace(platform, releases=releases, overrides=overrides, requirements=requirements)


def supposed_exceptions(platform: Platform, device: str, given: Scenario, as_of: date) -> list[ExceptionTerms]:
    """An exception for what is supposed to be granted: for this device, from today on, without an end."""
    if not given.granted:
        return []
    names = frozenset({device})
    last = platform.releases[-1].id
    terms = ExceptionTerms(
        "supposed", platform.id, last, True, given.granted, names, as_of, date.max, ExceptionState.APPROVED
    )
    return [terms]
