"""Counts agree: what a page, a command or a call says of a fleet adds up to what going through its devices gives."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Callable, Iterator

import pytest

from doorstone.api.devices import DeviceFilter, DeviceResponse, SelectionRequest
from doorstone.api.fleet import WhatIfRequest
from doorstone.client import Client
from tests.running import Run, Running

STATES = ("clear", "fixable", "excepted", "needs-exception", "floored", "unsettled")
RELEASES = ("9.1", "9.2")


@pytest.fixture
def client(shown: Running) -> Iterator[Client]:
    with Client(shown.address, shown.tokens["odile"]) as made:
        yield made


def by_hand(devices: list[DeviceResponse]) -> dict[str, int]:
    return dict(Counter(str(device.state) for device in devices))


@pytest.mark.parametrize("release", RELEASES)
def test_every_call_counts_the_same_devices(client: Client, release: str) -> None:
    devices = list(client.devices("tarn", release=release))
    states = by_hand(devices)
    assert states["excepted"] > 0
    overview = client.overview("tarn", release)
    assert {name: n for name, n in overview.roll_up.states.items() if n} == states
    assert overview.roll_up.devices == sum(overview.running.values()) == len(devices)
    for site in overview.sites:
        assert site.states == by_hand([d for d in devices if (d.site or "no site") == site.site]), site.site
    for by in ("site", "model", "role", "runs"):
        fleet = client.fleet("tarn", release=release, by=by)
        assert (fleet.states, fleet.devices) == (states, len(devices))
        for group in fleet.groups:
            of = [d for d in devices if (getattr(d, "release" if by == "runs" else by) or "unknown") == group.name]
            assert (group.states, group.devices) == (by_hand(of), len(of)), (by, group.name)
    for state in STATES:
        ids = [d.id for d in devices if d.state == state]
        assert [d.id for d in client.devices("tarn", release=release, state=state)] == ids
        fleet = client.fleet("tarn", release=release, state=state)
        assert fleet.states == ({state: len(ids)} if ids else {})
        assert sum(group.devices for group in fleet.groups) == len(ids)
    for device in devices[::9]:
        assert client.device(device.id, release).device.state == device.state
        assert client.assessment(device.id, release).state == device.state
        assert client.device_fixes(device.id, release).state == device.state
    supposed = client.what_if(WhatIfRequest(platform="tarn", release=release))
    assert supposed.before == supposed.after == states
    assert client.fleet_forecast("tarn", release).devices == len(devices)


@pytest.mark.parametrize("release", RELEASES)
def test_every_requirement_is_counted_alike(client: Client, release: str) -> None:
    devices = list(client.devices("tarn", release=release))
    marks = {name: dict(Counter(d.marks[name] for d in devices)) for name in devices[0].marks}
    assert {row.requirement: row.marks for row in client.overview("tarn", release).roll_up.requirements} == marks
    assert {row.requirement: row.marks for row in client.fleet("tarn", release=release).requirements} == marks
    assert {row.requirement: row.marks for row in client.sorting("tarn", release)} == marks
    for name, of in marks.items():
        for mark, n in of.items():
            assert len(list(client.devices("tarn", release=release, requirement=name, mark=mark))) == n


def test_a_filter_by_state_chooses_the_same_devices_for_everything(client: Client) -> None:
    """Of devices that are alike some have an exception, and only these are chosen with `excepted`."""
    excepted = {d.id for d in client.devices("tarn", state="excepted")}
    needing = {d.id for d in client.devices("tarn", state="needs-exception")}
    assert not excepted & needing
    for state, ids in (("excepted", excepted), ("needs-exception", needing)):
        sides = client.compare_fleet("tarn", release="9.1", route="in-place", other_release="9.2", state=state)
        assert sides.devices == len(ids)
        assert {name for shift in sides.shifts for name in shift.devices} <= ids
        done = client.what_if(WhatIfRequest(platform="tarn", all_fixes=True, where=DeviceFilter(state=state)))
        assert done.devices == len(ids)
        assert {name for move in done.moves for name in move.devices} <= ids
        visited = {v.device for s in client.fix_round("tarn", state=state).sites for a in s.actions for v in a.visits}
        assert visited <= ids


def test_commands_count_what_calls_count(look: Run, client: Client) -> None:
    def table(*words: str) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(look(*words, "--format", "csv", by="odile").stdout)))

    states = client.overview("tarn").roll_up.states
    for state in STATES:
        assert len(table("device", "list", "--state", state)) == states[state]
    for by in ("site", "model", "role", "runs"):
        groups = table("fleet", "show", "--by", by)
        assert {s: sum(int(g.get(s) or 0) for g in groups) for s in STATES} == states
        assert sum(int(g["devices"]) for g in groups) == 180
    shown_rows = table("sorting", "show")
    for row in client.sorting("tarn", "9.1"):
        (said,) = [r for r in shown_rows if r["requirement"] == row.requirement]
        assert int(said["not met"] or 0) == sum(n for mark, n in row.marks.items() if mark != "met")


def test_a_saved_selection_counts_as_its_filter(as_role: Callable[[str], Client]) -> None:
    client = as_role("technician")
    client.save_selection("in hand", SelectionRequest(platform="tarn", where=DeviceFilter(state="excepted")))
    chosen = {d.id for d in client.devices("tarn", state="excepted")}
    assert client.fleet("tarn", selection="in hand").states == {"excepted": len(chosen)}
