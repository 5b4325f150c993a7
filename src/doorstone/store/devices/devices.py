"""Devices as they stand, and the history of their readings."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date
from operator import itemgetter
from typing import Any, NamedTuple

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import Life
from doorstone.store.devices import excepted_changes
from doorstone.store.devices import names as device_names
from doorstone.store.devices.profiles import devices_by_platform
from doorstone.store.json_lists import json_list
from doorstone.store.ledger_changes import DEVICE_SEAL
from doorstone.store.readings import contents, quiet
from doorstone.store.readings.contents import Content


class DeviceRow(Struct, frozen=True):
    """A device as it is settled: `profile` is None while no sheet describes its platform, or it is not in service."""

    id: str
    name: str
    site: str
    role: str
    critical: bool
    platform: str
    model: str
    running_release: str
    edition: str
    profile: int | None
    life: Life = Life.IN_SERVICE

    @property
    def in_service(self) -> bool:
        return self.life is Life.IN_SERVICE


class Record(NamedTuple):
    """A device's whole row. `current_contents`: what each source says now, by source, time and number of the content.

    `profile` is None while no sheet describes its platform, or it is not in service; `stands_until` is the last day on
    which it is as it was settled, None if no word on it ages; `last_import_id` is the import that spoke of it last,
    `last_read_at` the time of the newest reading.
    """

    id: str
    name: str
    site: str
    role: str
    critical: int
    added_at: str
    platform: str
    model: str
    running_release: str
    edition: str
    profile: int | None
    stands_until: str | None
    current_contents: str
    last_import_id: int | None
    last_read_at: str = ""
    life: str = Life.IN_SERVICE


def new_record(device: str, at: str) -> Record:
    return Record(device, "", "", "", 0, at, "", "", "", "", None, None, "[]", None)


class ReadingRow(Struct, frozen=True):
    device: str
    source: str
    taken_at: str
    facts: Mapping[str, Any]
    verdicts: Mapping[str, bool]
    unread: Mapping[str, str]
    texts: Sequence[str]


_COLUMNS = (
    "d.id, d.name, d.site, d.role, d.critical, d.platform, d.model, d.running_release, d.edition, d.profile, d.life"
)
MOSTLY = 5  # a platform with more than one device in so many has most of them
_LIVES = {life.value: life for life in Life}


def _row(columns: tuple[Any, ...]) -> DeviceRow:
    """A device of `_COLUMNS`."""
    device, name, site, role, critical, platform, model, runs, edition, profile, life = columns
    return DeviceRow(device, name, site, role, critical == 1, platform, model, runs, edition, profile, _LIVES[life])


def _plain(db: sqlite3.Connection, sql: str, values: Any) -> sqlite3.Cursor:
    """Rows as plain tuples, as many are read."""
    cursor = db.cursor()
    cursor.row_factory = None
    return cursor.execute(sql, values)


def records(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, Record]:
    """The whole rows of these devices. Devices that do not exist are left out."""
    rows = _plain(
        db,
        "SELECT d.id, name, site, role, critical, added_at, platform, model, running_release, edition, profile,"
        " stands_until, current_contents, last_import_id, last_read_at, life"
        " FROM json_each(?) AS j CROSS JOIN devices AS d ON d.id = j.value",
        (json_list(devices),),
    )
    return {row[0]: Record._make(row) for row in rows}


class GuardedAttributes(NamedTuple):
    """What of a device rules rest on beside its readings; None for what is not reported."""

    site: str | None
    role: str | None
    critical: int | None


NOTHING_REPORTED = GuardedAttributes(None, None, None)


def otherwise(
    db: sqlite3.Connection, devices: Iterable[str], reported: GuardedAttributes
) -> dict[str, GuardedAttributes]:
    """The devices among these of which an attribute differs from what is reported, as they are."""
    rows = _plain(
        db,
        "SELECT d.id, d.site, d.role, d.critical FROM json_each(?1) AS j CROSS JOIN devices AS d ON d.id = j.value"
        " WHERE d.site <> ?2 OR d.role <> ?3 OR d.critical <> ?4",  # a comparison with NULL never holds
        (json_list(devices), *reported),
    )
    return {device: GuardedAttributes(*held) for device, *held in rows}


ReadRow = tuple[str, str | None, str, int | None, str]
"""What a reading changes in the row of a device that stays in its class and place: `stands_until`, `current_contents`,
`last_import_id`, `last_read_at`, behind its id."""


def put(
    db: sqlite3.Connection,
    held: Mapping[str, Record],
    now: Iterable[Record],
    read: Iterable[ReadRow] = (),
    unaffected: Collection[str] = (),
) -> set[str]:
    """Write rows, and how many devices are where. `held` are the rows before; a device without one is new.

    On devices in `unaffected` nothing changed that an exception rests on. Returns the devices that are new, or of which
    more than the newest reading changed. This alone writes devices: the counts by profile, site and role change with
    them, in one transaction.
    """
    added, moved = list[Record](), list[Record]()
    read = [row for row in read if row[1:] != held[row[0]][11:15]]
    for record in now:
        before = held.get(record[0])
        if before is None:
            added.append(record)
        elif record[:11] != before[:11]:
            moved.append(record)
        elif record != before:
            read.append(_what_was_read(record))
    db.executemany(
        "INSERT INTO devices (id, name, site, role, critical, added_at, platform, model, running_release, edition,"  # noqa: S608
        " profile, stands_until, current_contents, last_import_id, last_read_at, seal)"
        f" VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, {_SEAL_OF_NEW})",
        [record[:15] for record in added],
    )
    device_names.keep(db, [record[0] for record in added])
    db.executemany(
        "UPDATE devices SET stands_until = ?2, current_contents = ?3, last_import_id = ?4, last_read_at = ?5"
        " WHERE id = ?1",
        read,
    )
    db.executemany(
        "UPDATE devices SET name = ?2, site = ?3, role = ?4, critical = ?5, platform = ?7, model = ?8,"
        " running_release = ?9, edition = ?10, profile = ?11, stands_until = ?12, current_contents = ?13,"
        " last_import_id = ?14, last_read_at = ?15 WHERE id = ?1",
        [record[:15] for record in moved],
    )
    _seal(db, [r[0] for r in moved if (r.site, r.role, r.critical) != _guarded(held[r[0]])])
    steps: Counter[tuple[int | None, str, str, str]] = Counter(map(_where_it_counts, added))
    steps.update(map(_where_it_counts, moved))
    steps.subtract(map(_where_it_counts, (held[record.id] for record in moved)))
    if added or moved:
        db.execute("UPDATE change_counters SET changes = changes + 1, readings = readings + 1")
    elif read:
        db.execute("UPDATE change_counters SET readings = readings + 1")
    _count(db, steps)
    written = [row[0] for row in read] + [record.id for record in moved]
    excepted_changes.note(db, [device for device in written if device not in unaffected])
    return {record[0] for part in (added, moved) for record in part}


_SEAL_OF_NEW = (
    DEVICE_SEAL.replace("|| id", "|| ?1").replace("site", "?3").replace("role", "?4").replace("critical", "?5")
)


def _guarded(record: Record) -> tuple[str, str, int]:
    return record.site, record.role, record.critical


def _seal(db: sqlite3.Connection, devices: Sequence[str]) -> None:
    """Seal the attributes of these devices that rules rest on."""
    db.execute(
        f"UPDATE devices SET seal = {DEVICE_SEAL} WHERE id IN (SELECT value FROM json_each(?))",  # noqa: S608
        (json_list(devices),),
    )


_what_was_read = itemgetter(
    *map(Record._fields.index, ("id", "stands_until", "current_contents", "last_import_id", "last_read_at"))
)
_where_it_counts = itemgetter(*map(Record._fields.index, ("profile", "platform", "site", "role")))


def _count(db: sqlite3.Connection, moved: Mapping[tuple[int | None, str, str, str], int]) -> None:
    of_profile: Counter[int] = Counter()
    steps = []
    for (profile, platform, site, role), by in moved.items():
        if by and profile is not None:
            of_profile[profile] += by
            steps.append((platform, site, role, profile, by))
    db.executemany(
        "INSERT INTO profile_locations (platform, site, role, profile, devices) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT DO UPDATE SET devices = devices + excluded.devices",
        sorted(steps),
    )
    at = db.execute("SELECT readings FROM change_counters").fetchone()[0]
    db.executemany(
        "UPDATE profiles SET devices = devices + ?2, changed_at = ?3 WHERE id = ?1",
        [(number, by, at) for number, by in of_profile.items()],
    )


def row_of(record: Record) -> DeviceRow:
    """The device as it is settled, from its whole row."""
    one, name, site, role, critical, _, platform, model, running_release, edition, profile, *_, life = record
    return DeviceRow(
        one, name, site, role, bool(critical), platform, model, running_release, edition, profile, Life(life)
    )


def set_life(db: sqlite3.Connection, devices: Iterable[str], life: Life) -> None:
    """Put devices into a life. The caller places them anew."""
    db.executemany("UPDATE devices SET life = ? WHERE id = ?", [(life.value, name) for name in devices])
    db.execute("UPDATE change_counters SET changes = changes + 1, readings = readings + 1")


def named(db: sqlite3.Connection, devices: Iterable[str]) -> list[DeviceRow]:
    """The devices among these that exist, by id."""
    listed = json_list(sorted(set(devices)))
    sql = f"SELECT {_COLUMNS} FROM json_each(?) AS j CROSS JOIN devices AS d ON d.id = j.value"  # noqa: S608 - constants
    return list(map(_row, _plain(db, sql, (listed,))))


def at_site(db: sqlite3.Connection, site: str) -> list[DeviceRow]:
    """Every device at a site, of whatever platform and life, by id."""
    sql = f"SELECT {_COLUMNS} FROM devices AS d WHERE site = ? ORDER BY id"  # noqa: S608 - constants
    return list(map(_row, _plain(db, sql, (site,))))


def find(
    db: sqlite3.Connection,
    platform: str,
    where: DeviceFilter,
    profiles: Collection[int] | None,
    few: bool,
    after: str,
    limit: int,
    without: Collection[str] = (),
) -> list[DeviceRow]:
    """Devices of a platform by id, those after `after`, of these profiles.

    `few`: the profiles have few devices, so look these up; else walk the platform's devices in the order of the page.

    State, model and marks of the filter are what `profiles` stands for. Those in `without` are left out.
    """
    parts, values = _where(where, profiles, indexed=False)
    source = "devices AS d"
    if few and profiles is not None:  # a cross join is carried out in the order in which it is written
        source = "json_each(:profiles) AS p CROSS JOIN devices AS d ON d.profile = p.value"
    if without:
        parts += " AND d.id NOT IN (SELECT value FROM json_each(:without))"
        values["without"] = json_list(sorted(without))
    rows = _plain(
        db,
        f"SELECT {_COLUMNS} FROM {source}"  # noqa: S608 - the parts are constants of this module
        f" WHERE {_of_platform(db, platform, where)} AND d.id > :after{parts} ORDER BY d.id LIMIT :limit",
        {**values, "platform": platform, "after": after, "limit": limit},
    )
    return list(map(_row, rows))


def count(db: sqlite3.Connection, platform: str, where: DeviceFilter, profiles: Collection[int] | None) -> int:
    """How many devices `find` would find; asked of the counts by place unless words are looked for."""
    parts, values = _where(where, profiles)
    sql = "COUNT(*) FROM devices" if where.words else "COALESCE(SUM(d.devices), 0) FROM profile_locations"
    of_platform = _of_platform(db, platform, where)
    found = db.execute(f"SELECT {sql} AS d WHERE {of_platform}{parts}", {**values, "platform": platform})
    return int(found.fetchone()[0])


def _of_platform(db: sqlite3.Connection, platform: str, where: DeviceFilter) -> str:
    """The condition on the platform. To look for words in names of most devices, all are gone through in their order,
    which takes a fraction of looking each up by an index: with a plus, SQLite uses none.
    """
    if where.words:
        devices = devices_by_platform(db)
        if MOSTLY * devices.get(platform, 0) >= sum(devices.values()):
            return "+d.platform = :platform"
    return "d.platform = :platform"


def _where(
    where: DeviceFilter, profiles: Collection[int] | None, *, indexed: bool = True
) -> tuple[str, dict[str, Any]]:
    parts = ""
    values: dict[str, Any] = {}
    for name in ("site", "role"):
        if getattr(where, name):
            parts += f" AND d.{name} = :{name}"
            values[name] = getattr(where, name)
    if profiles is not None:
        column = "d.profile" if indexed else "+d.profile"  # with a plus, SQLite looks nothing up by it
        parts += f" AND {column} IN (SELECT value FROM json_each(:profiles))"  # noqa: S608
        values["profiles"] = json_list(sorted(profiles))
    else:
        parts += " AND +d.profile IS NOT NULL"
    for at, word in enumerate(where.words.lower().split()):
        values[f"word{at}"] = f"%{_literal(word)}%"
        parts += f" AND {_word_fits(f':word{at}', folded=not word.isascii())}"
    return parts, values


def _word_fits(word: str, *, folded: bool) -> str:
    """Whether a word occurs in what names a device or its place. Sites, roles and models are few, and looked through
    once.
    """

    def fits(column: str) -> str:  # LIKE knows small and large letters of ASCII only
        return f"{f'folded({column})' if folded else column} LIKE {word} ESCAPE '\\'"

    few = {"site": "profile_locations", "role": "profile_locations", "model": "profiles"}
    among = [
        f"d.{name} IN (SELECT k.{name} FROM {table} AS k WHERE k.platform = :platform AND {fits(f'k.{name}')})"  # noqa: S608
        for name, table in few.items()
    ]
    return f"({' OR '.join([fits('d.id'), fits('d.name'), *among])})"


def _literal(word: str) -> str:
    return word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def placed(
    db: sqlite3.Connection, profiles: Iterable[int], devices: Collection[str] | None = None
) -> Iterator[tuple[str, str, int, str, str]]:
    """(id, site, profile, edition, first read at) of the devices of these profiles, or of some, by profile and id."""
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    listed = json_list(sorted(profiles))
    columns, chosen = "d.id, d.site, d.profile, d.edition, d.added_at", "d.profile IN (SELECT value FROM json_each(?1))"
    if devices is not None:
        among = "json_each(?2) AS j CROSS JOIN devices AS d ON d.id = j.value"
        sql = f"SELECT {columns} FROM {among} WHERE {chosen} ORDER BY d.profile, d.id"  # noqa: S608 - constants
        yield from cursor.execute(sql, (listed, json_list(devices)))
    else:
        sql = f"SELECT {columns} FROM devices AS d WHERE {chosen} ORDER BY d.profile, d.id"  # noqa: S608 - constants
        yield from cursor.execute(sql, (listed,))


def of_profiles(db: sqlite3.Connection, profiles: Iterable[int], site: str | None = None) -> Iterator[DeviceRow]:
    """The devices of these profiles, by profile and id; of one site if it is named."""
    listed = json_list(sorted(profiles))
    rows = _plain(
        db,
        f"SELECT {_COLUMNS} FROM devices AS d"  # noqa: S608 - constants
        " WHERE profile IN (SELECT value FROM json_each(?1)) AND (?2 IS NULL OR site = ?2) ORDER BY profile, id",
        (listed, site),
    )
    yield from map(_row, rows)


_PLACES = frozenset({"site", "role", "model"})


def has(db: sqlite3.Connection, column: str, value: str) -> bool:
    """Whether any device has this site, role or model."""
    assert column in _PLACES
    sql = f"SELECT 1 FROM devices WHERE {column} = ? LIMIT 1"  # noqa: S608 - one of three names
    return db.execute(sql, (value,)).fetchone() is not None


def values_of(db: sqlite3.Connection, column: str) -> list[str]:
    """The sites, roles or models that devices have, in order."""
    assert column in _PLACES
    sql = f"SELECT DISTINCT {column} FROM devices WHERE {column} <> '' ORDER BY 1"  # noqa: S608 - one of three names
    return [row[0] for row in db.execute(sql)]


def read_on(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, date]:
    """Device -> the day of its newest reading."""
    rows = db.execute(
        "SELECT d.id, last_read_at FROM json_each(?) AS j CROSS JOIN devices AS d ON d.id = j.value"
        " WHERE last_read_at > ''",
        (json_list(devices),),
    )
    return {row[0]: date.fromisoformat(row[1][:10]) for row in rows}


def silent_since(db: sqlite3.Connection, before: str) -> list[tuple[DeviceRow, str]]:
    """Those in service of which nothing was read from a day on, each with its last reading's time, oldest first."""
    rows = _plain(
        db,
        f"SELECT {_COLUMNS}, last_read_at FROM devices AS d"  # noqa: S608 - constants
        " WHERE SUBSTR(last_read_at, 1, 10) > '' AND SUBSTR(last_read_at, 1, 10) < ?"
        " AND life = 'in-service' ORDER BY SUBSTR(last_read_at, 1, 10), last_read_at, id",
        (before,),
    )
    return [(_row(row[:-1]), row[-1]) for row in rows]


