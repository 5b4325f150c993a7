"""Profiles: what devices share, how many are of each, and how each stands against a release."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class ProfileRow:
    """`own` names the device that has a profile to itself; `basis` is what it was sorted by at the release asked."""

    id: int
    platform: str
    model: str
    runs: str
    own: str
    basis: str


@dataclass(frozen=True, slots=True)
class ProfileCount:
    """So many devices of a profile at one site in one role, with the profile's state and marks at a release."""

    profile: int
    site: str
    role: str
    model: str
    runs: str
    devices: int
    state: str
    marks: Mapping[str, str]


def number_of(
    db: sqlite3.Connection, key: str, platform: str, model: str, runs: str, own: str, picture: Mapping[str, Any]
) -> int:
    """The profile of this key, made if there is none yet."""
    cursor = db.execute(
        "INSERT OR IGNORE INTO profiles (platform, key, model, runs, own, picture) VALUES (?, ?, ?, ?, ?, ?)",
        (platform, key, model, runs, own, json.dumps(picture, separators=(",", ":"))),
    )
    if cursor.rowcount == 1:
        return int(cursor.lastrowid or 0)
    return int(db.execute("SELECT id FROM profiles WHERE key = ?", (key,)).fetchone()["id"])


def in_use(db: sqlite3.Connection, platform: str, release: str) -> list[ProfileRow]:
    """The platform's profiles that devices have, each with the basis it was sorted by at the release, or nothing."""
    rows = db.execute(
        "SELECT p.id, p.platform, p.model, p.runs, p.own, COALESCE(f.basis, '') AS basis FROM profiles AS p"
        " LEFT JOIN profile_findings AS f ON f.profile = p.id AND f.release = :release WHERE p.platform = :platform"
        " AND p.devices > 0 ORDER BY p.id",
        {"platform": platform, "release": release},
    )
    return [ProfileRow(**dict(row)) for row in rows]


def pictures(db: sqlite3.Connection, profiles: Iterable[int]) -> dict[int, dict[str, Any]]:
    rows = db.execute(
        "SELECT id, picture FROM profiles WHERE id IN (SELECT value FROM json_each(?))", (json.dumps(list(profiles)),)
    )
    return {row["id"]: json.loads(row["picture"]) for row in rows}


def keep_findings(
    db: sqlite3.Connection, release: str, found: Iterable[tuple[int, str, str, Mapping[str, str]]]
) -> None:
    """Keep (profile, basis, state, marks) at a release."""
    db.executemany(
        "INSERT OR REPLACE INTO profile_findings (profile, release, basis, state, marks) VALUES (?, ?, ?, ?, ?)",
        [(profile, release, basis, state, json.dumps(marks)) for profile, basis, state, marks in found],
    )


def counts(db: sqlite3.Connection, platform: str, release: str) -> list[ProfileCount]:
    """How many devices of each profile stand where, with state and marks at the release."""
    rows = db.execute(
        "SELECT c.profile, c.site, c.role, p.model, p.runs, c.devices, f.state, f.marks FROM profiles AS p"
        " JOIN profile_counts AS c ON c.profile = p.id AND c.devices > 0"
        " JOIN profile_findings AS f ON f.profile = p.id AND f.release = :release"
        " WHERE p.platform = :platform ORDER BY c.profile, c.site, c.role",
        {"platform": platform, "release": release},
    )
    marks: dict[int, Mapping[str, str]] = {}
    found = []
    for r in rows:
        if r["profile"] not in marks:
            marks[r["profile"]] = json.loads(r["marks"])
        found.append(ProfileCount(**{**dict(r), "marks": marks[r["profile"]]}))
    return found


def sizes(db: sqlite3.Connection, platform: str) -> dict[int, int]:
    """Devices per profile of a platform."""
    rows = db.execute("SELECT id, devices FROM profiles WHERE platform = ? AND devices > 0 ORDER BY id", (platform,))
    return {row["id"]: row["devices"] for row in rows}


def devices_by_platform(db: sqlite3.Connection) -> dict[str, int]:
    """Platform -> devices."""
    rows = db.execute("SELECT platform, SUM(devices) AS devices FROM profiles WHERE devices > 0 GROUP BY platform")
    return {row["platform"]: row["devices"] for row in rows}


def places(db: sqlite3.Connection, platform: str) -> dict[str, list[str]]:
    """The sites, roles and models that devices of the platform have, each in order."""
    rows = db.execute(
        "SELECT DISTINCT c.site, c.role, p.model FROM profiles AS p"
        " JOIN profile_counts AS c ON c.profile = p.id AND c.devices > 0 WHERE p.platform = ?",
        (platform,),
    ).fetchall()
    return {name: sorted({row[name] for row in rows if row[name]}) for name in ("site", "role", "model")}


def settled_day(db: sqlite3.Connection) -> str:
    """The day for which devices are settled; empty before the first."""
    return str(db.execute("SELECT day FROM settled").fetchone()["day"])


def keep_settled_day(db: sqlite3.Connection, day: str) -> None:
    db.execute("UPDATE settled SET day = ?", (day,))


def note_change(db: sqlite3.Connection) -> None:
    """Devices have changed, and the ledger has no entry of it yet: an import is under way."""
    db.execute("UPDATE settled SET changes = changes + 1")


def stamp(db: sqlite3.Connection) -> tuple[int, int]:
    """Grows with everything that is written: the ledger's last entry and the changes under way."""
    row = db.execute("SELECT (SELECT COALESCE(MAX(seq), 0) FROM ledger) AS seq, changes FROM settled").fetchone()
    return row["seq"], row["changes"]


def fallen(db: sqlite3.Connection, day: str) -> list[str]:
    """Devices on which some word has aged out before `day`."""
    rows = db.execute("SELECT id FROM devices WHERE stands_until IS NOT NULL AND stands_until < ? ORDER BY id", (day,))
    return [row["id"] for row in rows]
