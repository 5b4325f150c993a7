"""Devices that run a release with checks unmet that no exception in force names."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping, Sequence
from datetime import date
from heapq import heapify, heappop, heappush
from typing import NamedTuple

from msgspec import Struct

from doorstone.core.exceptions.life import ENDED_AFTER_APPROVAL, ExceptionState, ExceptionTerms, excepted, refusals
from doorstone.core.exceptions.run import Began, Run
from doorstone.core.exceptions.uncovered import EarlierException, Remedy, Uncovered, UncoveredCause, uncovered, ways_out
from doorstone.core.fixes.plan import FixPlan, plan_fixes
from doorstone.core.platforms.platform import Platform, Sort
from doorstone.core.sorting.assessment import Assessment
from doorstone.store import attempts as attempt_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import state_of
from doorstone.work.snapshot.contents import bounded, held_of
from doorstone.work.snapshot.locations import MOST_PROFILES, devices_by_site
from doorstone.work.snapshot.past import Asked, PastOf
from doorstone.work.snapshot.rollback import rollback_until
from doorstone.work.snapshot.running import Arrived, RunningSummary, arrived, summaries, summed
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.standings import assessments, by_outcome, profile_view, rules_day, standings

UNMET = frozenset({"floor", "installer-check", "fixable"})


class UncoveredDevice(Struct, frozen=True):
    """A device that runs `release` with checks unmet that no exception in force names."""

    row: DeviceRow
    release: str
    found: Uncovered
    steps: tuple[str, ...]


class Lacking(NamedTuple):
    """A device that runs a release with checks unmet that no exception in force names."""

    device: str
    site: str
    profile: int
    release: str
    found: Uncovered


def in_full(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, lacking: Sequence[Lacking]
) -> Iterator[UncoveredDevice]:
    """These devices, each with its row and what would end it."""
    rows = {row.id: row for row in now.rows(one.device for one in lacking)}
    tried = attempt_store.of_devices(db, rows)
    plans = _fix_plans(now, platform, lacking)
    askable: dict[tuple[str, int, tuple[str, ...]], bool] = {}
    for device, _, profile, release, found in lacking:
        plan, assessment = plans[release, profile]
        fixes = [
            Remedy(step.fix.title, frozenset(step.meets))
            for step in plan.steps
            if set(step.meets) & set(found.requirements)
        ]
        covers = {name: now.exception(name).requirements for name in {found.last, found.waiting} if name}
        key = release, profile, found.requirements
        if key not in askable:
            askable[key] = not refusals(device, assessment, found.requirements)
        until = rollback_until(db, now, device) if tried.get(device) else None
        last = until if until is not None and until >= now.today else None
        yield UncoveredDevice(rows[device], release, found, ways_out(found, fixes, last, covers, askable=askable[key]))


def _fix_plans(
    now: Snapshot, platform: Platform, lacking: Iterable[Lacking]
) -> dict[tuple[str, int], tuple[FixPlan, Assessment]]:
    """(release, profile) -> the fixes of its devices at the release that they run, and how they stand there."""
    profiles: dict[str, set[int]] = {}
    for one in lacking:
        profiles.setdefault(one.release, set()).add(one.profile)
    found = {}
    for release, numbers in profiles.items():
        decisions = now.decisions_for(platform)
        assessed = assessments(now.context, platform, decisions, release, numbers)
        view_and_own = profile_view(now.context, platform, numbers)
        plans = by_outcome(
            now.context, platform, decisions, release, numbers, "fix plan",
            lambda n: plan_fixes(assessed[n], view_and_own(n)[0]),  # noqa: B023 - called at once
        )  # fmt: skip
        found.update({(release, number): (plan, assessed[number]) for number, plan in plans.items()})
    return found


def lacking_device(db: sqlite3.Connection, now: Snapshot, device: str) -> Lacking | None:
    """What a device runs without permission today; None if it is covered."""
    sheet = now.sheet_of(device)
    return next(lacking_of(db, now, sheet.platform, [device]), None) if sheet is not None else None


def lacking_of(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, devices: Collection[str] | None = None
) -> Iterator[Lacking]:
    """Devices that run a release with installer checks unmet that no exception in force names, or some of these."""
    every_held = now.held_by_device()
    past = PastOf(db, now, platform)
    for release, profiles in failing_profiles(db, now, platform):
        unmet = _unmet_by_profile(now, platform, release, profiles, Sort.CHECK)
        for part in arrived(db, release, unmet, devices):
            plain = [_asked(one, release, unmet) for one in part if one.device not in every_held]
            runs = {asked.device: run for asked, run in past.runs(plain)}
            apart = [one for one in part if one.device in every_held]
            found = _lacking_with_exceptions(db, now, platform, release, unmet, apart)
            for one in part:
                if one.device not in every_held:
                    yield _never(one, release, unmet, runs[one.device])
                elif one.device in found:
                    yield found[one.device]


def _asked(
    one: Arrived, release: str, unmet: Mapping[int, frozenset[str]], held: Sequence[ExceptionTerms] = ()
) -> Asked:
    return Asked(one.device, one.profile, release, unmet[one.profile], one.added, tuple(held))


def _never(one: Arrived, release: str, unmet: Mapping[int, frozenset[str]], run: Run | None) -> Lacking:
    run = run or Run(one.on, Began.READING, exact=False)
    checks = tuple(sorted(unmet[one.profile]))
    found = Uncovered(checks, run.since, UncoveredCause.NEVER, began=run.began, exact=run.exact)
    return Lacking(one.device, one.site, one.profile, release, found)


class _PlainRuns(NamedTuple):
    """The devices of a profile that no exception names, by id, each with its run without permission."""

    devices: Mapping[str, tuple[Arrived, Run | None]]
    summary: RunningSummary | None


def _plain_runs(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, release: str, unmet: Mapping[int, frozenset[str]]
) -> dict[int, _PlainRuns]:
    """By profile, kept until something of the profile's devices changes."""
    rules = platform, now.decisions_for(platform)
    known: dict[int, tuple[int, _PlainRuns]] = now.context.cached(("plain runs", platform.id), rules, dict)
    changed = now.context.cached(
        ("profiles changed", platform.id), now.context.stamp().readings, lambda: profile_store.changed(db, platform.id)
    )
    fresh = {n: held for n in unmet if n in known and (held := known[n][1]) is not None and known[n][0] == changed[n]}
    missing = [number for number in unmet if number not in fresh]
    named = now.held_by_device()
    by_profile: dict[int, dict[str, tuple[Arrived, Run | None]]] = {number: {} for number in missing}
    past = PastOf(db, now, platform) if missing else None
    for part in arrived(db, release, missing) if past else ():
        plain = {one.device: one for one in part if one.device not in named}
        for asked, run in past.runs([_asked(one, release, unmet) for one in plain.values()]) if past else ():
            by_profile[asked.profile][asked.device] = plain[asked.device], run
    for number, devices in by_profile.items():
        days = [one._replace(on=run.since if run else one.on) for one, run in devices.values()]
        found = _PlainRuns(devices, summed(days))
        bounded(known, MOST_PROFILES)[number] = changed[number], found
        fresh[number] = found
    return fresh


