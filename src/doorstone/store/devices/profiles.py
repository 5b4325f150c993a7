"""Profiles: what devices share, how many are of each, and how each stands against a release."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable, Mapping
from typing import Any, NamedTuple

import msgspec

from doorstone.store.json_lists import json_list


class ProfileRow(NamedTuple):
    """A profile in use: how many devices have it, of which model, running which release."""

    devices: int
    model: str
    running_release: str


class ProfileCount(NamedTuple):
    """So many devices of a profile at one site in one role, with the profile's state and marks at a release."""

    profile: int
    site: str
    role: str
    model: str
    running_release: str
    devices: int
    state: str
    marks: Mapping[str, str]


def number_of(
    db: sqlite3.Connection,
    key: str,
    platform: str,
    model: str,
    running_release: str,
    own: str,
    content: Mapping[str, Any],
) -> int:
    """The number of the profile with this key. A new one is made if there is none."""
    if (number := find(db, key)) is not None:
        return number
    cursor = db.execute(
        "INSERT INTO profiles (platform, key, model, running_release, own, content) VALUES (?, ?, ?, ?, ?, ?)",
        (platform, key, model, running_release, own, json.dumps(content, separators=(",", ":"))),
    )
    return int(cursor.lastrowid or 0)


def find(db: sqlite3.Connection, key: str) -> int | None:
    """The number of the profile with this key; None if there is none."""
    row = db.execute("SELECT id FROM profiles WHERE key = ?", (key,)).fetchone()
    return None if row is None else int(row["id"])


def rekey(db: sqlite3.Connection, keys: Mapping[int, str]) -> set[int]:
    """Give profiles other keys. If several get the same key, the first keeps it and the others are returned."""
    db.executemany("UPDATE profiles SET key = 'was ' || id || ' ' || key WHERE id = ?", [(number,) for number in keys])
    first: dict[str, int] = {}
    for number, key in sorted(keys.items()):
        first.setdefault(key, number)
    db.executemany("UPDATE OR IGNORE profiles SET key = ? WHERE id = ?", list(first.items()))
    named = {row[0] for row in db.execute("SELECT id FROM profiles WHERE key NOT LIKE 'was %'")}
    return keys.keys() - named


def in_use(db: sqlite3.Connection, platform: str) -> dict[int, ProfileRow]:
    """The platform's profiles that devices have, by number."""
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    rows = cursor.execute(
        "SELECT id, devices, model, running_release FROM profiles WHERE platform = ? AND devices > 0 ORDER BY id",
        (platform,),
    )
    return {number: ProfileRow(devices, model, runs) for number, devices, model, runs in rows}


def newest_number(db: sqlite3.Connection) -> int:
    """The number of the profile that was made last; 0 if there is none."""
    return int(db.execute("SELECT COALESCE(MAX(id), 0) FROM profiles").fetchone()[0])


def contents(db: sqlite3.Connection, profiles: Iterable[int]) -> dict[int, dict[str, Any]]:
    return {number: msgspec.json.decode(text) for number, text in content_texts(db, profiles).items()}


def content_texts(db: sqlite3.Connection, profiles: Iterable[int]) -> dict[int, str]:
    """Profile -> its content, as JSON."""
    rows = db.execute(
        "SELECT id, content FROM profiles WHERE id IN (SELECT value FROM json_each(?))", (json_list(profiles),)
    )
    return {row[0]: row[1] for row in rows}


