"""Devices that run a release with checks unmet that no exception in force names."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from typing import NamedTuple

from doorstone.core.attempts import outcomes
from doorstone.core.exceptions.life import ENDED_AFTER_APPROVAL, ExceptionState, ExceptionTerms, excepted, refusals
from doorstone.core.exceptions.uncovered import EarlierException, Uncovered, uncovered, ways_out
from doorstone.core.fixes.plan import FixPlan, plan_fixes
from doorstone.core.platforms.platform import Platform, Sort
from doorstone.core.sorting.assessment import Assessment
from doorstone.store import attempts as attempt_store
from doorstone.store import exceptions as exception_store
from doorstone.store import exceptions as store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.exceptions import ExceptionRow
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import state_of
from doorstone.work.snapshot.rollback import ended_attempts, rollback_until
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.standings import assessments, by_outcome, profile_view, standings

UNMET = {"floor", "installer-check", "fixable"}


@dataclass(frozen=True, slots=True)
class UncoveredDevice:
    """A device that runs `release` with checks unmet that no exception in force names."""

    row: DeviceRow
    release: str
    found: Uncovered
    steps: tuple[str, ...]


class Lacking(NamedTuple):
    row: DeviceRow
    release: str
    assessment: Assessment
    checks: frozenset[str]
    held: tuple[ExceptionTerms, ...]


def uncovered_of(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[UncoveredDevice]:
    """The uncovered devices of a platform, by release and id."""
    lacking = list(lacking_of(db, now, platform))
    names = [one.row.id for one in lacking]
    read, added = device_store.read_on(db, names), device_store.added_on(db, names)
    tried = attempt_store.of_devices(db, names)
    ended = exception_store.ended(db, {number_of("EX", e.id) for one in lacking for e in one.held})
    plans = _fix_plans(now, platform, lacking)
    askable: dict[tuple[str, int, tuple[str, ...]], bool] = {}
    for row, release, assessment, checks, held in lacking:
        attempts = ended_attempts(tried.get(row.id, ()))
        arrived = outcomes.arrived_on(attempts, release) or added[row.id]
        mine = [EarlierException(e, ended.get(number_of("EX", e.id))) for e in held]
        found = uncovered(platform, release, checks, mine, arrived, read.get(row.id, arrived), now.today)
        if found is not None:
            plan = plans[release, row.profile or 0]
            fixes = [step.fix.title for step in plan.steps if set(step.meets) & set(found.requirements)]
            key = release, row.profile or 0, found.requirements
            if key not in askable:
                askable[key] = not refusals(row.id, assessment, found.requirements)
            until = rollback_until(db, now, row.id) if attempts else None
            last = until if until is not None and until >= now.today else None
            yield UncoveredDevice(row, release, found, ways_out(found, fixes, last, askable[key]))


def _fix_plans(now: Snapshot, platform: Platform, lacking: Iterable[Lacking]) -> dict[tuple[str, int], FixPlan]:
    """(release, profile) -> the fixes of its devices at the release that they run."""
    profiles: dict[str, set[int]] = {}
    for one in lacking:
        profiles.setdefault(one.release, set()).add(one.row.profile or 0)
    found = {}
    for release, numbers in profiles.items():
        decisions = now.decisions_for(platform)
        assessed = assessments(now.context, platform, decisions, release, numbers)
        view_and_own = profile_view(now.context, platform, numbers)
        plans = by_outcome(
            now.context, platform, decisions, release, numbers, "fix plan",
            lambda n: plan_fixes(assessed[n], view_and_own(n)[0]),  # noqa: B023 - called at once
        )  # fmt: skip
        found.update({(release, number): plan for number, plan in plans.items()})
    return found


def lacking_of(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Lacking]:
    """Devices that run a release with installer checks unmet that no exception in force names."""
    for release, rows in failing(db, now, platform):
        assessed, held = now.assessments(rows, release), now.held(row.id for row in rows)
        for row in rows:
            findings = assessed[row.id].unmet() if row.id in assessed else ()
            checks = frozenset(f.requirement.id for f in findings if f.sort is Sort.CHECK)
            mine = held.get(row.id, ())
            if checks - excepted(mine, platform, release, now.today):
                yield Lacking(row, release, assessed[row.id], checks, mine)


def lacking_by_site(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Counter[str]:
    """Site -> how many devices `lacking_of` would find there, counted by profile."""
    found: Counter[str] = Counter()
    placed = profile_store.by_site(db, platform.id)
    decisions = now.decisions_for(platform)
    for release, profiles in failing_profiles(db, now, platform):
        every = assessments(now.context, platform, decisions, release, profiles)
        checks = {
            number: {f.requirement.id for f in assessed.unmet() if f.sort is Sort.CHECK}
            for number, assessed in every.items()
        }
        for site, profile, devices in placed:
            if checks.get(profile):
                found[site] += devices
        named = now.excepted(platform, release)
        for row in now.rows(named):
            mine = checks.get(row.profile or 0)
            if mine and row.platform == platform.id and mine <= named[row.id]:
                found[row.site] -= 1
    return +found


def failing(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[tuple[str, Sequence[DeviceRow]]]:
    """The devices of each release that fail something at the release that they run."""
    for release, profiles in failing_profiles(db, now, platform):
        yield release, list(device_store.of_profiles(db, profiles))


def failing_profiles(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[tuple[str, set[int]]]:
    by_release: dict[str, set[int]] = {}
    for number, row in profile_store.in_use(db, platform.id).items():
        if platform.has(row.running_release):
            by_release.setdefault(row.running_release, set()).add(number)
    for release, profiles in sorted(by_release.items(), key=lambda entry: platform.index(entry[0])):
        marks = standings(now.context, platform, release).of
        wrong = {number for number in profiles if set(marks[number].marks.values()) & UNMET}
        if wrong:
            yield release, wrong


def arrived_on(db: sqlite3.Connection, row: DeviceRow, release: str) -> date:
    """The day of the attempt that brought the release, else the day from which the device is known."""
    brought = outcomes.arrived_on(ended_attempts(attempt_store.every(db, row.id)), release)
    return brought or device_store.added_on(db, [row.id])[row.id]


def by_exception(db: sqlite3.Connection, now: Snapshot) -> Iterator[tuple[str, date]]:
    """Devices that run what an exception permits, with the day since when they at least may."""
    for row in store.standing(db):
        if row.state == ExceptionState.APPROVED:
            for device, _, _ in _running_by(now, row):
                yield device, date.fromisoformat(row.start_on)


def after_exception(db: sqlite3.Connection, now: Snapshot) -> dict[str, ExceptionRow]:
    """Device -> the exception that ended last of those by which it still runs, though nothing permits that now."""
    found: dict[str, ExceptionRow] = {}
    for row in sorted(
        [*store.ended_later(db), *store.standing(db)], key=lambda row: (row.ended_on or row.expires_on, row.id)
    ):
        found.update(dict.fromkeys(still_running(now, row), row))
    return found


def still_running(now: Snapshot, row: ExceptionRow) -> list[str]:
    """The devices that still run by an exception that has ended: what they lack is permitted by nothing else."""
    if row.platform not in now.sheets or state_of(row, now.today) not in ENDED_AFTER_APPROVAL:
        return []
    platform = now.sheets[row.platform].platform
    held, running = now.in_force_by_device(), _running_by(now, row)
    return [
        device for device, runs, unmet in running if unmet - excepted(held.get(device, ()), platform, runs, now.today)
    ]


def _running_by(now: Snapshot, row: ExceptionRow) -> Iterator[tuple[str, str, set[str]]]:
    """The devices of an exception that run a release that it reaches, the release, and what it names that they fail."""
    sheet, held = now.sheets.get(row.platform), now.exception(id_of("EX", row.id))
    if sheet is None:
        return
    rows = now.rows(row.devices)
    for runs in sorted({one.running_release for one in rows if sheet.platform.has(one.running_release)}):
        if held.reaches(sheet.platform, runs):
            for device, found in now.assessments((one for one in rows if one.running_release == runs), runs).items():
                if unmet := {f.requirement.id for f in found.unmet()} & set(row.requirements):
                    yield device, runs, unmet
