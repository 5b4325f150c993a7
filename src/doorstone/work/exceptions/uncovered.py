"""Who runs what without permission: per device what, since when, what covered it last, and what would end that."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import NamedTuple

from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.snapshot.sheets import get_sheet
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import (
    START,
    Lacking,
    LackingKey,
    UncoveredDevice,
    first_lacking,
    in_full,
    key_of,
    lacking_by_site,
    lacking_of,
    site_name,
)


class UncoveredPage(NamedTuple):
    """Some of the uncovered devices; `next` is where the rest begins, None if there is none.

    `total` counts them all; `sites`: where such devices are, whichever site is asked for, each with its number of them.
    """

    items: list[UncoveredDevice]
    next: str | None
    total: int
    sites: dict[str, int]


def list_uncovered(context: Context, devices: Collection[str] | None = None) -> list[UncoveredDevice]:
    """Every such device, or those among some, the longest without permission first."""
    now = snapshot(context)
    found: list[UncoveredDevice] = []
    with context.database.read() as db:
        for name in sorted(now.sheets):
            platform = now.sheets[name].platform
            found += in_full(db, now, platform, list(lacking_of(db, now, platform, devices)))
    return sorted(
        found, key=lambda one: (one.found.since, " ".join(one.found.requirements), one.row.profile or 0, one.row.id)
    )


def uncovered_page(
    context: Context, platform: str = "", site: str = "", device: str = "", cursor: str = "", limit: int = 500
) -> UncoveredPage:
    """A page of the list, of one platform, site or device if it is named. Raises `BadInputError` for no such cursor."""
    now = snapshot(context)
    if platform:
        get_sheet(context, platform)
    names = [platform] if platform else sorted(now.sheets)
    after = _place(cursor)
    found: list[tuple[LackingKey, str, Lacking]] = []
    sites: dict[str, int] = {}
    with context.database.read() as db:
        for name in names:
            of = now.sheets[name].platform
            if device:
                mine = [one for one in lacking_of(db, now, of, [device]) if key_of(one) > after]
                mine = [one for one in mine if site in ("", site_name(one.site))]
                counted = {site_name(one.site): 1 for one in mine}
            else:
                mine = first_lacking(db, now, of, site, after, limit + 1)
                counted = {site_name(at): n for at, n in lacking_by_site(db, now, of).items()}
            found += [(key_of(one), name, one) for one in mine]
            for at, devices in counted.items():
                sites[at] = sites.get(at, 0) + devices
        found.sort(key=lambda one: one[0])
        page = found[:limit]
        items = {
            one.row.id: one
            for name in names
            for one in in_full(db, now, now.sheets[name].platform, [lacking for _, of, lacking in page if of == name])
        }
    sites = {at: sites[at] for at in sorted(sites) if sites[at]}
    total = sites.get(site, 0) if site else sum(sites.values())
    rest = "|".join(map(str, page[-1][0])) if len(found) > len(page) else None
    return UncoveredPage([items[one.device] for _, _, one in page], rest, total, sites)


def _place(cursor: str) -> LackingKey:
    if not cursor:
        return START
    try:
        since, requirements, profile, device = cursor.split("|", 3)
        return LackingKey(date.fromisoformat(since), requirements, int(profile), device)
    except ValueError:
        raise BadInputError(f"{cursor!r} is no place in the list", "Use the `next` of a page") from None