def _lacking_with_exceptions(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, release: str, unmet: Mapping[int, frozenset[str]],
    devices: Sequence[Arrived],
) -> dict[str, Lacking]:  # fmt: skip
    """Of these devices, which exceptions name, those that lack something, by id."""
    named, every_held = now.excepted(platform, release), now.held_by_device()
    lacking = {one.device: one for one in devices if unmet[one.profile] - named.get(one.device, frozenset())}
    held = {device: every_held[device] for device in lacking}
    ended = exception_store.ended(db, {number_of("EX", e.id) for mine in held.values() for e in mine})
    past = PastOf(db, now, platform) if lacking else None
    asked = [_asked(one, release, unmet, held[one.device]) for one in lacking.values()]
    made = {}
    alike: dict[Hashable, Uncovered | None] = {}  # many devices have the same exceptions, from the same day
    for one, run in past.runs(asked) if past else ():
        at = lacking[one.device]
        run = run or Run(at.on, Began.READING, exact=False)
        key = one.checks, run, *((e.id, e.doubt, e.state) for e in one.held)
        if key not in alike:
            mine = [EarlierException(e, ended.get(number_of("EX", e.id))) for e in one.held]
            alike[key] = uncovered(platform, release, one.checks, mine, run, now.today)
        if found := alike[key]:
            made[one.device] = Lacking(one.device, at.site, at.profile, release, found)
    return made


class LackingProfile(NamedTuple):
    """The devices of a profile that no exception names, which lack `requirements` at the `release` that they run."""

    release: str
    profile: int
    requirements: tuple[str, ...]
    devices: RunningSummary


