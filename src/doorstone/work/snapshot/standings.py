"""All profiles of a platform against a release, kept in memory: which there are, and how each is sorted.

What it rests on is asked of the records each time: the profiles in use, the sheet, the decisions, the day. Profiles
never change, so only new ones are read; only rules that differ are applied anew.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import date
from operator import attrgetter
from typing import Any, NamedTuple, TypeVar

from msgspec import Struct

from doorstone.core.attempts.override_results import OverrideResults
from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.profiles import view_of
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.forecast.batch import BatchForecaster
from doorstone.core.forecast.device_forecast import Forecast
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, Decision
from doorstone.core.sorting.bulk_assessment import BulkAssessment, SortedProfile, table_for
from doorstone.core.sorting.counts import Sorted
from doorstone.core.sorting.profile_table import ProfileTable, ProfileValues
from doorstone.core.sorting.rules_basis import looks_at_days
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.devices.profiles import ProfileRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.settling import decisions_of, roll

T = TypeVar("T")


class Standings(Struct, frozen=True):
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


class _Profiles:
    """The contents of a platform's profiles, used by one thread at a time, which holds `lock`: they grow as asked.

    `table` is the one that the newest sheet made of them.
    """

    def __init__(self) -> None:
        self.values = ProfileValues()
        self.table: ProfileTable | None = None
        self.lock = threading.RLock()


class _Board:
    """The profiles of a platform as rows of a table, and what was worked out on them.

    It is used by one thread at a time, which holds `lock`. A profile never changes, so what the table holds cannot be
    old.
    """

    def __init__(self, platform: Platform, as_of: date, profiles: _Profiles) -> None:
        self.table = table_for(platform, as_of, profiles.values)
        self.lock = profiles.lock
        with self.lock:
            if profiles.table is not None:
                self.table.take_over(profiles.table)
            profiles.table = self.table

    def add(self, db: sqlite3.Connection, profiles: Collection[int]) -> None:
        """Read those of these profiles that are not in the table yet."""
        if missing := [number for number in profiles if number not in self.table.place]:
            values = self.table.values
            values.add(store.content_texts(db, [number for number in missing if number not in values.place]))
            self.table.add(missing)


def _board(context: Context, db: sqlite3.Connection, platform: Platform) -> _Board:
    """The board of a platform, an empty one once its sheet makes other tests or too many profiles are of the past.

    A transaction that writes has one of its own: what it makes may be undone, and its numbers given to others.
    """
    today, part = context.today(), store.newest_number(db) // MOST_ROWS
    basis = context.cached(("tests", platform.id), platform, lambda: Classifier(platform, today).basis, stable=True)
    profiles = context.cached(("profile values", platform.id), part, _Profiles, stable=True)
    return context.cached(
        ("board", platform.id), (basis, part, profiles), lambda: _Board(platform, today, profiles), stable=True
    )


MOST_ROWS = 200_000


def standings(context: Context, platform: Platform, release: str) -> Standings:
    """How every profile in use stands at a release, by the records as they are now."""
    if not context.database.busy:
        roll(context)
    key = ("standings", platform.id, release)
    return context.known_now(key, platform, lambda: _standings(context, platform, release))


def _standings(context: Context, platform: Platform, release: str) -> Standings:
    with context.database.read() as db:
        devices, decisions = context.stamp().devices, decisions_of(context, db, platform.id)
        board = _board(context, db, platform)
        rules = platform, decisions, rules_day(context, platform, release)

        def make() -> Standings:
            rows = profiles_in_use(context, platform)
            with board.lock:
                board.add(db, rows)
                return Standings(rows, _bulk(context, board, platform, release, decisions).sort())

        return context.cached(("standings", platform.id, release), (devices, rules), make)


def profiles_in_use(context: Context, platform: Platform) -> Mapping[int, ProfileRow]:
    """The profiles that devices of the platform have, by number; read anew once devices have moved."""

    def read() -> dict[int, ProfileRow]:
        with context.database.read() as db:
            return store.in_use(db, platform.id)

    return context.cached(("profiles in use", platform.id), context.stamp().devices, read)


def rules_day(context: Context, platform: Platform, release: str) -> date | None:
    """The day, if the release asks something that depends on the day."""
    dated = context.cached(
        ("dated", platform.id, release), platform, lambda: looks_at_days(platform, release), stable=True
    )
    return context.today() if dated else None


def _bulk(
    context: Context, board: _Board, platform: Platform, release: str, decisions: Sequence[Decision]
) -> BulkAssessment:
    rules = platform, decisions, rules_day(context, platform, release), board

    def make() -> BulkAssessment:
        return BulkAssessment(platform, release, decisions, context.today(), board.table)

    return context.cached(("bulk assessment", platform.id, release), rules, make, stable=True)


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
        without = [row.id for row in left]
        rows = device_store.find(db, platform.id, where, profiles, _few(found, profiles), after, limit, without)
        if come:
            rows = sorted([*rows, *(row for row in come if row.id > after)], key=attrgetter("id"))
    return [
        (row, raised[row.id].stands if row.id in raised else found.of[row.profile])
        for row in (rows if limit < 0 else rows[:limit])
        if row.profile is not None
    ]


def devices_of_profiles(
    context: Context, platform: Platform, release: str, where: DeviceFilter, profiles: Collection[int], size: int = 200
) -> Iterator[list[DeviceRow]]:
    """The devices of profiles by id, in parts, those at the filter's site, in its role and with its words."""
    with context.database.read() as db:
        few, after = _few(standings(context, platform, release), profiles), ""
        while part := device_store.find(db, platform.id, where, profiles, few, after, size):
            yield part
            after = part[-1].id


