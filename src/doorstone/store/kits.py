"""Kits as they were made; the archive holds every file."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct


class KitRow(Struct, frozen=True):
    id: int
    platform: str
    sheet_revision: int
    release: str
    route: str
    carry_over: str
    device: str
    overrides: tuple[str, ...]
    exceptions: tuple[str, ...]
    sha256: str
    made_by: str
    made_at: str
    expires_on: str | None
    waived: Mapping[str, str]
    devices: tuple[str, ...]
    media: str | None
    sets: tuple[str, ...]


_KIT = (
    "SELECT id, platform, sheet_revision, release, route, carry_over, device, overrides, exceptions, sha256,"
    " made_by, made_at, expires_on, waived, media, sets,"
    " (SELECT json_group_array(device) FROM kit_devices WHERE kit = kits.id) AS devices FROM kits"
)


def next_id(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT COALESCE(MAX(id), 0) + 1 FROM kits").fetchone()[0])


def add(db: sqlite3.Connection, values: Mapping[str, Any], archive: bytes) -> None:
    db.execute(
        "INSERT INTO kits (id, platform, sheet_revision, release, route, carry_over, device, overrides, exceptions,"
        " sha256, archive, made_by, made_at, expires_on, waived, media, sets) VALUES (:id, :platform, :sheet_revision,"
        " :release, :route, :carry_over, :device, :overrides, :exceptions, :sha256, :archive, :made_by, :made_at,"
        " :expires_on, :waived, :media, :sets)",
        {
            **values,
            "overrides": json.dumps(values["overrides"]),
            "exceptions": json.dumps(values["exceptions"]),
            "waived": json.dumps(values["waived"], sort_keys=True),
            "sets": json.dumps(values["sets"]),
            "archive": archive,
        },
    )
    db.executemany(
        "INSERT INTO kit_devices (kit, device) VALUES (?, ?)", [(values["id"], name) for name in values["devices"]]
    )


def get(db: sqlite3.Connection, number: int) -> KitRow | None:
    row = db.execute(f"{_KIT} WHERE id = ?", (number,)).fetchone()
    return _kit(row) if row else None


def every(db: sqlite3.Connection, device: str | None = None) -> list[KitRow]:
    """Every kit, newest first."""
    where, values = ("WHERE id IN (SELECT kit FROM kit_devices WHERE device = ?)", (device,)) if device else ("", ())
    rows = db.execute(f"{_KIT} {where} ORDER BY id DESC", values)
    return [_kit(row) for row in rows]


def archive(db: sqlite3.Connection, number: int) -> bytes | None:
    row = db.execute("SELECT archive FROM kits WHERE id = ?", (number,)).fetchone()
    return bytes(row["archive"]) if row else None


def _kit(row: sqlite3.Row) -> KitRow:
    data = dict(row)
    return KitRow(
        **{
            **data,
            "overrides": tuple(json.loads(data["overrides"])),
            "exceptions": tuple(json.loads(data["exceptions"])),
            "waived": json.loads(data["waived"]),
            "sets": tuple(json.loads(data["sets"])),
            "devices": tuple(sorted(json.loads(data["devices"]))),
        }
    )


def overrides_of(db: sqlite3.Connection, kits: Iterable[int]) -> dict[int, tuple[str, ...]]:
    """Kit -> the overrides in it."""
    rows = db.execute(
        "SELECT id, overrides FROM kits WHERE id IN (SELECT value FROM json_each(?))", (json.dumps(sorted(kits)),)
    )
    return {row["id"]: tuple(json.loads(row["overrides"])) for row in rows}