def unplaced(db: sqlite3.Connection, known: Mapping[str, Collection[str]]) -> list[tuple[DeviceRow, str]]:
    """The devices in service of no platform and release that is `known`, each with its newest reading's time, by id."""
    pairs = json_list([[platform, release] for platform, releases in known.items() for release in releases])
    rows = _plain(
        db,
        f"SELECT {_COLUMNS}, d.last_read_at FROM devices AS d"  # noqa: S608 - constants
        " WHERE d.profile IS NULL AND d.life = 'in-service'"
        f" UNION ALL SELECT {_COLUMNS}, d.last_read_at FROM profiles AS p CROSS JOIN devices AS d ON d.profile = p.id"
        " WHERE p.devices > 0 AND (p.platform, p.running_release) NOT IN"
        " (SELECT j.value ->> 0, j.value ->> 1 FROM json_each(?) AS j) ORDER BY id",
        (pairs,),
    )
    return [(_row(row[:-1]), row[-1]) for row in rows]


def ids(db: sqlite3.Connection, platform: str | None = None) -> list[str]:
    rows = db.execute("SELECT id FROM devices WHERE ? IS NULL OR platform = ? ORDER BY id", (platform, platform))
    return [r["id"] for r in rows]


def ids_of_profiles(db: sqlite3.Connection, profiles: Iterable[int]) -> list[str]:
    """The devices of these profiles."""
    rows = db.execute(
        "SELECT d.id FROM json_each(?) AS p CROSS JOIN devices AS d ON d.profile = p.value",
        (json_list(profiles),),
    )
    return [row["id"] for row in rows]


