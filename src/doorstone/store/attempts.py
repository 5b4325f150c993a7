"""Attempts at upgrades, and observations of updates afterwards."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from datetime import date
from typing import Any

from msgspec import Struct

from doorstone.core.attempts.override_results import OverrideCount
from doorstone.store.devices import profiles


class AttemptRow(Struct, frozen=True):
    """An attempt. `corrects` and `corrected_by` are numbers of attempts, or 0; from `get` and `with_corrections`."""

    id: int
    device: str
    number: int
    kit: int | None
    platform: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: str
    seen: str
    media: str
    tool_version: str
    unmet: tuple[str, ...]
    started_at: str
    ended_at: str
    by: str
    notice_accepted: str
    mismatch: str
    corrects: int = 0
    corrected_by: int = 0


class ObservationRow(Struct, frozen=True):
    id: int
    device: str
    seen_on: str
    update_class: str
    result: str
    reason: str
    source: str
    detail: str
    by: str
    corrects: int = 0
    corrected_by: int = 0


def add(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    """Add an attempt; it gets the device's next number."""
    number = db.execute(
        "SELECT COALESCE(MAX(number), 0) + 1 FROM attempts WHERE device = ?", (values["device"],)
    ).fetchone()[0]
    cursor = db.execute(
        "INSERT INTO attempts (device, number, kit, platform, release, route, carry_over, outcome, refused_by, seen,"
        " media, tool_version, unmet, started_at, ended_at, by, notice_accepted, mismatch)"
        " VALUES (:device, :number, :kit, :platform,"
        " :release, :route, :carry_over, :outcome, :refused_by, :seen, :media, :tool_version, :unmet, :started_at,"
        " :ended_at, :by, :notice_accepted, :mismatch)",
        {**values, "number": number, "unmet": json.dumps(values["unmet"])},
    )
    profiles.touch(db, [values["device"]])
    return int(cursor.lastrowid or 0)


def every(db: sqlite3.Connection, device: str | None = None) -> list[AttemptRow]:
    """Every attempt that was not corrected, newest first."""
    where, values = ("WHERE device = ?", (device,)) if device else ("", ())
    rows = db.execute(f"SELECT * FROM standing_attempts {where} ORDER BY id DESC", values)  # noqa: S608 - constants
    return [_attempt(row) for row in rows]


def of_devices(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, list[AttemptRow]]:
    """Device -> its attempts, newest first. Devices without any are left out."""
    rows = db.execute(
        "SELECT a.* FROM json_each(?) AS j CROSS JOIN standing_attempts AS a ON a.device = j.value ORDER BY a.id DESC",
        (json.dumps(list(devices)),),
    )
    found: dict[str, list[AttemptRow]] = {}
    for row in rows:
        found.setdefault(row["device"], []).append(_attempt(row))
    return found


def devices_since(db: sqlite3.Connection, day: str) -> list[str]:
    """The devices with an attempt that ended on this day or later, by id."""
    rows = db.execute("SELECT DISTINCT device FROM standing_attempts WHERE ended_at >= ? ORDER BY device", (day,))
    return [row["device"] for row in rows]


def seen_on(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, list[date]]:
    """Device -> the days on which its updates were looked at; those never looked at are left out."""
    rows = db.execute(
        "SELECT o.device, o.seen_on FROM json_each(?) AS j CROSS JOIN standing_observations AS o ON o.device = j.value"
        " ORDER BY o.id DESC",
        (json.dumps(list(devices)),),
    )
    found: dict[str, list[date]] = {}
    for row in rows:
        found.setdefault(row["device"], []).append(date.fromisoformat(row["seen_on"]))
    return found


def using(db: sqlite3.Connection, kits: Iterable[int]) -> list[tuple[int, int]]:
    """The attempts that were made with kits: (attempt, kit)."""
    rows = db.execute(
        "SELECT id, kit FROM standing_attempts WHERE kit IN (SELECT value FROM json_each(?)) ORDER BY id",
        (json.dumps(list(kits)),),
    )
    return [(row["id"], row["kit"]) for row in rows]


