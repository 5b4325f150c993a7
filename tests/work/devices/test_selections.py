"""Filters of devices: a page and its total are what going through the devices one by one gives."""

from __future__ import annotations

import json
from itertools import product

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store.devices import devices as device_store
from doorstone.work.context.context import Context
from doorstone.work.devices import views as devices
from doorstone.work.devices.views import DeviceLine
from doorstone.work.snapshot import standings as bulk_standings
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import granted, line, read
from tests.build import CHIPLESS, GOOD


def fits(one: DeviceLine, where: DeviceFilter) -> bool:
    text = f"{one.id} {one.name} {one.site} {one.role} {one.model}".lower()
    mark = one.marks.get(where.requirement, "met")
    return (
        where.state in ("", one.state)
        and where.site in ("", one.site)
        and where.role in ("", one.role)
        and where.model in ("", one.model)
        and (not where.requirement or (mark == where.mark if where.mark else mark != "met"))
        and all(word in text for word in where.words.lower().split())
    )


def every(context: Context, where: DeviceFilter, size: int) -> list[str]:
    """The ids of all pages of a filter, so many a page."""
    found: list[str] = []
    after: str | None = ""
    while after is not None:
        page = devices.list_devices(context, "tarn", "9.1", where, after, size)
        found += [one.id for one in page.lines]
        assert page.total == devices.list_devices(context, "tarn", "9.1", where, "", 1).total
        after = page.next
    return found


@pytest.mark.long
@pytest.mark.parametrize("few", [0, 5_000])
def test_pages_and_totals_of_every_filter(demo: Context, few: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bulk_standings, "FEW", few)
    monkeypatch.setattr(device_store, "MOSTLY", few)  # words: by the index of the platform, and without it
    whole = devices.list_devices(demo, "tarn", "9.1", DeviceFilter(), limit=500)
    sites, models = whole.sites[:3], whole.models[:2]
    asked = [
        DeviceFilter(state=state, site=site, model=model, requirement=requirement, mark=mark)
        for state, site, model, (requirement, mark) in product(
            ["", "floored", "fixable", "excepted", "needs-exception"],
            ["", *sites],
            ["", *models],
            [("", ""), ("security-chip", ""), ("security-chip", "installer-check"), ("storage", "met")],
        )
    ]
    asked += [
        DeviceFilter(words=words, role=role, state=state)
        for words, role, state in product(
            ["", "nbt-01", "fallow", "GLASShouse 3"], ["", *whole.roles[:2]], ["", "excepted", "needs-exception"]
        )
    ]
    now = snapshot(demo)
    platform, some = now.sheets["tarn"].platform, 0
    for where in asked:
        expected = sorted(one.id for one in whole.lines if fits(one, where))
        assert every(demo, where, 7) == expected, where
        assert now.total(platform, "9.1", where) == len(expected), where
        some += bool(expected)
    assert some > 40  # most filters find something


def test_words_are_found_in_letters_of_any_alphabet_and_size(context: Context) -> None:
    for name, site in (("Ährenhaus", "Süd"), ("ahrenhaus", "sud")):
        one = json.loads(line("d1", GOOD))
        read(context, json.dumps({**one, "device": f"d-{len(site.encode())}", "name": name, "site": site}))
    found = {
        words: every(context, DeviceFilter(words=words), 5)
        for words in ("ÄHREN", "süd", "SÜD ähr", "ahren", "hrenHAUS")
    }
    assert found == {"ÄHREN": ["d-4"], "süd": ["d-4"], "SÜD ähr": ["d-4"], "ahren": ["d-3"], "hrenHAUS": ["d-3", "d-4"]}


def test_a_percent_sign_and_an_underscore_are_looked_for_as_they_are(demo: Context) -> None:
    for words in ("%", "_", "\\"):
        assert every(demo, DeviceFilter(words=words), 50) == []


def test_a_snapshot_from_before_an_import_chooses_by_what_devices_are_now(context: Context) -> None:
    """Somebody imports while a list is being made: the device's profile of before has no device any more."""
    read(context, line("d1", CHIPLESS), line("d2", GOOD))
    granted(context, "d1")
    now = snapshot(context)
    platform, where = now.sheets["tarn"].platform, DeviceFilter(state="excepted", model="Fallow 310")
    assert [row.id for row, _ in now.find(platform, "9.1", where)] == ["d1"]
    read(context, line("d1", {**GOOD, "machine.model": "Fallow 310"}, "2027-01-17T08:00:00"))
    assert now.find(platform, "9.1", where) == []
    assert now.total(platform, "9.1", where) == 0
    assert sum(count.devices for count in now.counts(platform, "9.1", DeviceFilter())) == 2
