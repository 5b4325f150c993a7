"""Other spellings and former names of devices.

A device whose id is its own key (lower case, in normal form) has no row: its key finds it among the devices.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence

from rapidfuzz import process

from doorstone.core.devices.names import name_key
from doorstone.store.json_lists import json_list

NEAR = 75.0


def ids_of(db: sqlite3.Connection, names: Sequence[str]) -> dict[str, str]:
    """Name -> the id of the device that it names; a name of no device -> itself."""
    found = {name: name for name in names}
    there = _there(db, found)
    missing = [name for name in found if name not in there]
    if not missing:
        return found
    keys = {name: name_key(name) for name in missing}
    rows = db.execute(
        "SELECT n.name_key, n.device FROM json_each(?) AS j CROSS JOIN device_names AS n ON n.name_key = j.value",
        (json_list(keys.values()),),
    )
    known = {row[0]: row[1] for row in rows}
    plain = _there(db, keys.values())
    for name, key in keys.items():
        found[name] = known.get(key) or (key if key in plain else name)
    return found


def _there(db: sqlite3.Connection, names: Iterable[str]) -> set[str]:
    rows = db.execute(
        "SELECT d.id FROM json_each(?) AS j CROSS JOIN devices AS d ON d.id = j.value", (json_list(names),)
    )
    return {row[0] for row in rows}


def keep(db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Keep the keys of new devices, so that another spelling finds them. The first spelling of a key stays."""
    rows = [(key, name) for name in devices if (key := name_key(name)) != name]
    if rows:
        db.executemany("INSERT OR IGNORE INTO device_names (name_key, device) VALUES (?, ?)", rows)


def near(db: sqlite3.Connection, name: str) -> str:
    """The id most like a name among those that begin alike; empty if none is near."""
    start = name[: max(1, len(name) // 2)]
    rows = (
        db.execute(
            "SELECT id FROM devices WHERE id >= ?1 AND id < ?1 || char(1114111) ORDER BY id LIMIT 2000", (start,)
        ).fetchall()
        or db.execute("SELECT id FROM devices ORDER BY id LIMIT 2000").fetchall()
    )
    found = process.extractOne(name, [row[0] for row in rows], score_cutoff=NEAR)
    return str(found[0]) if found else ""