def touch(db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Attempts of devices, or whether exceptions name them, have changed: their profiles say so."""
    db.execute("UPDATE change_counters SET readings = readings + 1")
    db.execute(
        "UPDATE profiles SET changed_at = (SELECT readings FROM change_counters) WHERE id IN"
        " (SELECT d.profile FROM json_each(?) AS j CROSS JOIN devices AS d ON d.id = j.value)",
        (json_list(devices),),
    )


def changed(db: sqlite3.Connection, platform: str) -> dict[int, int]:
    """Profile in use -> the count of changes at which something of its devices changed last."""
    rows = db.execute("SELECT id, changed_at FROM profiles WHERE platform = ? AND devices > 0 ORDER BY id", (platform,))
    return {row[0]: row[1] for row in rows}


def places(
    db: sqlite3.Connection, platform: str, site: str = "", role: str = "", *, by_site: bool, by_role: bool
) -> list[tuple[int, str, str, int]]:
    """(profile, site, role, devices): where devices of the platform are, of one site or role if it is named.

    Sites and roles are added up, and left empty, unless they are told apart.
    """
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    apart = ", ".join(["profile", *(["site"] if by_site else []), *(["role"] if by_role else [])])
    return cursor.execute(
        f"SELECT profile, {'site' if by_site else _NONE}, {'role' if by_role else _NONE}, SUM(devices)"  # noqa: S608 - constants
        " FROM profile_locations WHERE platform = ?1 AND devices > 0 AND (?2 = '' OR site = ?2)"
        f" AND (?3 = '' OR role = ?3) GROUP BY {apart} ORDER BY {apart}",
        (platform, site, role),
    ).fetchall()


_NONE = "''"


_PAIRS = """
WITH RECURSIVE sites (site) AS (
    SELECT MIN(site) FROM profile_locations WHERE platform = :platform
    UNION ALL
    SELECT (SELECT MIN(site) FROM profile_locations WHERE platform = :platform AND site > sites.site)
    FROM sites WHERE site IS NOT NULL
), pairs (site, role) AS (
    SELECT site, (SELECT MIN(role) FROM profile_locations WHERE platform = :platform AND site = sites.site)
    FROM sites WHERE site IS NOT NULL
    UNION ALL
    SELECT site, (SELECT MIN(role) FROM profile_locations
                  WHERE platform = :platform AND site = pairs.site AND role > pairs.role)
    FROM pairs WHERE role IS NOT NULL
)"""
"""Every site and role of a platform's devices, found by one look at the index each."""


def by_site(
    db: sqlite3.Connection, platform: str, profiles: Collection[int] | None = None
) -> list[tuple[str, int, int]]:
    """(site, profile, devices), roles added up; of a few `profiles`, or of every one."""
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    if profiles is None:
        sql = (
            "SELECT site, profile, SUM(devices) FROM profile_locations WHERE platform = :platform AND devices > 0"
            " GROUP BY site, profile"
        )
        return cursor.execute(sql, {"platform": platform}).fetchall()
    sql = (
        f"{_PAIRS} SELECT l.site, l.profile, SUM(l.devices) FROM pairs CROSS JOIN json_each(:profiles) AS j"  # noqa: S608
        " CROSS JOIN profile_locations AS l ON l.platform = :platform AND l.site = pairs.site AND l.role = pairs.role"
        " AND l.profile = j.value WHERE l.devices > 0 GROUP BY l.site, l.profile"
    )
    return cursor.execute(sql, {"platform": platform, "profiles": json_list(sorted(profiles))}).fetchall()


def sites_and_roles(db: sqlite3.Connection, platform: str) -> list[tuple[str, str]]:
    """The pairs of site and role that devices of the platform have."""
    rows = db.execute(
        "SELECT DISTINCT site, role FROM profile_locations WHERE platform = ? AND devices > 0", (platform,)
    )
    return [(row[0], row[1]) for row in rows]


def sizes(db: sqlite3.Connection, platform: str) -> dict[int, int]:
    """Devices per profile of a platform."""
    rows = db.execute("SELECT id, devices FROM profiles WHERE platform = ? AND devices > 0 ORDER BY id", (platform,))
    return {row["id"]: row["devices"] for row in rows}


def devices_by_platform(db: sqlite3.Connection) -> dict[str, int]:
    """Platform -> devices."""
    rows = db.execute("SELECT platform, SUM(devices) AS devices FROM profiles WHERE devices > 0 GROUP BY platform")
    return {row["platform"]: row["devices"] for row in rows}


def keep_settled_day(db: sqlite3.Connection, day: str) -> None:
    db.execute("UPDATE change_counters SET day = ?", (day,))


class Stamp(NamedTuple):
    """Counts that grow: the ledger with every deed, `devices` with every device of which more than a time or value
    changed, `readings` with every reading, `people` with every right.

    `day` is the day for which devices are settled, empty before the first.
    """

    ledger: int
    devices: int
    people: int
    day: str
    readings: int


def stamp(db: sqlite3.Connection) -> Stamp:
    """How far the records have come. A result holds as long as the counts it rests on are unchanged."""
    row = db.execute(
        "SELECT (SELECT COALESCE(MAX(seq), 0) FROM ledger), changes, people, day, readings FROM change_counters"
    ).fetchone()  # fmt: skip
    return Stamp(*row)


_READ_DAYS = """
WITH RECURSIVE days (day) AS (
    SELECT MIN(SUBSTR(last_read_at, 1, 10)) FROM devices
    UNION ALL
    SELECT (SELECT MIN(SUBSTR(last_read_at, 1, 10)) FROM devices WHERE SUBSTR(last_read_at, 1, 10) > days.day)
    FROM days WHERE day IS NOT NULL
)"""
"""The days on which devices were read last, of which there are few, found one after the other in their index."""


def fallen(db: sqlite3.Connection, day: str) -> list[str]:
    """Devices on which some word has aged out before `day`."""
    rows = db.execute(
        f"{_READ_DAYS} SELECT d.id FROM days CROSS JOIN devices AS d ON SUBSTR(d.last_read_at, 1, 10) = days.day"  # noqa: S608
        " AND d.stands_until < ? ORDER BY d.id",
        (day,),
    )
    return [row["id"] for row in rows]
