"""The counts of a platform's devices at a release."""

from __future__ import annotations

from collections import Counter

from msgspec.structs import replace

from doorstone.core.sorting.counts import RollUp
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import get_sheet, need_release
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.standings import standings


def fleet_roll_up(context: Context, platform_id: str, release: str) -> RollUp:
    """Counts per state, requirement and combination over the devices of a platform."""
    platform = get_sheet(context, platform_id).platform
    need_release(platform, release)
    found = standings(context, platform, release)
    rolled = found.of.roll_up(release, {number: row.devices for number, row in found.rows.items()})
    states = Counter(rolled.states)
    for one in snapshot(context).raised(platform, release).values():
        states[one.before] -= 1
        states[one.stands.state] += 1
    return replace(rolled, states=dict(states))
