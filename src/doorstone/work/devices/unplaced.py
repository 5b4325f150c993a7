"""Devices that no sheet places: each with what its readings say, and what to do."""

from __future__ import annotations

from doorstone.work.context.context import Context
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.unplaced import UnplacedDevice, unplaced_of


def list_unplaced(context: Context) -> list[UnplacedDevice]:
    """Every device that no sheet places, by id."""
    with context.database.read() as db:
        return list(unplaced_of(db, snapshot(context)))