def of_refused(db: sqlite3.Connection, platform: str, devices: Iterable[str]) -> list[AttemptRow]:
    """Every attempt on the devices among these on which something was refused."""
    rows = db.execute(
        "SELECT a.* FROM json_each(?) AS j CROSS JOIN standing_attempts AS a ON a.device = j.value WHERE a.platform = ?"
        " AND EXISTS (SELECT 1 FROM standing_attempts AS r"
        " WHERE r.platform = ? AND r.device = j.value AND r.outcome = 'refused')",
        (json.dumps(sorted(devices)), platform, platform),
    )
    return [_attempt(row) for row in rows]


def wrong_devices(db: sqlite3.Connection, platform: str) -> list[str]:
    """The devices with an attempt that was refused, did not start or was taken back."""
    rows = db.execute(
        "SELECT DISTINCT device FROM standing_attempts WHERE platform = ?"
        " AND outcome IN ('refused', 'failed-to-start', 'rolled-back') ORDER BY device",
        (platform,),
    )
    return [row[0] for row in rows]


def releases_tried(db: sqlite3.Connection, platform: str) -> set[str]:
    """The releases of attempts, from the counts of overrides and from failed attempts."""
    rows = db.execute(
        "SELECT release FROM override_tries WHERE platform = ?"
        " UNION SELECT release FROM standing_attempts WHERE platform = ?"
        " AND outcome IN ('refused', 'failed-to-start', 'rolled-back')",
        (platform, platform),
    )
    return {row[0] for row in rows}


def refused_devices(db: sqlite3.Connection, platform: str) -> list[str]:
    """The devices on which something was refused."""
    rows = db.execute(
        "SELECT DISTINCT device FROM standing_attempts WHERE platform = ? AND outcome = 'refused'", (platform,)
    )
    return [row[0] for row in rows]


def count_tries(
    db: sqlite3.Connection,
    platform: str,
    model: str,
    release: str,
    overrides: Iterable[str],
    done: bool,
    times: int = 1,
) -> None:
    """Count an attempt with these overrides on a device of a model; with -1 `times`, count it no more."""
    db.executemany(
        "INSERT INTO override_tries (platform, model, release, override, tried, done) VALUES (?, ?, ?, ?, ?, ?)"
        " ON CONFLICT DO UPDATE SET tried = tried + excluded.tried, done = done + excluded.done",
        [(platform, model, release, name, times, times * int(done)) for name in overrides],
    )


def override_tries(db: sqlite3.Connection, platform: str) -> dict[str, list[OverrideCount]]:
    """Model -> what was tried with each override on it."""
    rows = db.execute(
        "SELECT model, release, override, tried, done FROM override_tries WHERE platform = ?", (platform,)
    )
    found: dict[str, list[OverrideCount]] = {}
    for model, *count in rows:
        found.setdefault(model, []).append(OverrideCount(*count))
    return found


EQUAL = ("device", "kit", "outcome", "refused_by", "seen", "started_at", "ended_at")


def find_equal(db: sqlite3.Connection, values: Mapping[str, Any]) -> int | None:
    """The number of an attempt on the same device at the same time with the same outcome, if there is one."""
    same = " AND ".join(f"{name} IS :{name}" for name in EQUAL)
    row = db.execute(f"SELECT MIN(id) FROM attempts WHERE {same}", dict(values)).fetchone()  # noqa: S608 - our names
    return None if row[0] is None else int(row[0])


def get(db: sqlite3.Connection, number: int) -> AttemptRow | None:
    row = db.execute(f"{_ATTEMPTS_CORRECTED} WHERE a.id = ?", (number,)).fetchone()
    return _attempt(row) if row else None


