"""What runs: the devices of a profile as a summary, and one by one, with the day on which their release came to them.

A summary is kept until something of its profile's devices changes; see `changed_at` of profiles.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Iterator, Mapping
from datetime import date
from heapq import nsmallest
from typing import NamedTuple

from doorstone.core.attempts import outcomes
from doorstone.core.due.items import MOST_NAMED, DueDevice
from doorstone.core.platforms.platform import Platform
from doorstone.store import attempts as attempt_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.snapshot.contents import batches, bounded
from doorstone.work.snapshot.rollback import ended_attempts

AT_ONCE = 5_000


class Arrived(NamedTuple):
    """A device of a profile, the day on which the release that it runs came to it, or it was first read, and the day on
    which it came on record."""

    device: str
    site: str
    profile: int
    edition: str
    on: date
    added: date


class RunningSummary(NamedTuple):
    """So many devices: the first few by id, their sites, the first and the last day on which their release came."""

    devices: int
    named: tuple[DueDevice, ...]
    sites: frozenset[str]
    first: date
    last: date


class ProfileSummary(NamedTuple):
    """The devices of a profile, and of these the ones that no exception names; None if there are none.

    `editions`: edition -> devices, and their sites.
    """

    every: RunningSummary
    plain: RunningSummary | None
    editions: Mapping[str, tuple[int, frozenset[str]]]


def summed(devices: Collection[Arrived]) -> RunningSummary | None:
    if not devices:
        return None
    named = nsmallest(MOST_NAMED, devices, key=lambda one: one.device)
    days = [one.on for one in devices]
    return RunningSummary(
        len(devices),
        tuple(DueDevice(one.device, one.site) for one in named),
        frozenset(one.site for one in devices),
        min(days),
        max(days),
    )


def summaries(
    context: Context, db: sqlite3.Connection, platform: Platform, profiles: Mapping[int, str], named: Collection[str]
) -> dict[int, ProfileSummary]:
    """The summaries of profiles, each with the release that it runs; `named` are the devices that exceptions name."""
    known: dict[int, tuple[int, ProfileSummary]] = context.cached(("running", platform.id), None, dict)
    changed = context.cached(
        ("profiles changed", platform.id), context.stamp().readings, lambda: profile_store.changed(db, platform.id)
    )
    found, missing = {}, dict[str, list[int]]()
    for profile, release in profiles.items():
        at, summary = known.get(profile, (-1, None))
        if summary is not None and at == changed[profile]:
            found[profile] = summary
        else:
            missing.setdefault(release, []).append(profile)
    for release, wanted in missing.items():
        for profile, devices in _by_profile(arrived(db, release, wanted)):
            every = summed(devices)
            assert every is not None
            plain = summed([one for one in devices if one.device not in named])
            found[profile] = ProfileSummary(every, plain, _editions(devices))
            bounded(known)[profile] = changed[profile], found[profile]
    return found


def _editions(devices: Iterable[Arrived]) -> dict[str, tuple[int, frozenset[str]]]:
    sites: dict[str, list[str]] = {}
    for one in devices:
        sites.setdefault(one.edition, []).append(one.site)
    return {edition: (len(mine), frozenset(mine)) for edition, mine in sites.items()}


def _by_profile(parts: Iterable[list[Arrived]]) -> Iterator[tuple[int, list[Arrived]]]:
    """The devices of one profile after the other; they come in the order of profiles."""
    held: list[Arrived] = []
    for part in parts:
        for one in part:
            if held and held[0].profile != one.profile:
                yield held[0].profile, held
                held = []
            held.append(one)
    if held:
        yield held[0].profile, held


def arrived(
    db: sqlite3.Connection, release: str, profiles: Collection[int], devices: Collection[str] | None = None
) -> Iterator[list[Arrived]]:
    """The devices of these profiles, or some of them, by profile and id, in parts, with the day their release came."""
    days: dict[str, date] = {}
    for part in batches(device_store.placed(db, profiles, devices), AT_ONCE):
        tried = attempt_store.of_devices(db, [name for name, *_ in part])
        found = []
        for name, site, profile, edition, added_at in part:
            day = added_at[:10]
            if day not in days:
                days[day] = date.fromisoformat(day)
            brought = outcomes.arrived_on(ended_attempts(tried[name]), release) if name in tried else None
            found.append(Arrived(name, site, profile, edition, brought or days[day], days[day]))
        yield found
