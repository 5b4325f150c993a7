"""Who runs what without permission: per device what, since when, what covered it last, and what would end that."""

from __future__ import annotations

from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import get_sheet
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import UncoveredDevice, uncovered_of


def list_uncovered(context: Context, platform: str = "", site: str = "", device: str = "") -> list[UncoveredDevice]:
    """Every such device, the longest without permission first, of one platform, site or device if it is named."""
    now = snapshot(context)
    if platform:
        get_sheet(context, platform)
    names = [platform] if platform else sorted(now.sheets)
    with context.database.read() as db:
        found = [
            one
            for name in names
            for one in uncovered_of(db, now, now.sheets[name].platform)
            if site in ("", one.row.site) and device in ("", one.row.id)
        ]
    return sorted(found, key=lambda one: (one.found.since, one.row.id))