# ------------------------------------------------------------------ readings


KeptReading = tuple[str, str, str, int, int | None, bool]
"""A reading as it is kept: device, source, time, number of its content, the import that it came with, if any; and
whether its device was new, or moved to another class or place with it."""


def add_readings(db: sqlite3.Connection, readings: Iterable[KeptReading]) -> None:
    """Keep readings. Each replaces the one of the same device, source and time."""
    db.executemany(
        "INSERT OR REPLACE INTO readings (device, source, taken_at, content, import_id, changed)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        readings,
    )


def contents_read(db: sqlite3.Connection, keys: Sequence[tuple[str, str, str]]) -> list[int]:
    """The contents of the readings that exist, each given by device, source and time."""
    rows = db.execute(
        "SELECT r.content FROM json_each(?) AS j CROSS JOIN readings AS r ON r.device = j.value ->> 0"
        " AND r.source = j.value ->> 1 AND r.taken_at = j.value ->> 2",
        (json_list(keys),),
    )
    return [row[0] for row in rows]


def keep_texts(db: sqlite3.Connection, device: str, source: str, texts: Iterable[tuple[str, str]]) -> None:
    """Keep the failures that a source reports of a device now, as (text, time)."""
    db.execute("DELETE FROM failure_messages WHERE device = ? AND source = ?", (device, source))
    db.executemany(
        "INSERT OR IGNORE INTO failure_messages (device, source, text, taken_at) VALUES (?, ?, ?, ?)",
        [(device, source, text, at) for text, at in texts],
    )


