"""Set-up media as they were recorded."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from typing import Any

from msgspec import Struct


class MediaRow(Struct, frozen=True):
    """`withdrawn` says why it is no longer used; empty while it is."""

    id: int
    platform: str
    release: str
    asked: str
    editions: tuple[str, ...]
    language: str
    arch: str
    partition_table: str
    size: int
    sha256: str
    published_sha256: str
    origin: str
    maker: str
    link: str
    link_ends: str | None
    stick_gb: int | None
    withdrawn: str
    by: str
    at: str


def add(db: sqlite3.Connection, values: Mapping[str, Any]) -> int:
    cursor = db.execute(
        "INSERT INTO media (platform, release, asked, editions, language, arch, partition_table, size, sha256,"
        " published_sha256, origin, maker, link, link_ends, stick_gb, by, at) VALUES (:platform, :release, :asked,"
        " :editions, :language, :arch, :partition_table, :size, :sha256, :published_sha256, :origin, :maker, :link,"
        " :link_ends, :stick_gb, :by, :at)",
        {**values, "editions": json.dumps(values["editions"])},
    )
    return int(cursor.lastrowid or 0)


def every(db: sqlite3.Connection, platform: str = "", withdrawn: bool = False) -> list[MediaRow]:
    """Every media, newest first. Withdrawn ones only if asked for."""
    rows = db.execute(
        "SELECT * FROM media WHERE (? = '' OR platform = ?) AND (? OR withdrawn = '') ORDER BY id DESC",
        (platform, platform, withdrawn),
    )
    return [_media(row) for row in rows]


def get(db: sqlite3.Connection, number: int) -> MediaRow | None:
    row = db.execute("SELECT * FROM media WHERE id = ?", (number,)).fetchone()
    return _media(row) if row else None


def withdraw(db: sqlite3.Connection, number: int, why: str) -> None:
    db.execute("UPDATE media SET withdrawn = ? WHERE id = ?", (why, number))


def verify(db: sqlite3.Connection, number: int, published: str) -> None:
    db.execute("UPDATE media SET published_sha256 = ? WHERE id = ?", (published, number))


def _media(row: sqlite3.Row) -> MediaRow:
    return MediaRow(**{**dict(row), "editions": tuple(json.loads(row["editions"]))})
