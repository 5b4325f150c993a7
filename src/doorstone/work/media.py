"""Set-up media: recorded with what is on them, verified, withdrawn; the media that a batch of devices needs."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.media import Media, MediaPlan, Mismatch, media_plan
from doorstone.core.platforms.platform import Platform, target_release
from doorstone.core.sorting.assessment import State
from doorstone.store import media as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.media_on_record import need_of, of_row, on_record
from doorstone.work.snapshot.sheets import get_sheet, need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot

MOST_DEVICES = 5000


class NewMedia(Struct, frozen=True):
    """A media to record. `release` is what is on it; `asked` what its maker was asked for. `size` in bytes.

    `sha256` was computed of the media, `published_sha256` is the vendor's word; empty if not known.
    """

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
    link_ends: date | None
    stick_gb: int | None


class MediaView(Struct, frozen=True):
    id: str
    row: store.MediaRow
    media: Media
    defects: tuple[str, ...]


def add_media(context: Context, actor: Actor, given: NewMedia) -> MediaView:
    """Record a media. A SHA-256 that is not the published one is refused: such a media must not be used."""
    platform = get_sheet(context, given.platform).platform
    for release in (given.release, given.asked):
        need_release(platform, release)
    for edition in given.editions:
        if edition not in platform.editions:
            raise BadInputError(f"{platform.name} has no edition {edition!r}", f"Use {', '.join(platform.editions)}")
    for name, digest in (("sha256", given.sha256), ("published_sha256", given.published_sha256)):
        if (digest or name == "sha256") and not re.fullmatch(r"[0-9a-f]{64}", digest):
            raise BadInputError(f"{name} is no SHA-256", "Give 64 hexadecimal digits in lower case")
    if given.published_sha256 and given.published_sha256 != given.sha256:
        raise RefusedError("Its SHA-256 is not the published one: it is damaged or changed", "Fetch it again")
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_media(context, before)
        values = {
            **asdict(given),
            "editions": sorted(given.editions),
            "link_ends": given.link_ends.isoformat() if given.link_ends else None,
            "by": actor.name,
            "at": context.now(),
        }
        name = id_of("MD", store.add(db, values))
        record(context, db, actor, "media recorded", "media", name, values, creates=True)
    return get_media(context, name)


def verify_media(context: Context, actor: Actor, name: str, published: str) -> MediaView:
    """Record the vendor's published SHA-256 of a media. Raises `RefusedError` if the media has another."""
    with context.database.write() as db:
        row = _need(db, name)
        if published.lower() != row.sha256:
            raise RefusedError(f"{name} has another SHA-256 than that", "Fetch the media again, or correct the digest")
        store.verify(db, row.id, row.sha256)
        record(context, db, actor, "media verified", "media", name, {"published_sha256": row.sha256})
    return get_media(context, name)


def withdraw_media(context: Context, actor: Actor, name: str, why: str) -> MediaView:
    """Take a media out of use, with a reason; kits that were made for it are no longer handed out."""
    if not why.strip():
        raise BadInputError("Withdrawing takes a reason", "Say in a sentence why it is not to be used")
    with context.database.write() as db:
        store.withdraw(db, _need(db, name).id, why.strip())
        record(context, db, actor, "media withdrawn", "media", name, {"why": why.strip()})
    return get_media(context, name)


def _need(db: sqlite3.Connection, name: str) -> store.MediaRow:
    row = store.get(db, number_of("MD", name))
    if row is None:
        raise MissingError(f"There is no media {name!r}", "See them with 'doorstone media list'")
    return row


def get_media(context: Context, name: str) -> MediaView:
    """One media. Raises `MissingError`."""
    with context.database.read() as db:
        return _view(context, _need(db, name))


def list_media(context: Context, platform: str = "", withdrawn: bool = False) -> list[MediaView]:
    """Newest first."""
    with context.database.read() as db:
        return [_view(context, row) for row in store.every(db, platform, withdrawn)]


def _view(context: Context, row: store.MediaRow) -> MediaView:
    media = of_row(row)
    defects = media.defects(context.today())
    gone = (f"withdrawn: {row.withdrawn}",) if row.withdrawn else ()
    return MediaView(media.id, row, media, (*gone, *defects))


# ---------------------------------------------------------- for kits and gates


# ------------------------------------------------------------------------ plan


def plan_media(context: Context, devices: Sequence[str], release: str = "", sticks_per_site: int = 1) -> MediaPlan:
    """Which media these devices need for a release, on which sticks, and whom none serves. Nothing is recorded."""
    if not 0 < len(devices) <= MOST_DEVICES:
        raise BadInputError(f"A media plan is for 1 to {MOST_DEVICES} devices", "Name them, or a selection")
    now = snapshot(context)
    platform = now.one_platform(devices, "Make one plan per platform")
    release = release or target_release(platform, now.today)
    need_release(platform, release)
    with context.database.read() as db:
        media = on_record(db, platform)
    left_out = {name: why for name in dict.fromkeys(devices) if (why := _needs_none(now, platform, name, release))}
    needs = [need_of(now, device) for device in dict.fromkeys(devices) if device not in left_out]
    gone = [Mismatch((name,), why, "Nothing is needed for it") for name, why in left_out.items()]
    return media_plan(media, release, needs, now.today, sticks_per_site, gone)


def _needs_none(now: Snapshot, platform: Platform, device: str, release: str) -> str:
    """Why a device needs no media of a release: it has it, or cannot take it; empty if it does."""
    row = now.device(device)
    if platform.has(row.running_release) and platform.index(row.running_release) >= platform.index(release):
        return f"runs {row.running_release} already"
    if now.stands(row, platform, release).state == State.FLOORED:
        return f"cannot take {release}: a floor"
    return ""
