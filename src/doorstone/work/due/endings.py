"""What ends by itself: servicing of releases that devices run, links of media, kits that nobody has used yet."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import date, timedelta

from doorstone.core.due import Due, DueKind
from doorstone.core.platforms.platform import Platform
from doorstone.store import attempts as attempt_store
from doorstone.store import kits as kit_store
from doorstone.store import media as media_store
from doorstone.store.devices import devices as device_store
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.snapshot import Snapshot

HANDS = frozenset({"technician", "administrator"})
SERVICING_AHEAD = timedelta(days=90)
"""Moving a fleet takes weeks."""


def endings(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """Each ending that is near, or past while it still matters."""
    for name in sorted(now.sheets):
        yield from _servicing(db, now, now.sheets[name].platform)
    until = now.today + timedelta(days=context.policy.ahead_days)
    yield from _links(db, now.today, until)
    yield from _kits(db, now, until)


def _servicing(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Releases whose servicing ends while devices run them, by edition."""
    editions = {name.casefold(): name for name in platform.editions}
    for runs, edition, devices, sites in device_store.running(db, platform.id):
        known = editions.get(edition.casefold(), platform.editions[0] if len(platform.editions) == 1 else "")
        ends = platform.release(runs).servicing_ends.get(known) if platform.has(runs) else None
        if ends is not None and ends <= now.today + SERVICING_AHEAD:
            count = "1 device" if devices == 1 else f"{devices} devices"
            word = "ended" if ends < now.today else "ends"
            words = f"{platform.id} {runs}, {known}: servicing {word} with this day for {count}; take the next release"
            yield Due(
                DueKind.SERVICING_ENDS, ends, "platform", platform.id, words, roles=HANDS, sites=frozenset(sites),
                part=f"{runs} {known}",
            )  # fmt: skip


def _links(db: sqlite3.Connection, today: date, until: date) -> Iterator[Due]:
    for row in media_store.every(db):
        if row.link_ends is not None and date.fromisoformat(row.link_ends) <= until:
            name, on = id_of("MD", row.id), date.fromisoformat(row.link_ends)
            what = f"{row.platform} {row.release}, {row.language}"
            word = "ended" if on < today else "ends"
            words = f"{name}: the link of {what}, {word} with this day: ask for it again"
            yield Due(DueKind.LINK_ENDS, on, "media", name, words, roles=HANDS)


def _kits(db: sqlite3.Connection, now: Snapshot, until: date) -> Iterator[Due]:
    """Kits that were made and not used on each of their devices, and may soon no longer be."""
    used = {(a.kit, a.device) for a in attempt_store.every(db) if a.outcome == "completed"}
    for row in kit_store.every(db, None):
        last = date.fromisoformat(row.expires_on) if row.expires_on else None
        left = [device for device in row.devices if (row.id, device) not in used]
        if left and last is not None and now.today <= last <= until:
            name = id_of("KT", row.id)
            words = f"{name} for {', '.join(left[:4])} may be used through this day: use it, or renew what it rests on"
            sites = frozenset(one.site for one in now.rows(left))
            yield Due(DueKind.KIT_EXPIRES, last, "kit", name, words, roles=HANDS, sites=sites)