def _moved(
    found: Standings, where: DeviceFilter, raised: Mapping[str, Raised]
) -> tuple[list[DeviceRow], list[DeviceRow]]:
    """Devices that a filter by state leaves out although their profile fits, and those it chooses the other way."""
    left, come = list[DeviceRow](), list[DeviceRow]()
    fits: dict[int, bool] = {}
    for row, before, stands in raised.values() if where.state else ():
        if where.state not in (before, stands.state):
            continue
        profile = row.profile or 0
        if profile not in fits:
            fits[profile] = found.fits(profile, where)
        if fits[profile] and where.fits_device(row.id, row.name, row.site, row.role, row.model):
            (left if before == where.state else come).append(row)
    return left, come


def assessments(
    context: Context, platform: Platform, decisions: list[Decision], release: str, profiles: Collection[int]
) -> dict[int, Assessment]:
    """These profiles against a release, in full."""
    with context.database.read() as db:
        board = _board(context, db, platform)
        with board.lock:
            board.add(db, profiles)
            bulk = _bulk(context, board, platform, release, decisions)
            return {number: bulk.assessment(number) for number in profiles}


def profile_view(context: Context, platform: Platform, profiles: Collection[int]) -> Callable[[int], tuple[View, str]]:
    """A function from the number of one of these profiles to its view and the device that has it alone, if one."""
    with context.database.read() as db:
        board = _board(context, db, platform)
        with board.lock:
            board.add(db, profiles)
    today = context.today()

    def view(number: int) -> tuple[View, str]:
        content = board.table.values.content(number)
        return view_of(content, platform.specs, today), str(content["own"])

    return view


def by_outcome(
    context: Context,
    platform: Platform,
    decisions: list[Decision],
    release: str,
    profiles: Collection[int],
    what: str,
    make: Callable[[int], T],
    needs: Collection[str] = (),
) -> dict[int, T]:
    """What `make` says of each profile at a release: asked once for those with the same findings, and kept.

    `what` names the question. `needs` are facts on which the answer rests beside the findings.
    """
    with context.database.read() as db:
        board = _board(context, db, platform)
        with board.lock:
            board.add(db, profiles)
            bulk = _bulk(context, board, platform, release, decisions)
            table = board.table
            columns = [table.column(table.at[name]) for name in sorted(needs) if name in table.at]
            outcomes = {
                number: (bulk.outcome(number), *[column[table.place[number]] for column in columns])
                for number in profiles
            }
        known: dict[Any, T] = context.cached((what, platform.id, release), bulk, dict, stable=True)
        for number, outcome in outcomes.items():
            if outcome not in known:
                known[outcome] = make(number)
        return {number: known[outcome] for number, outcome in outcomes.items()}


class Forecaster:
    """Forecasts profiles of a platform; what it has found out it keeps while rules and day are the same.

    A `bare` one knows no override.
    """

    def __init__(
        self, context: Context, db: sqlite3.Connection, platform: Platform, decisions: list[Decision],
        profiles: Collection[int], *, bare: bool = False,
    ) -> None:  # fmt: skip
        self._board = board = _board(context, db, platform)
        with board.lock:
            board.add(db, profiles)

        def make() -> BatchForecaster:
            return BatchForecaster(
                platform,
                decisions,
                context.today(),
                board.table,
                lambda release: _bulk(context, board, platform, release, decisions),
            )

        rules = (platform, decisions, context.today(), board)
        self._batch = context.cached(("forecaster", platform.id), rules, make)
        if bare:
            whole = self._batch
            self._batch = context.cached(("bare forecaster", platform.id), whole, whole.without_overrides)

    def forecast(self, profile: int, exceptions: tuple[ExceptionTerms, ...], known: OverrideResults) -> Forecast | None:
        with self._board.lock:
            return self._batch.forecast(profile, exceptions, known)


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
        moved = len(come) - len(left)
        if not (where.site or where.role or where.words):
            rows = found.rows if profiles is None else profiles
            return sum(found.rows[number].devices for number in rows) + moved
        return device_store.count(db, platform.id, where, profiles) + moved
