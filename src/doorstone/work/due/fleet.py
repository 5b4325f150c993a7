"""What is due on the fleet: gathered from what devices run, kits, media, messages and the times of readings."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import date, timedelta

from doorstone.core.due.fleet import (
    EditionInUse,
    Running,
    contradiction_due,
    kit_due,
    late_releases,
    life_due,
    link_due,
    messages_due,
    servicing_due,
    silence_due,
    task_due,
    uncovered_due,
    unplaced_due,
)
from doorstone.core.due.items import Due, DueDevice
from doorstone.core.platforms.platform import Platform
from doorstone.store import attempts as attempt_store
from doorstone.store import kits as kit_store
from doorstone.store import media as media_store
from doorstone.store import platforms as sheet_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import lives as life_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.due.ageing import ageing_items
from doorstone.work.snapshot.failure_messages import list_messages
from doorstone.work.snapshot.running import RunningSummary, summaries
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.uncovered import floors_by_profile, lacking_profiles
from doorstone.work.snapshot.unplaced import unplaced_of


def fleet_items(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    ahead = now.today + timedelta(days=context.policy.ahead_days)
    for name in sorted(now.sheets):
        platform = now.sheets[name].platform
        yield from contradiction_due(platform, _floors(db, now, platform))
        yield from uncovered_due(_lacking(db, now, platform))
        yield from _messages(context, platform)
        yield from late_releases(platform, _shown(db, now, platform), now.today)
        yield from servicing_due(platform, _editions(db, now, platform), now.today)
    for media in media_store.every(db):
        if media.link_ends is not None and (ends := date.fromisoformat(media.link_ends)) <= ahead:
            what = f"{media.platform} {media.release}, {media.language}"
            yield link_due(id_of("MD", media.id), what, ends, now.today)
    yield from _kits(db, now, ahead)
    yield from _lives(db, ahead)
    yield from _tasks(db, now)
    yield from _silent(context, db, now)
    yield from ageing_items(context, db, now)
    yield from _unplaced(db, now)


def _device(row: DeviceRow) -> DueDevice:
    return DueDevice(row.id, row.site)


def _lacking(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Running]:
    """Checks unmet at the release that devices run, which no exception in force names."""
    together, alone = lacking_profiles(db, now, platform)
    for group in together:
        yield _running(group.devices, group.release, group.requirements)
    for one in alone:
        yield Running.one(DueDevice(one.device, one.site), one.release, one.found.requirements, one.found.since)


def _floors(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Running]:
    """Floors unmet at the release that devices run."""
    for release, floor, found in floors_by_profile(db, now, platform):
        yield _running(found, release, (floor,))


def _editions(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> list[EditionInUse]:
    """What the devices of a platform run, by release and edition."""
    profiles = {n: row.running_release for n, row in now.profiles_in_use(platform).items()}
    found: dict[tuple[str, str], list[tuple[int, frozenset[str]]]] = {}
    for profile, summary in summaries(now.context, db, platform, profiles, now.held_by_device()).items():
        for edition, counted in summary.editions.items():
            found.setdefault((profiles[profile], edition), []).append(counted)
    return [
        EditionInUse(release, edition, sum(n for n, _ in mine), frozenset().union(*(sites for _, sites in mine)))
        for (release, edition), mine in sorted(found.items())
    ]


def _running(found: RunningSummary, release: str, requirements: tuple[str, ...]) -> Running:
    return Running(found.devices, found.named, found.sites, release, requirements, found.first)


def _messages(context: Context, platform: Platform) -> Iterator[Due]:
    waiting = list_messages(context, platform.id, waiting=True)
    since = min((date.fromisoformat(one.last[:10]) for one in waiting), default=date.min)
    if due := messages_due(platform.id, [(one.text, one.devices) for one in waiting], since):
        yield due


def _shown(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> set[str]:
    """The releases that show: some device runs them, some media holds them, or an attempt was made."""
    runs = {row.running_release for row in now.profiles_in_use(platform).values()}
    media = {row.release for row in media_store.every(db) if row.platform == platform.id}
    return runs | media | attempt_store.releases_tried(db, platform.id)


def _kits(db: sqlite3.Connection, now: Snapshot, ahead: date) -> Iterator[Due]:
    used = {(a.kit, a.device) for a in attempt_store.every(db) if a.outcome == "completed"}
    for row in kit_store.every(db, None):
        last = date.fromisoformat(row.expires_on) if row.expires_on else None
        unused = [device for device in row.devices if (row.id, device) not in used and now.device(device).in_service]
        if unused and last is not None and now.today <= last <= ahead:
            yield kit_due(id_of("KT", row.id), [DueDevice(name, now.device(name).site) for name in unused], last)


def _tasks(db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    for row in sheet_store.tasks(db, "open"):
        devices = [_device(one) for one in now.rows(row.devices)]
        yield task_due(id_of("TS", row.id), row.words, row.owner, devices, date.fromisoformat(row.made_at[:10]))


def _lives(db: sqlite3.Connection, ahead: date) -> Iterator[Due]:
    changes = life_store.not_in_service(db)
    rows = {row.id: row for row in device_store.named(db, [one.device for one in changes])}
    read = device_store.read_on(db, rows)
    for one in changes:
        for due in life_due(_device(rows[one.device]), one.change, read.get(one.device)):
            if due.on <= ahead:
                yield due


def _unplaced(db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    alike: dict[tuple[str, str, str], list[tuple[str, DueDevice]]] = {}
    for row, found, last in unplaced_of(db, now):
        alike.setdefault((found.reason, found.value, found.hint), []).append((last, _device(row)))
    for (reason, value, hint), held in sorted(alike.items()):
        since = date.fromisoformat(min(last for last, _ in held)[:10])
        yield unplaced_due(reason, value, [device for _, device in held], hint, since)


def _silent(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    before = now.today - timedelta(days=context.policy.silent_days)
    by_site: dict[str, list[tuple[str, DueDevice]]] = {}
    for row, last in device_store.silent_since(db, before.isoformat()):
        by_site.setdefault(row.site, []).append((last, _device(row)))
    for site, held in sorted(by_site.items()):
        first = date.fromisoformat(min(last for last, _ in held)[:10])
        yield silence_due(site, [device for _, device in held], first, context.policy.silent_days)
