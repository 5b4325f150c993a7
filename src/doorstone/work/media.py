"""Set-up media: recorded with what is on them, verified, withdrawn; the media that a batch of devices needs."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime

from doorstone.core.facts import Candidate, SettledFact, View
from doorstone.core.media import Media, MediaPlan, Mismatch, Need, fitting, media_facts, media_plan
from doorstone.core.platforms import Platform
from doorstone.core.sorting import State
from doorstone.store import media as store
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.devices import target_release
from doorstone.work.errors import BadInputError, MissingError, RefusedError
from doorstone.work.picture import Picture, picture
from doorstone.work.sheets import get_sheet, need_release

MOST_DEVICES = 5000


@dataclass(frozen=True, slots=True)
class MediaGiven:
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


@dataclass(frozen=True, slots=True)
class MediaView:
    id: str
    row: store.MediaRow
    media: Media
    troubles: tuple[str, ...]


def add_media(desk: Desk, actor: Actor, given: MediaGiven) -> MediaView:
    """Record a media. A SHA-256 that is not the published one is refused: such a media must not be used."""
    platform = get_sheet(desk, given.platform).platform
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
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_media(desk, before)
        values = {
            **{name: getattr(given, name) for name in MediaGiven.__slots__},
            "editions": sorted(given.editions),
            "link_ends": given.link_ends.isoformat() if given.link_ends else None,
            "by": actor.name,
            "at": desk.now(),
        }
        name = id_of("MD", store.add(db, values))
        record(desk, db, actor, "media recorded", "media", name, values, creates=True)
    return get_media(desk, name)


def verify_media(desk: Desk, actor: Actor, name: str, published: str) -> MediaView:
    """Say what the published SHA-256 of a media is. Raises `RefusedError` if the media has another."""
    with desk.database.write() as db:
        row = _need(db, name)
        if published.lower() != row.sha256:
            raise RefusedError(f"{name} has another SHA-256 than that", "Fetch the media again, or correct the digest")
        store.verify(db, row.id, row.sha256)
        record(desk, db, actor, "media verified", "media", name, {"published_sha256": row.sha256})
    return get_media(desk, name)


def withdraw_media(desk: Desk, actor: Actor, name: str, why: str) -> MediaView:
    """Take a media out of use, with a reason; kits that were made for it are no longer handed out."""
    if not why.strip():
        raise BadInputError("Withdrawing takes a reason", "Say in a sentence why it is not to be used")
    with desk.database.write() as db:
        store.withdraw(db, _need(db, name).id, why.strip())
        record(desk, db, actor, "media withdrawn", "media", name, {"why": why.strip()})
    return get_media(desk, name)


def _need(db: sqlite3.Connection, name: str) -> store.MediaRow:
    row = store.get(db, number_of("MD", name))
    if row is None:
        raise MissingError(f"There is no media {name!r}", "See them with 'doorstone media list'")
    return row


def get_media(desk: Desk, name: str) -> MediaView:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        return _view(desk, _need(db, name))


def list_media(desk: Desk, platform: str = "", withdrawn: bool = False) -> list[MediaView]:
    """Newest first."""
    with desk.database.read() as db:
        return [_view(desk, row) for row in store.every(db, platform, withdrawn)]


def _view(desk: Desk, row: store.MediaRow) -> MediaView:
    media = of_row(row)
    troubles = media.troubles(desk.today())
    gone = (f"withdrawn: {row.withdrawn}",) if row.withdrawn else ()
    return MediaView(media.id, row, media, (*gone, *troubles))


def of_row(row: store.MediaRow) -> Media:
    return Media(
        id_of("MD", row.id), row.platform, row.release, row.asked, row.editions, row.language, row.arch, row.size,
        row.sha256, bool(row.published_sha256), row.origin, row.partition_table, row.stick_gb,
        date.fromisoformat(row.link_ends) if row.link_ends else None,
    )  # fmt: skip


# ---------------------------------------------------------- for kits and gates


def on_record(db: sqlite3.Connection, platform: Platform) -> list[Media]:
    """The media of a platform that are in use."""
    return [of_row(row) for row in store.every(db, platform.id)]


def need_of(now: Picture, device: str) -> Need:
    view = now.view(device)
    words = [view.text(name) for name in ("os.edition", "os.base_language", "cpu.arch")]
    return Need(device, now.device(device).site, *words)


def choose_media(now: Picture, media: Sequence[Media], device: str, release: str, wanted: str = "") -> Media | None:
    """The media named, or the one that fits the device best. Raises `MissingError`."""
    if wanted:
        found = next((m for m in media if m.id == wanted), None)
        if found is None:
            raise MissingError(f"There is no media {wanted!r} in use", "See them with 'doorstone media list'")
        return found
    return fitting(media, release, need_of(now, device), now.today)


def with_media(view: View, media: Media | None, release: str, carry_over: str) -> View:
    """What the gates look at: the device, and the upgrade that is to be made with that media."""
    at = datetime.combine(view.as_of, datetime.min.time())
    facts = media_facts(media, release, carry_over)
    added = {name: SettledFact(Candidate(value, "media", at)) for name, value in facts.items()}
    return View(view.as_of, {**view.facts, **added}, view.aged)


# ------------------------------------------------------------------------ plan


def plan_media(desk: Desk, devices: Sequence[str], release: str = "", sticks_per_site: int = 1) -> MediaPlan:
    """Which media these devices need for a release, on which sticks, and whom none serves. Nothing is recorded."""
    if not 0 < len(devices) <= MOST_DEVICES:
        raise BadInputError(f"A media plan is for 1 to {MOST_DEVICES} devices", "Name them, or a selection")
    now = picture(desk)
    platforms = {now.need_sheet(device).platform.id: now.need_sheet(device).platform for device in devices}
    if len(platforms) != 1:
        raise BadInputError("The devices are of several platforms", "Make one plan per platform")
    platform = next(iter(platforms.values()))
    release = release or target_release(platform, now.today)
    need_release(platform, release)
    with desk.database.read() as db:
        media = on_record(db, platform)
    left_out = {name: why for name in dict.fromkeys(devices) if (why := _needs_none(now, platform, name, release))}
    needs = [need_of(now, device) for device in dict.fromkeys(devices) if device not in left_out]
    gone = [Mismatch((name,), why, "Nothing is needed for it") for name, why in left_out.items()]
    return media_plan(media, release, needs, now.today, sticks_per_site, gone)


def _needs_none(now: Picture, platform: Platform, device: str, release: str) -> str:
    """Why a device needs no media of a release: it has it, or cannot take it; empty if it does."""
    row = now.device(device)
    if platform.has(row.runs) and platform.index(row.runs) >= platform.index(release):
        return f"runs {row.runs} already"
    if now.stands(row, platform, release).state == State.FLOORED:
        return f"cannot take {release}: a floor"
    return ""
