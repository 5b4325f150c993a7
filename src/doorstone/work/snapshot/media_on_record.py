"""Set-up media on record, and the one that fits a device."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import date, datetime

from doorstone.core.facts import Candidate, SettledFact, View
from doorstone.core.media import Media, Need, fitting, media_facts
from doorstone.core.platforms.platform import Platform
from doorstone.store import media as store
from doorstone.work.context.errors import MissingError
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.snapshot import Snapshot


def of_row(row: store.MediaRow) -> Media:
    return Media(
        id_of("MD", row.id), row.platform, row.release, row.asked, row.editions, row.language, row.arch, row.size,
        row.sha256, bool(row.published_sha256), row.origin, row.partition_table, row.stick_gb,
        date.fromisoformat(row.link_ends) if row.link_ends else None,
    )  # fmt: skip


def on_record(db: sqlite3.Connection, platform: Platform) -> list[Media]:
    """The media of a platform that are in use."""
    return [of_row(row) for row in store.every(db, platform.id)]


def need_of(now: Snapshot, device: str) -> Need:
    view = now.view(device)
    words = [view.text(name) for name in ("os.edition", "os.base_language", "cpu.arch")]
    return Need(device, now.device(device).site, *words)


def choose_media(now: Snapshot, media: Sequence[Media], device: str, release: str, wanted: str = "") -> Media | None:
    """The media named, or the one that fits the device best. Raises `MissingError`."""
    if wanted:
        found = next((m for m in media if m.id == wanted), None)
        if found is None:
            raise MissingError(f"There is no media {wanted!r} in use", "See them with 'doorstone media list'")
        return found
    return fitting(media, release, need_of(now, device), now.today)


def with_media(view: View, media: Media | None, release: str, carry_over: str) -> View:
    """The view that gates look at: the device, and the upgrade with this media."""
    at = datetime.combine(view.as_of, datetime.min.time())
    facts = media_facts(media, release, carry_over)
    added = {name: SettledFact(Candidate(value, "media", at)) for name, value in facts.items()}
    return View(view.as_of, {**view.facts, **added}, view.aged)
