"""Devices that no sheet places: gathered from the records."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import NamedTuple

from doorstone.core.devices.unplaced import Unplaced, unplaced
from doorstone.store.devices import devices as store
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.snapshot.snapshot import Snapshot


class UnplacedDevice(NamedTuple):
    """A device, why no sheet places it, and the time of its newest reading."""

    row: DeviceRow
    found: Unplaced
    last_read_at: str


def unplaced_of(db: sqlite3.Connection, now: Snapshot) -> Iterator[UnplacedDevice]:
    """Every device of which no loaded sheet knows the platform and the release, by id."""
    platforms = {name: sheet.platform for name, sheet in now.sheets.items()}
    known = {name: [release.id for release in platform.releases] for name, platform in platforms.items()}
    for row, at in store.unplaced(db, known):
        found = unplaced(row.platform, row.running_release, platforms)
        if found is not None:
            yield UnplacedDevice(row, found, at)