def readings(
    db: sqlite3.Connection, device: str, limit: int = 50, before: tuple[str, str] | None = None
) -> list[ReadingRow]:
    """The last readings of a device, newest first; with `before` (time, source) those that follow it there."""
    rows = db.execute(
        "SELECT source, taken_at, content FROM readings WHERE device = ? AND (? IS NULL OR (taken_at, source) < (?, ?))"
        " ORDER BY taken_at DESC, source DESC LIMIT ?",
        (device, before and before[0], *(before or ("", "")), limit),
    ).fetchall()
    every = {(row["taken_at"], row["source"]): row["content"] for row in rows}
    held: dict[Any, Content] = dict(contents.rows(db, every.values()))
    past = quiet.of_devices(db, [device])
    for one, content in zip(past, quiet.contents_of(db, past), strict=True):
        if (key := (one.taken_at, one.source)) not in every and (before is None or key < before):
            every[key], held[key] = key, content
    last = sorted(every, reverse=True)[:limit]
    bodies = contents.bodies(db, {every[key]: held[every[key]] for key in last})
    found = []
    for taken_at, source in last:
        body = bodies[every[taken_at, source]]
        parts = [body.get("facts", {}), body.get("verdicts", {}), body.get("unread", {}), body.get("texts", [])]
        found.append(ReadingRow(device, source, taken_at, *parts))
    return found
