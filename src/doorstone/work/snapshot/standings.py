"""All profiles of a platform against a release, kept in memory: which there are, and how each is sorted.

What it rests on is asked of the records each time: the profiles in use, the sheet, the decisions, the day. Profiles
never change, so only new ones are read; only rules that differ are applied anew.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from operator import attrgetter
from typing import Any, NamedTuple

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.forecast.batch import BatchForecaster
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, Decision
from doorstone.core.sorting.bulk_assessment import BulkAssessment, ProfileTable, SortedProfile, table_for
from doorstone.core.sorting.counts import Sorted
from doorstone.core.sorting.rules_basis import looks_at_days
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.devices.profiles import ProfileRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.settling import decisions_of, roll

turn = threading.RLock()
"""Held while a cached assessment is used: it grows as it is asked."""


@dataclass(frozen=True, slots=True)
class Standings:
    """The profiles in use by number, and each one's state and marks at a release."""

    rows: Mapping[int, ProfileRow]
    of: SortedProfile

    def chosen(self, where: DeviceFilter) -> set[int] | None:
        """The profiles whose state, model and marks fit; None if the filter asks for none of these."""
        if not (where.state or where.model or where.requirement):
            return None
        return {
            number
            for number in self.rows
            if (not where.state or self.of.state(number) == where.state) and self.fits(number, where)
        }

    def fits(self, number: int, where: DeviceFilter) -> bool:
        """Whether model and marks of a profile fit."""
        marks = {where.requirement: self.of.mark(number, where.requirement)} if where.requirement else {}
        return where.fits_class(self.rows[number].model, marks)


class Raised(NamedTuple):
    """A device that stands otherwise than its profile, because exceptions in force name what it fails."""

    row: DeviceRow
    before: str
    stands: Sorted


class _Cached:
    """Kept for one platform: the table of profiles, and an assessment per release with the rules it was made by."""

    def __init__(self, platform: Platform, names: Any, table: ProfileTable) -> None:
        self.platform = platform
        self.names = names
        self.table = table
        self.bulk: dict[str, tuple[Any, BulkAssessment]] = {}
        self.found: dict[str, tuple[Any, Standings]] = {}
        self.forecaster: tuple[Any, BatchForecaster] | None = None
        self.rows: tuple[int, Mapping[int, ProfileRow]] | None = None
        self._dated: dict[str, tuple[Platform, bool]] = {}

    def dated(self, release: str) -> bool:
        """Whether what the release asks is an answer of the day."""
        held = self._dated.get(release)
        if held is None or held[0] is not self.platform:
            held = self._dated[release] = (self.platform, looks_at_days(self.platform, release))
        return held[1]

    def in_use(self, context: Context, db: sqlite3.Connection, platform: str, devices: int) -> Mapping[int, ProfileRow]:
        """The profiles in use, read anew once a device has changed; `devices` is the count of such changes."""
        if self.rows is not None and self.rows[0] == devices and not context.database.writing:
            return self.rows[1]
        found = store.in_use(db, platform)
        if not context.database.writing:
            self.rows = devices, found
        return found


def standings(context: Context, platform: Platform, release: str) -> Standings:
    """How every profile in use stands at a release, by the records as they are now."""
    if not context.database.busy:
        roll(context)
    with context.database.read() as db:
        devices, decisions, today = context.stamp().devices, decisions_of(context, db, platform.id), context.today()
        with turn:
            cached = _cached(context, platform)
            key = (devices, decisions, today if cached.dated(release) else None, platform)
            held = cached.found.get(release)
            if held is not None and held[0] == key:
                return held[1]
            rows = cached.in_use(context, db, platform.id, devices)
            table = cached.table
            missing = [number for number in rows if number not in table.place]
            if missing and context.database.writing:
                # What this transaction has made may still be undone, and its numbers given to others.
                table = table_for(platform)
                table.add(store.contents(db, rows))
                bulk = BulkAssessment(platform, release, decisions, today, table)
                return Standings(rows, bulk.sort())
            if missing:
                table.add(store.contents(db, missing))
            found = Standings(rows, _bulk(cached, platform, release, decisions, today).sort())
            if not context.database.writing:
                cached.found[release] = (key, found)
            return found


def _cached(context: Context, platform: Platform) -> _Cached:
    """Kept for the platform; an empty one once its sheet looks at other facts, or too many profiles are of the past."""
    held: _Cached | None = context.memory.get(("bulk", platform.id))
    if held is not None and held.platform is platform and len(held.table.rows) <= MOST_ROWS:
        return held
    fresh = table_for(platform)
    if held is None or held.names != fresh.columns or len(held.table.rows) > MOST_ROWS:
        held = context.memory["bulk", platform.id] = _Cached(platform, fresh.columns, fresh)
    held.platform = platform
    return held


