"""Where the devices of profiles are, by site: kept from change to change."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.snapshot.contents import bounded, held_of

MOST_PROFILES = 200_000
FEW_PROFILES = 1_000  # to look up where the devices of so many are takes less than to read where all are


def devices_by_site(context: Context, platform: str) -> Mapping[int, Sequence[tuple[str, int]]]:
    """Profile -> its sites, each with its devices. Those of a profile are read anew once its devices have moved."""

    def read() -> dict[int, Sequence[tuple[str, int]]]:
        known: dict[int, tuple[int, Sequence[tuple[str, int]]]] = context.cached(("sites", platform), None, dict)
        with context.database.read() as db:
            changed = profile_store.changed(db, platform)
            held, missing = held_of(known, changed)
            missing += [profile for profile, (at, _) in held.items() if at != changed[profile]]
            made: dict[int, list[tuple[str, int]]] = {profile: [] for profile in missing}
            few = len(missing) < FEW_PROFILES
            for site, profile, devices in profile_store.by_site(db, platform, missing if few else None):
                if profile in made:
                    made[profile].append((site, devices))
        bounded(known, MOST_PROFILES).update({profile: (changed[profile], mine) for profile, mine in made.items()})
        return {profile: made[profile] if profile in made else held[profile][1] for profile in changed}

    return context.cached(("devices by site", platform), context.stamp().devices, read)


def placed(
    context: Context, platform: str, where: DeviceFilter, *, by_site: bool, by_role: bool
) -> list[tuple[int, str, str, int]]:
    """(profile, site, role, devices): where the devices of a filter's site and role are; nothing else of it counts.

    Sites and roles are added up, and left empty, unless they are told apart.
    """
    if by_role or where.role:
        with context.database.read() as db:
            return profile_store.places(db, platform, where.site, where.role, by_site=by_site, by_role=by_role)
    if not by_site and not where.site:
        with context.database.read() as db:
            return [(profile, "", "", devices) for profile, devices in profile_store.sizes(db, platform).items()]
    return [
        (profile, site if by_site else "", "", devices)
        for profile, sites in devices_by_site(context, platform).items()
        for site, devices in sites
        if where.site in ("", site)
    ]
