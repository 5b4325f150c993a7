"""Changes of devices that exceptions name: which were written or placed anew, and when, by the count of changes."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from doorstone.store.json_lists import json_list


def note(db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Note the devices among these that an exception names: they were written or placed anew. The count goes up."""
    listed = json_list(devices)
    named = "SELECT DISTINCT x.device FROM json_each(?) AS j CROSS JOIN exception_devices AS x ON x.device = j.value"
    found = [row[0] for row in db.execute(named, (listed,))]
    if not found:
        return
    db.execute("UPDATE change_counters SET readings = readings + 1")
    at = db.execute("SELECT readings FROM change_counters").fetchone()[0]
    db.executemany(
        "INSERT INTO excepted_device_changes (device, at) VALUES (?, ?) ON CONFLICT DO UPDATE SET at = excluded.at",
        [(device, at) for device in found],
    )


def named(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, bool]:
    """The devices among these that an exception names -> whether one of its conditions rests on facts."""
    rows = db.execute(
        "SELECT x.device, MAX(EXISTS (SELECT 1 FROM exception_conditions AS c WHERE c.exception = x.exception"
        " AND c.fact_condition <> '')) FROM json_each(?) AS j CROSS JOIN exception_devices AS x ON x.device = j.value"
        " GROUP BY x.device",
        (json_list(devices),),
    )
    return {device: bool(by_facts) for device, by_facts in rows}


def since(db: sqlite3.Connection, at: int) -> list[str]:
    """The devices noted after a count."""
    return [row[0] for row in db.execute("SELECT device FROM excepted_device_changes WHERE at > ?", (at,))]


def named_in(db: sqlite3.Connection, exceptions: Iterable[int]) -> list[str]:
    """The devices that these exceptions name, or named."""
    rows = db.execute(
        "SELECT DISTINCT x.device FROM json_each(?) AS j CROSS JOIN exception_devices AS x ON x.exception = j.value",
        (json_list(exceptions),),
    )
    return [row[0] for row in rows]


def every_named(db: sqlite3.Connection) -> list[str]:
    """Every device that an exception names, or named."""
    return [row[0] for row in db.execute("SELECT DISTINCT device FROM exception_devices")]