def lacking_profiles(
    db: sqlite3.Connection, now: Snapshot, platform: Platform
) -> tuple[list[LackingProfile], list[Lacking]]:
    """What `lacking_of` finds: by profile where no exception names the devices, and one by one where some does."""
    apart: dict[str, dict[int, list[str]]] = {}
    for row in now.excepted_rows().values():
        if row.profile is not None and row.platform == platform.id:
            apart.setdefault(row.running_release, {}).setdefault(row.profile, []).append(row.id)
    together, alone = [], list[Lacking]()
    for release, profiles in failing_profiles(db, now, platform):
        unmet = _unmet_by_profile(now, platform, release, profiles, Sort.CHECK)
        found = _plain_runs(db, now, platform, release, unmet)
        for profile, checks in unmet.items():
            if (plain := found[profile].summary) is not None:
                together.append(LackingProfile(release, profile, tuple(sorted(checks)), plain))
        named = now.excepted(platform, release)
        wanted = [
            device
            for profile, devices in apart.get(release, {}).items()
            if (mine := unmet.get(profile))
            for device in devices
            if mine - named.get(device, frozenset())
        ]
        for part in arrived(db, release, unmet, wanted) if wanted else ():
            alone += _lacking_with_exceptions(db, now, platform, release, unmet, part).values()
    return together, alone


def first_lacking(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, site: str, after: LackingKey, limit: int
) -> list[Lacking]:
    """At most so many of what `lacking_of` finds, the longest without permission first, of one day
    those that lack the same together.

    Only the profiles are read that these are of. `site` leaves out devices at others; `after` those up to that place.
    """
    together, alone = lacking_profiles(db, now, platform)
    heap: list[tuple[LackingKey, Lacking | LackingProfile]] = []
    for one in alone:
        if site in ("", site_name(one.site)) and key_of(one) > after:
            heap.append((key_of(one), one))
    for profile in together:
        names, days = " ".join(profile.requirements), profile.devices
        last = LackingKey(days.last, names, profile.profile, LAST_ID)
        if (not site or site in map(site_name, days.sites)) and last > after:
            heap.append((LackingKey(days.first, names, profile.profile, ""), profile))
    heapify(heap)
    found: list[Lacking] = []
    while heap and len(found) < limit:
        _, nearest = heappop(heap)
        if isinstance(nearest, Lacking):
            found.append(nearest)
            continue
        unmet = {nearest.profile: frozenset(nearest.requirements)}
        runs = _plain_runs(db, now, platform, nearest.release, unmet)[nearest.profile]
        for device, run in runs.devices.values():
            lacking = _never(device, nearest.release, unmet, run)
            if site in ("", site_name(device.site)) and key_of(lacking) > after:
                heappush(heap, (key_of(lacking), lacking))
    return found


class LackingKey(NamedTuple):
    """The place of a device in the order of the list."""

    since: date
    requirements: str
    profile: int
    device: str


START = LackingKey(date.min, "", 0, "")
LAST_ID = "\U0010ffff"


def key_of(one: Lacking) -> LackingKey:
    return LackingKey(one.found.since, " ".join(one.found.requirements), one.profile, one.device)


def site_name(site: str) -> str:
    return site or "no site"


def floors_by_profile(
    db: sqlite3.Connection, now: Snapshot, platform: Platform
) -> Iterator[tuple[str, str, RunningSummary]]:
    """(release, floor, devices) by profile, where devices run a release with a floor unmet."""
    for release, profiles in failing_profiles(db, now, platform):
        unmet = _unmet_by_profile(now, platform, release, profiles, Sort.FLOOR)
        found = summaries(now.context, db, platform, dict.fromkeys(unmet, release), now.held_by_device())
        for profile, floors in unmet.items():
            for floor in sorted(floors):
                yield release, floor, found[profile].every


def _unmet_by_profile(
    now: Snapshot, platform: Platform, release: str, profiles: Collection[int], sort: Sort
) -> dict[int, frozenset[str]]:
    """Profile -> the requirements of one sort that it fails at a release; those that fail none are left out."""
    every = _unmet(now, platform, release, profiles)
    return {number: found for number, unmet in every.items() if (found := unmet.get(sort))}


