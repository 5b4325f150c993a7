"""Where devices are, kept from change to change, against every device counted by itself."""

from __future__ import annotations

import random
from collections import Counter

from doorstone.core.devices.filter import DeviceFilter
from doorstone.work.context.context import Context
from doorstone.work.devices.changes import DeviceChange, change_device
from doorstone.work.snapshot.locations import placed
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import ANSELM, line, read
from tests.build import CHIPLESS, GOOD


def one_by_one(context: Context, where: DeviceFilter, by_site: bool, by_role: bool) -> Counter[tuple[int, str, str]]:
    """(profile, site, role) -> devices, by the row of each device."""
    with context.database.read() as db:
        rows = db.execute("SELECT profile, site, role FROM devices WHERE platform = 'tarn' AND profile IS NOT NULL")
        return Counter(
            (profile, site if by_site else "", role if by_role else "")
            for profile, site, role in rows
            if where.site in ("", site) and where.role in ("", role)
        )


def test_where_devices_are_is_what_each_says_of_itself_after_every_change(demo: Context) -> None:
    draw = random.Random(11)
    with demo.database.read() as db:
        devices = [row[0] for row in db.execute("SELECT id FROM devices WHERE platform = 'tarn' ORDER BY id")]
        pairs = db.execute("SELECT DISTINCT site, role FROM devices WHERE platform = 'tarn' ORDER BY 1, 2").fetchall()
    sites, roles = sorted({site for site, _ in pairs}), sorted({role for _, role in pairs})
    for turn in range(12):
        device, site = draw.choice(devices), draw.choice(sites)
        if turn % 3 == 0:
            read(demo, line(device, draw.choice([GOOD, CHIPLESS]), f"2027-01-18T0{turn // 3}:00:00"))
        elif snapshot(demo).device(device).site != site:
            change_device(demo, ANSELM, device, DeviceChange(site), "It moved.")
        for where in (DeviceFilter(), DeviceFilter(site=draw.choice(sites)), DeviceFilter(role=draw.choice(roles))):
            for by_site, by_role in ((False, False), (True, False), (False, True), (True, True)):
                found = placed(demo, "tarn", where, by_site=by_site, by_role=by_role)
                assert found == sorted(found)
                assert {row[:3]: row[3] for row in found} == one_by_one(demo, where, by_site, by_role), where
