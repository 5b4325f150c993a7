"""Devices, their readings, and each source's newest words on each."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from doorstone.core.words import Said, Words, current_texts, data_of, merge, parse_words
from doorstone.core.words import drop_older as drop_older_words


@dataclass(frozen=True, slots=True)
class DeviceRow:
    """A device as it is settled: `profile` is None while no sheet describes its platform."""

    id: str
    name: str
    site: str
    role: str
    critical: bool
    platform: str
    model: str
    runs: str
    edition: str
    profile: int | None


@dataclass(frozen=True, slots=True)
class ReadingRow:
    id: int
    device: str
    source: str
    taken_at: str
    facts: Mapping[str, Any]
    verdicts: Mapping[str, bool]
    unread: Mapping[str, str]
    texts: Sequence[str]


@dataclass(frozen=True, slots=True)
class Filter:
    """What to list: every given part must fit. `mark` goes with `requirement`, both with a release."""

    state: str = ""
    site: str = ""
    role: str = ""
    model: str = ""
    requirement: str = ""
    mark: str = ""
    words: str = ""


@dataclass(frozen=True, slots=True)
class NewReading:
    """A reading as it is kept: values as JSON holds them."""

    device: str
    source: str
    taken_at: str
    facts: Mapping[str, Any]
    verdicts: Mapping[str, bool] = field(default_factory=dict)
    unread: Mapping[str, str] = field(default_factory=dict)
    texts: Sequence[str] | None = None


def _row(r: sqlite3.Row) -> DeviceRow:
    return DeviceRow(
        r["id"], r["name"], r["site"], r["role"], bool(r["critical"]), r["platform"], r["model"], r["runs"],
        r["edition"], r["profile"],
    )  # fmt: skip


def upsert(db: sqlite3.Connection, device: str, about: Mapping[str, Any], at: str) -> bool:
    """Add the device or take over what `about` says of it; returns whether it is new."""
    added = db.execute("INSERT OR IGNORE INTO devices (id, added_at) VALUES (?, ?)", (device, at)).rowcount == 1
    if about:
        db.execute(
            "UPDATE devices SET name = COALESCE(:name, name), site = COALESCE(:site, site),"
            " role = COALESCE(:role, role), critical = COALESCE(:critical, critical) WHERE id = :id",
            {"name": None, "site": None, "role": None, "critical": None, **about, "id": device},
        )
    return added


def get(db: sqlite3.Connection, device: str) -> DeviceRow | None:
    r = db.execute("SELECT * FROM devices WHERE id = ?", (device,)).fetchone()
    return _row(r) if r else None


def place(
    db: sqlite3.Connection, device: str, seen: Mapping[str, str], profile: int | None, stands_until: str | None
) -> None:
    """Put a settled device in its profile. `seen` holds platform, model, runs and edition."""
    db.execute(
        "UPDATE devices SET platform = :platform, model = :model, runs = :runs, edition = :edition,"
        " profile = :profile, stands_until = :stands_until WHERE id = :id",
        {**seen, "profile": profile, "stands_until": stands_until, "id": device},
    )


def find(
    db: sqlite3.Connection, platform: str, release: str, where: Filter, after: str = "", limit: int = -1
) -> list[tuple[DeviceRow, str, str]]:
    """Devices of a platform by id, with the state and the marks (JSON) that they have at a release."""
    parts, values = _where(where)
    rows = db.execute(
        "SELECT d.*, f.state, f.marks FROM devices AS d"  # noqa: S608 - the parts are constants of this module
        " JOIN profile_findings AS f ON f.profile = d.profile AND f.release = :release"
        f" WHERE d.platform = :platform AND d.id > :after{parts} ORDER BY d.id LIMIT :limit",
        {**values, "platform": platform, "release": release, "after": after, "limit": limit},
    )
    return [(_row(r), r["state"], r["marks"]) for r in rows]


def count(db: sqlite3.Connection, platform: str, release: str, where: Filter) -> int:
    """How many devices `find` would find; asked of the counts by profile unless words are looked for."""
    parts, values = _where(where)
    if where.words:
        sql = "SELECT COUNT(*) FROM devices AS d"
    else:
        sql = (
            "SELECT COALESCE(SUM(d.devices), 0) FROM"
            " (SELECT p.platform, p.model, c.site, c.role, c.profile, c.devices FROM profile_counts AS c"
            " JOIN profiles AS p ON p.id = c.profile) AS d"
        )
    join = " JOIN profile_findings AS f ON f.profile = d.profile AND f.release = :release"
    found = db.execute(
        f"{sql}{join} WHERE d.platform = :platform{parts}", {**values, "platform": platform, "release": release}
    )
    return int(found.fetchone()[0])


def _where(where: Filter) -> tuple[str, dict[str, Any]]:
    parts = ""
    values: dict[str, Any] = {}
    for name, column in (("state", "f.state"), ("site", "d.site"), ("role", "d.role"), ("model", "d.model")):
        if getattr(where, name):
            parts += f" AND {column} = :{name}"
            values[name] = getattr(where, name)
    if where.requirement:
        values["path"] = f'$."{where.requirement}"'
        values["mark"] = where.mark or "met"
        parts += f" AND json_extract(f.marks, :path) {'=' if where.mark else '<>'} :mark"
    for at, word in enumerate(where.words.lower().split()):
        values[f"word{at}"] = f"%{_literal(word)}%"
        text = "LOWER(d.id || ' ' || d.name || ' ' || d.site || ' ' || d.role || ' ' || d.model)"
        parts += f" AND {text} LIKE :word{at} ESCAPE '\\'"
    return parts, values


def _literal(word: str) -> str:
    return word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def of_profiles(db: sqlite3.Connection, profiles: Iterable[int]) -> Iterator[DeviceRow]:
    """The devices of these profiles, by profile and id."""
    listed = json.dumps(sorted(profiles))
    rows = db.execute(
        "SELECT * FROM devices WHERE profile IN (SELECT value FROM json_each(?)) ORDER BY profile, id",
        (listed,),
    )
    yield from (_row(r) for r in rows)


def ids(db: sqlite3.Connection, platform: str | None = None) -> list[str]:
    rows = db.execute("SELECT id FROM devices WHERE ? IS NULL OR platform = ? ORDER BY id", (platform, platform))
    return [r["id"] for r in rows]


def unplaced(db: sqlite3.Connection) -> int:
    """How many devices are of a platform that no sheet describes."""
    return int(db.execute("SELECT COUNT(*) FROM devices WHERE profile IS NULL").fetchone()[0])


# ------------------------------------------------------------------ readings


def add_reading(db: sqlite3.Connection, new: NewReading, import_id: int | None = None) -> None:
    """Keep a reading, and each word of it that is newer than what its source said before."""
    facts, verdicts = dict(new.facts), dict(new.verdicts)
    db.execute(
        "INSERT OR REPLACE INTO readings (device, import_id, source, taken_at, facts, verdicts, unread, texts)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            new.device, import_id, new.source, new.taken_at, json.dumps(facts), json.dumps(verdicts),
            json.dumps(dict(new.unread)), json.dumps(list(new.texts or ())),
        ),
    )  # fmt: skip
    said = Said(facts, verdicts, list(new.texts) if new.texts is not None else None)
    keep_words(db, new.device, new.source, merge(words(db, new.device, new.source), new.taken_at, said))


def words(db: sqlite3.Connection, device: str, source: str) -> Words:
    """What one source says of a device."""
    row = db.execute("SELECT words FROM device_sources WHERE device = ? AND source = ?", (device, source)).fetchone()
    return parse_words(json.loads(row["words"])) if row else {}


def keep_words(db: sqlite3.Connection, device: str, source: str, said: Words) -> None:
    db.execute(
        "INSERT INTO device_sources (device, source, words) VALUES (?, ?, ?)"
        " ON CONFLICT (device, source) DO UPDATE SET words = excluded.words",
        (device, source, json.dumps(data_of(said), separators=(",", ":"))),
    )
    texts = current_texts(said)
    if texts or any(part.texts is not None for part in said.values()):
        db.execute("DELETE FROM device_texts WHERE device = ? AND source = ?", (device, source))
        db.executemany(
            "INSERT OR IGNORE INTO device_texts (device, source, text, taken_at) VALUES (?, ?, ?, ?)",
            [(device, source, text, at) for text, at in texts],
        )


def every_source(db: sqlite3.Connection, device: str) -> dict[str, Words]:
    """What each source says of a device."""
    rows = db.execute("SELECT source, words FROM device_sources WHERE device = ? ORDER BY source", (device,))
    return {r["source"]: parse_words(json.loads(r["words"])) for r in rows}


def drop_older(db: sqlite3.Connection, device: str, fact: str, before: str) -> None:
    """Forget every source's word on a fact from before a time: something has changed it since."""
    for source, said in every_source(db, device).items():
        keep_words(db, device, source, drop_older_words(said, fact, before))


def readings(db: sqlite3.Connection, device: str, limit: int = 50) -> list[ReadingRow]:
    rows = db.execute(
        "SELECT * FROM readings WHERE device = ? ORDER BY taken_at DESC, id DESC LIMIT ?", (device, limit)
    )
    return [
        ReadingRow(
            r["id"], r["device"], r["source"], r["taken_at"], json.loads(r["facts"]), json.loads(r["verdicts"]),
            json.loads(r["unread"]), json.loads(r["texts"]),
        )
        for r in rows
    ]  # fmt: skip
