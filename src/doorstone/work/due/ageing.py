"""Readings that expire: gathered from the times of what each source reports, for devices whose state rests on them.

Devices of one class whose sources report the same facts from the same days expire alike, so one of them is settled.
"""

from __future__ import annotations

import sqlite3
from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator
from datetime import date, timedelta

from msgspec.structs import replace

from doorstone.core.due.fleet import expired_due, expiring_due
from doorstone.core.due.items import Due, DueDevice
from doorstone.core.facts import View
from doorstone.core.platforms.platform import Platform, target_release
from doorstone.core.readings.settle import expired_on
from doorstone.core.sorting.assessment import Finding, State, assess
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.devices.devices import Record
from doorstone.work.context.context import Context
from doorstone.work.snapshot.contents import batches, current_contents
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.standings import standings


def ageing_items(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """Readings that expire within `reread_days`, and readings that have expired, where a state rests on them."""
    last = now.today + timedelta(days=context.policy.reread_days)
    today = Settler(context, db, by=now.rules)

    def falls_on(record: Record) -> date | None:
        """The first day on which the state of a device is unsettled at some release because a reading has expired."""
        sheet = now.sheets.get(record.platform)
        if sheet is None or record.stands_until is None:
            return None
        day = date.fromisoformat(record.stands_until) + timedelta(days=1)
        then = Settler(context, db, by=replace(now.rules, today=day, classifiers={}, fresh_on={}))
        before, after = (
            unsettled_at(now, sheet.platform, settler.view(record.id, record), record) for settler in (today, then)
        )
        return day if after - before else None

    soon = profile_store.fallen(db, (last + timedelta(days=1)).isoformat())
    for site, (day, devices) in _by_site(db, today, soon, falls_on):
        yield expiring_due(site, devices, day - timedelta(days=1))

    heard_since = (now.today - timedelta(days=context.policy.silent_days)).isoformat()
    for platform in (now.sheets[name].platform for name in sorted(now.sheets)):

        def fell_on(record: Record, platform: Platform = platform) -> date | None:
            """The day on which the oldest reading expired that would settle the device at the target release."""
            if record.last_read_at < heard_since:  # an item of its own says that nothing was read of the device
                return None
            return _fell_on(now, platform, today.view(record.id, record), record)

        of = standings(context, platform, target_release(platform, now.today)).of
        open_profiles = [number for number in now.profiles_in_use(platform) if of.state(number) == State.UNSETTLED]
        names = device_store.ids_of_profiles(db, open_profiles)
        for site, (day, devices) in _by_site(db, today, names, fell_on):
            yield expired_due(platform.id, site, devices, day)


def unsettled_at(now: Snapshot, platform: Platform, view: View, record: Record) -> set[str]:
    """The releases, from the one that the device runs, at which it is unsettled."""
    if not platform.has(record.running_release):
        return set()
    ahead = platform.releases[platform.index(record.running_release) :]
    decisions = now.decisions_for(platform)
    return {
        release.id
        for release in ahead
        if assess(platform, release.id, view, decisions, record.id).state is State.UNSETTLED
    }


def _fell_on(now: Snapshot, platform: Platform, view: View, record: Record) -> date | None:
    assessment = assess(platform, target_release(platform, now.today), view, now.decisions_for(platform), record.id)
    unread = [f.requirement for f in assessment.findings if f.decides and f.finding is Finding.UNREAD]
    aged = {view.aged[name] for requirement in unread for name in requirement.condition.facts() if name in view.aged}
    days = [
        expired_on(now.rules.sources, now.specs, name, view.aged[name]) for name in view.aged if view.aged[name] in aged
    ]
    return min((day for day in days if day is not None), default=None)


def _by_site(
    db: sqlite3.Connection, settler: Settler, names: Iterable[str], day_of: Callable[[Record], date | None]
) -> Iterator[tuple[str, tuple[date, list[DueDevice]]]]:
    """Site -> the first day, and the devices that have one. `day_of` is asked once for devices that expire alike."""
    known: dict[Hashable, date | None] = {}
    found: defaultdict[str, list[tuple[date, DueDevice]]] = defaultdict(list)
    for part in batches(names, 1_000):
        records = device_store.records(db, part)
        reported = {name: current_contents(record) for name, record in records.items()}
        kept = settler.known.contents.kept(db, {number for mine in reported.values() for _, _, number in mine})
        for name, record in records.items():
            if record.profile is None:
                continue
            alike = (
                record.profile,
                *((source, at[:10], kept[n].shape, kept[n].more) for source, at, n in reported[name]),
            )
            if alike not in known:
                known[alike] = day_of(record)
            if (day := known[alike]) is not None:
                found[record.site].append((day, DueDevice(name, record.site)))
    for site, mine in sorted(found.items()):
        yield site, (min(day for day, _ in mine), sorted((device for _, device in mine), key=lambda d: d.id))
