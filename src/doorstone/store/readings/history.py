"""Past readings: what was read of devices, when something was decided about them, and forgetting it."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from doorstone.core.readings.history import PastReading
from doorstone.store.json_lists import json_list
from doorstone.store.readings import contents, quiet
from doorstone.store.readings.quiet import ToQuieten


def next_devices(db: sqlite3.Connection, many: int) -> list[str]:
    """The devices whose history is looked at next, in turn; empty once all were, and the turn begins anew."""
    after = db.execute("SELECT history_at FROM change_counters").fetchone()[0]
    rows = db.execute("SELECT id FROM devices WHERE id > ? ORDER BY id LIMIT ?", (after, many))
    return [row[0] for row in rows]


def keep_turn(db: sqlite3.Connection, device: str) -> None:
    """Note the device up to which history was looked at. Empty begins the turn anew."""
    db.execute("UPDATE change_counters SET history_at = ?", (device,))


def readings(db: sqlite3.Connection, devices: Sequence[str]) -> dict[str, list[PastReading]]:
    """Device -> its readings, quiet ones too, by time."""
    rows = db.execute(
        "SELECT r.device, r.source, r.taken_at, r.content, r.changed FROM json_each(?) AS j"
        " CROSS JOIN readings AS r ON r.device = j.value",
        (json_list(devices),),
    )
    found: dict[str, list[PastReading]] = {}
    for device, source, taken_at, content, changed in rows:
        found.setdefault(device, []).append(PastReading(source, taken_at, content, bool(changed)))
    for one in quiet.of_devices(db, devices):
        found.setdefault(one.device, []).append(PastReading(one.source, one.taken_at, one.base, False, quiet=True))
    return found


class FirstChange(NamedTuple):
    """How many readings of a device that moved an answer are kept, and the day of the first of them."""

    readings: int
    day: str


def first_changes(db: sqlite3.Connection, devices: Sequence[str]) -> dict[str, FirstChange]:
    """Device -> its kept readings that moved an answer; devices without any are left out."""
    rows = db.execute(
        "SELECT r.device, COUNT(*), MIN(r.taken_at) FROM json_each(?) AS j CROSS JOIN readings AS r"
        " ON r.device = j.value WHERE r.changed = 1 GROUP BY r.device",
        (json_list(devices),),
    )
    return {row[0]: FirstChange(row[1], row[2][:10]) for row in rows}


def decided_at(db: sqlite3.Connection, devices: Sequence[str]) -> dict[str, list[str]]:
    """Device -> when something was decided about it: approvals, kits, settlements, attempts."""
    rows = db.execute(
        "WITH asked AS (SELECT value AS device FROM json_each(?))"
        " SELECT x.device, a.at FROM asked CROSS JOIN exception_devices AS x USING (device)"
        " CROSS JOIN exception_approvals AS a ON a.exception = x.exception"
        " UNION SELECT x.device, k.made_at FROM asked CROSS JOIN kit_devices AS x USING (device)"
        " CROSS JOIN kits AS k ON k.id = x.kit"
        " UNION SELECT device, at FROM asked CROSS JOIN settlements USING (device)"
        " UNION SELECT device, ended_at FROM asked CROSS JOIN attempts USING (device)",
        (json_list(devices),),
    )
    found: dict[str, list[str]] = {}
    for device, at in rows:
        found.setdefault(device, []).append(at)
    return found


def forget(db: sqlite3.Connection, found: Mapping[str, Iterable[PastReading]]) -> int:
    """Forget readings of devices, and their contents where nothing else holds these. Returns how many readings."""
    every = [(device, one) for device, held in found.items() for one in held]
    quiet.forget(db, [(device, one.source, one.taken_at) for device, one in every if one.quiet])
    _drop(db, [(device, one.source, one.taken_at, one.content) for device, one in every if not one.quiet])
    return len(every)


def quieten(db: sqlite3.Connection, readings: Sequence[ToQuieten]) -> None:
    """Keep readings as quiet ones only, where their base says nearly the same."""
    _drop(db, [(one.device, one.source, one.taken_at, one.content) for one in quiet.quieten(db, readings)])


def _drop(db: sqlite3.Connection, readings: Sequence[tuple[str, str, str, int]]) -> None:
    """Delete readings, and their contents where nothing else holds these."""
    keys = [key[:3] for key in readings]
    db.executemany("DELETE FROM readings WHERE device = ? AND source = ? AND taken_at = ?", keys)
    contents.drop_unheld(db, contents.release(db, [content for _, _, _, content in readings]))