def _unmet(
    now: Snapshot, platform: Platform, release: str, profiles: Collection[int]
) -> dict[int, dict[Sort | None, frozenset[str]]]:
    """Profile -> the requirements that it fails at a release, by sort; kept while rules and day are the same."""
    decisions = now.decisions_for(platform)
    rules = platform, decisions, rules_day(now.context, platform, release)
    known = now.context.cached(("unmet", platform.id, release), rules, dict[int, dict[Sort | None, frozenset[str]]])
    found, missing = held_of(known, profiles)
    if missing:
        every = assessments(now.context, platform, decisions, release, missing)
        alike = {id(assessed): assessed for assessed in every.values()}  # profiles with the same findings share theirs
        unmet = {at: _by_sort(assessed) for at, assessed in alike.items()}
        made = {number: unmet[id(assessed)] for number, assessed in every.items()}
        bounded(known, MOST_PROFILES).update(made)
        found |= made
    return found


def _by_sort(assessed: Assessment) -> dict[Sort | None, frozenset[str]]:
    found: dict[Sort | None, set[str]] = {}
    for finding in assessed.unmet():
        found.setdefault(finding.sort, set()).add(finding.requirement.id)
    return {sort: frozenset(names) for sort, names in found.items()}


def lacking_by_site(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Counter[str]:
    """Site -> how many devices `lacking_of` would find there, counted by profile."""
    found: Counter[str] = Counter()
    unmet = {
        release: _unmet_by_profile(now, platform, release, profiles, Sort.CHECK)
        for release, profiles in failing_profiles(db, now, platform)
    }
    places = devices_by_site(now.context, platform.id)
    for checks in unmet.values():
        for profile in checks:
            for site, devices in places.get(profile, ()):
                found[site] += devices
    named = {release: now.excepted(platform, release) for release in unmet}
    for row in now.excepted_rows().values():
        mine = unmet.get(row.running_release, {}).get(row.profile or 0)
        if mine and mine <= named[row.running_release].get(row.id, frozenset()):
            found[row.site] -= 1
    return +found


def failing_profiles(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[tuple[str, set[int]]]:
    by_release: dict[str, set[int]] = {}
    for number, row in now.profiles_in_use(platform).items():
        if platform.has(row.running_release):
            by_release.setdefault(row.running_release, set()).add(number)
    for release, profiles in sorted(by_release.items(), key=lambda entry: platform.index(entry[0])):
        if wrong := profiles & standings(now.context, platform, release).of.with_any(UNMET):
            yield release, wrong


def by_exception(
    now: Snapshot, standing: Iterable[ExceptionRow], begun_by: date = date.max
) -> Iterator[tuple[str, date]]:
    """Devices that run what one of these exceptions permits, each with the first day of that exception.

    Exceptions that begin after `begun_by` are left out.
    """
    for row in standing:
        since = date.fromisoformat(row.start_on)
        if row.state == ExceptionState.APPROVED and since <= begun_by:
            for device, _, _ in _running_by(now, row):
                yield device, since


def after_exception(db: sqlite3.Connection, now: Snapshot, standing: Iterable[ExceptionRow]) -> dict[str, ExceptionRow]:
    """Device -> the exception that ended last of those by which it still runs, though nothing permits that now.

    `standing` are those that nobody has ended, some perhaps past their last day.
    """
    found: dict[str, ExceptionRow] = {}
    for row in sorted(
        [*exception_store.ended_later(db), *standing], key=lambda row: (row.ended_on or row.expires_on, row.id)
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


def _running_by(now: Snapshot, row: ExceptionRow) -> Iterator[tuple[str, str, frozenset[str]]]:
    """The devices of an exception that run a release that it reaches, the release, and what it names that they fail."""
    sheet, held = now.sheets.get(row.platform), now.exception(id_of("EX", row.id))
    if sheet is None:
        return
    named, running = frozenset(row.requirements), dict[tuple[str, int], list[str]]()
    for one in now.rows_of_excepted(row.devices):
        if one.profile is not None and one.platform == row.platform:
            running.setdefault((one.running_release, one.profile), []).append(one.id)
    for runs in sorted({release for release, _ in running}):
        if sheet.platform.has(runs) and held.reaches(sheet.platform, runs):
            profiles = [profile for release, profile in running if release == runs]
            for profile, found in _unmet(now, sheet.platform, runs, profiles).items():
                if unmet := named.intersection(frozenset().union(*found.values())):
                    yield from ((device, runs, unmet) for device in running[runs, profile])
