"""Kits as they were made; the archive holds every file."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class KitRow:
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


_KIT = (
    "SELECT id, platform, sheet_revision, release, route, carry_over, device, overrides, exceptions, sha256,"
    " made_by, made_at FROM kits"
)


def next_id(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT COALESCE(MAX(id), 0) + 1 FROM kits").fetchone()[0])


def add(db: sqlite3.Connection, values: Mapping[str, Any], archive: bytes) -> None:
    db.execute(
        "INSERT INTO kits (id, platform, sheet_revision, release, route, carry_over, device, overrides, exceptions,"
        " sha256, archive, made_by, made_at) VALUES (:id, :platform, :sheet_revision, :release, :route, :carry_over,"
        " :device, :overrides, :exceptions, :sha256, :archive, :made_by, :made_at)",
        {
            **values,
            "overrides": json.dumps(values["overrides"]),
            "exceptions": json.dumps(values["exceptions"]),
            "archive": archive,
        },
    )


def get(db: sqlite3.Connection, number: int) -> KitRow | None:
    row = db.execute(f"{_KIT} WHERE id = ?", (number,)).fetchone()
    return _kit(row) if row else None


def every(db: sqlite3.Connection, device: str | None = None) -> list[KitRow]:
    """Newest first."""
    rows = db.execute(f"{_KIT} WHERE ? IS NULL OR device = ? ORDER BY id DESC", (device, device))
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
        }
    )