MOST_ROWS = 200_000


def _bulk(cached: _Cached, platform: Platform, release: str, decisions: Any, today: Any) -> BulkAssessment:
    rules = (platform, decisions, today if cached.dated(release) else None)
    held = cached.bulk.get(release)
    if held is None or held[0] != rules:
        held = cached.bulk[release] = (rules, BulkAssessment(platform, release, decisions, today, cached.table))
    return held[1]


def find_devices(
    context: Context,
    platform: Platform,
    release: str,
    where: DeviceFilter,
    raised: Mapping[str, Raised],
    after: str = "",
    limit: int = -1,
) -> list[tuple[DeviceRow, Sorted]]:
    """Devices of a platform by id, those after `after`, with how they stand at a release."""
    roll(context)
    with context.database.read() as db:
        found = standings(context, platform, release)
        profiles = found.chosen(where)
        left, come = _moved(found, where, raised)
        rows = device_store.find(db, platform.id, where, profiles, _few(found, profiles), after, limit, left)
        if come:
            rows = sorted([*rows, *device_store.find_named(db, where, come, after, limit)], key=attrgetter("id"))
    return [
        (row, raised[row.id].stands if row.id in raised else found.of[row.profile])
        for row in (rows if limit < 0 else rows[:limit])
        if row.profile is not None
    ]


def _moved(found: Standings, where: DeviceFilter, raised: Mapping[str, Raised]) -> tuple[list[str], list[str]]:
    """Devices whose profiles a filter by state chooses but not they themselves, and the other way round."""
    if not where.state:
        return [], []
    left = [name for name, one in raised.items() if one.before == where.state]
    come = [
        name
        for name, one in raised.items()
        if one.stands.state == where.state and found.fits(one.row.profile or 0, where)
    ]
    return left, come


def assessments(
    context: Context, platform: Platform, decisions: list[Decision], release: str, profiles: Collection[int]
) -> dict[int, Assessment]:
    """These profiles against a release, in full."""
    with context.database.read() as db, turn:
        cached = _with(context, db, platform, profiles)
        bulk = _bulk(cached, platform, release, decisions, context.today())
        return {number: bulk.assessment(number) for number in profiles}


def _with(context: Context, db: sqlite3.Connection, platform: Platform, profiles: Collection[int]) -> _Cached:
    """Kept for the platform, with these profiles in it; in a transaction that writes, one of its own for new ones."""
    cached = _cached(context, platform)
    missing = [number for number in profiles if number not in cached.table.place]
    if missing and context.database.writing:
        cached, missing = _Cached(platform, [], table_for(platform)), list(profiles)
    if missing:
        cached.table.add(store.contents(db, missing))
    return cached


def forecaster(
    context: Context, platform: Platform, decisions: list[Decision], profiles: Collection[int]
) -> BatchForecaster:
    """A forecaster that knows these profiles; what it has found out it keeps while rules and day are the same."""
    with context.database.read() as db, turn:
        cached = _with(context, db, platform, profiles)
        rests_on = (platform, decisions, context.today(), cached.table)
        if cached.forecaster is None or cached.forecaster[0] != rests_on:

            def bulk(release: str) -> BulkAssessment:
                return _bulk(cached, platform, release, decisions, context.today())

            cached.forecaster = (rests_on, BatchForecaster(platform, decisions, context.today(), bulk))
        return cached.forecaster[1]


FEW = 5_000


def _few(found: Standings, profiles: Collection[int] | None) -> bool:
    """Whether these profiles have so few devices that they are gone through one by one."""
    return profiles is not None and sum(found.rows[number].devices for number in profiles) <= FEW


def count_devices(
    context: Context, platform: Platform, release: str, where: DeviceFilter, raised: Mapping[str, Raised]
) -> int:
    """How many devices `find_devices` would find; asked of the counts by profile unless words are looked for."""
    roll(context)
    with context.database.read() as db:
        found = standings(context, platform, release)
        profiles = found.chosen(where)
        left, come = _moved(found, where, raised)
        left = [name for name in left if profiles is None or raised[name].row.profile in profiles]
        moved = len(device_store.find_named(db, where, come)) - len(device_store.find_named(db, where, left))
        if not (where.site or where.role or where.words):
            rows = found.rows if profiles is None else profiles
            return sum(found.rows[number].devices for number in rows) + moved
        return device_store.count(db, platform.id, where, profiles) + moved