_ATTEMPTS_CORRECTED = (
    "SELECT a.*, COALESCE((SELECT c.attempt FROM corrected_attempts AS c WHERE c.by = a.id), 0) AS corrects,"
    " COALESCE((SELECT c.by FROM corrected_attempts AS c WHERE c.attempt = a.id), 0) AS corrected_by FROM attempts AS a"
)
_OBSERVATIONS_CORRECTED = (
    "SELECT o.*, COALESCE((SELECT c.observation FROM corrected_observations AS c WHERE c.by = o.id), 0) AS corrects,"
    " COALESCE((SELECT c.by FROM corrected_observations AS c WHERE c.observation = o.id), 0) AS corrected_by"
    " FROM observations AS o"
)


def with_corrections(db: sqlite3.Connection, device: str | None = None) -> list[AttemptRow]:
    """Every attempt, corrected ones as well, newest first."""
    where, values = ("WHERE a.device = ?", (device,)) if device else ("", ())
    return [_attempt(row) for row in db.execute(f"{_ATTEMPTS_CORRECTED} {where} ORDER BY a.id DESC", values)]


def correct(db: sqlite3.Connection, attempt: int, by: int) -> None:
    """Note that an attempt is put right by another, and counts for nothing any more."""
    db.execute("INSERT INTO corrected_attempts (attempt, by) VALUES (?, ?)", (attempt, by))
    profiles.touch(db, [row[0] for row in db.execute("SELECT device FROM attempts WHERE id = ?", (attempt,))])


def observations_with_corrections(db: sqlite3.Connection, device: str | None = None) -> list[ObservationRow]:
    """Every observation, corrected ones as well, newest first."""
    where, values = ("WHERE o.device = ?", (device,)) if device else ("", ())
    rows = db.execute(f"{_OBSERVATIONS_CORRECTED} {where} ORDER BY o.seen_on DESC, o.id DESC", values)
    return [ObservationRow(**dict(row)) for row in rows]


def correct_observation(db: sqlite3.Connection, observation: int, by: int) -> None:
    """Note that an observation is put right by another, and counts for nothing any more."""
    db.execute("INSERT INTO corrected_observations (observation, by) VALUES (?, ?)", (observation, by))


def _attempt(row: sqlite3.Row) -> AttemptRow:
    return AttemptRow(**{**dict(row), "unmet": tuple(json.loads(row["unmet"]))})


def add_observation(db: sqlite3.Connection, values: Mapping[str, str]) -> int:
    cursor = db.execute(
        "INSERT INTO observations (device, seen_on, update_class, result, reason, source, detail, by)"
        " VALUES (:device, :seen_on, :update_class, :result, :reason, :source, :detail, :by)",
        values,
    )
    return int(cursor.lastrowid or 0)


def observations(db: sqlite3.Connection, device: str | None = None) -> list[ObservationRow]:
    """Observations of updates that were not corrected, newest first."""
    where, values = ("WHERE device = ?", (device,)) if device else ("", ())
    rows = db.execute(f"SELECT * FROM standing_observations {where} ORDER BY seen_on DESC, id DESC", values)  # noqa: S608
    return [ObservationRow(**dict(row)) for row in rows]


def observation(db: sqlite3.Connection, number: int) -> ObservationRow | None:
    row = db.execute(f"{_OBSERVATIONS_CORRECTED} WHERE o.id = ?", (number,)).fetchone()
    return ObservationRow(**dict(row)) if row else None


def has_observation(
    db: sqlite3.Connection, device: str, seen_on: str, update_class: str, source: str, result: str
) -> bool:
    """Whether the same was recorded already: of that device, day, class and source, with that result."""
    row = db.execute(
        "SELECT 1 FROM standing_observations WHERE device = ? AND seen_on = ? AND update_class = ? AND source = ?"
        " AND result = ?",
        (device, seen_on, update_class, source, result),
    ).fetchone()
    return row is not None
