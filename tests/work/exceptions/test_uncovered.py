"""Who runs what without permission: since when, what covered it last, and what would end it."""

from __future__ import annotations

from collections import Counter

import pytest

from doorstone.client import Client
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.exceptions.uncovered import UncoveredCause
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.devices.changes import DeviceChange, change_device
from doorstone.work.due import due_list as due
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.uncovered import list_uncovered
from doorstone.work.forecast import forecasts
from doorstone.work.snapshot.locations import devices_by_site
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import UncoveredDevice, lacking_by_site, lacking_of
from tests.asking import ANSELM, CHIP, PETRA, D, asked, granted, line, on, read
from tests.build import CHIPLESS, GOOD
from tests.running import Run, Running

RUNS = {**CHIPLESS, "os.release": "9.1"}


def only(context: Context) -> UncoveredDevice:
    (found,) = list_uncovered(context)
    assert (found.row.id, found.release) == ("d1", "9.1")
    return found


def said(context: Context) -> tuple[object, ...]:
    found = only(context).found
    return found.requirements, found.since, found.cause, found.last


@pytest.fixture
def runs(context: Context) -> Context:
    """d1 runs 9.1 without the chip, d2 runs 8 without it, d3 runs 9.1 and meets everything."""
    read(context, line("d1", RUNS), line("d2", CHIPLESS), line("d3", {**GOOD, "os.release": "9.1"}))
    return context


def test_what_nobody_has_asked_for_counts_from_the_day_on_which_it_was_read(runs: Context) -> None:
    assert said(runs) == (CHIP, D("2027-01-15"), UncoveredCause.NEVER, "")
    assert only(runs).steps == ("Request an exception", "Replace or retire the device")
    exceptions.request(runs, PETRA, asked("d1"))
    assert said(runs) == (CHIP, D("2027-01-15"), UncoveredCause.WAITS, "EX-0001")
    assert only(runs).steps == ("Decide EX-0001", "Replace or retire the device")


def test_an_exception_in_force_ends_it_and_its_last_day_begins_it_again(runs: Context) -> None:
    granted(runs, "d1")  # through 30 September
    assert list_uncovered(runs) == []
    assert list_uncovered(on(runs, "2027-09-30")) == []
    later = on(runs, "2027-10-05")
    read(later, line("d1", RUNS, "2027-10-04T08:00:00"))
    assert said(later) == (CHIP, D("2027-10-01"), UncoveredCause.LAPSED, "EX-0001")
    assert only(later).steps[0] == "Renew EX-0001"
    exceptions.request(later, PETRA, asked("d1", conditions=(), start_on=D("2027-10-05"), expires_on=D("2028-01-31"),
                                           review_on=D("2027-12-01")))  # fmt: skip
    assert only(later).steps == ("Decide EX-0002", "Replace or retire the device")  # it is asked for already
    (item,) = [one for one in due.due_list(later) if one.kind == "uncovered"]
    assert (item.on, item.object) == (D("2027-10-01"), "d1")


def test_a_revoked_one_ends_on_the_day_it_was_revoked(runs: Context) -> None:
    name = granted(runs, "d1")
    decisions.decide(on(runs, "2027-01-20"), ANSELM, name, "revoke", "The site is closed.", None)
    assert said(on(runs, "2027-01-21")) == (CHIP, D("2027-01-20"), UncoveredCause.REVOKED, "EX-0001")


def test_an_exception_for_a_part_leaves_the_rest_uncovered(runs: Context) -> None:
    granted(runs, "d1", requirements=("security-chip",))
    assert said(runs) == (("processor-listed",), D("2027-01-15"), UncoveredCause.NEVER, "")


def test_a_stale_approval_covers_nothing_and_what_changed_is_said(runs: Context) -> None:
    granted(runs, "d1")
    read(runs, line("d1", {**RUNS, "cpu.model": "Quern Q3-410"}, "2027-01-17T08:00:00"))
    found = only(runs).found
    # The approval of the 18th was stale on that day: no day since the first reading was covered.
    assert (found.since, found.cause, found.last) == (D("2027-01-15"), UncoveredCause.STALE, "EX-0001")
    assert "Q3-410" in found.why
    assert only(runs).steps[0] == "Reconfirm EX-0001"


def test_overview_call_and_command_say_the_same(shown: Running, look: Run) -> None:
    with Client(shown.address, shown.tokens["odile"]) as client:
        found = client.uncovered(platform="tarn")
        overview = client.overview("tarn")
        assert overview.uncovered == len(found) == sum(site.uncovered for site in overview.sites) > 0
        for site in overview.sites:
            assert site.uncovered == len(client.uncovered(platform="tarn", site=site.site))
        assert [one.since for one in found] == sorted(one.since for one in found)
        listed = {name for item in client.due(kind="uncovered") for name in item.words.split(":")[0].split()}
        assert {one.device for one in found} <= {name.strip(",") for name in listed}
    table = look("exception", "uncovered", "-p", "tarn", "--format", "csv", by="odile").stdout.splitlines()
    assert len(table) == len(found) + 1
    assert all(one.device in look("exception", "uncovered", by="odile").stdout for one in found)


def test_counts_by_profile_are_those_of_the_devices(demo: Context) -> None:
    now = snapshot(demo)
    for day in ("2027-01-18", "2027-09-03", "2028-01-10"):
        now = snapshot(on(demo, day))
        platform = now.sheets["tarn"].platform
        with demo.database.read() as db:
            one_by_one = Counter(one.site for one in lacking_of(db, now, platform))
            assert lacking_by_site(db, now, platform) == one_by_one
        assert one_by_one.total() > 0


def test_the_overview_follows_the_exceptions(runs: Context) -> None:
    assert forecasts.overview(runs, "tarn", "9.1").uncovered == 1
    granted(runs, "d1")
    assert forecasts.overview(runs, "tarn", "9.1").uncovered == 0


def test_where_a_few_profiles_are_is_read_as_where_all_are(demo: Context) -> None:
    with demo.database.read() as db:
        full = profile_store.by_site(db, "tarn")
        numbers = sorted({profile for _, profile, _ in full})
        assert len({site for site, _, _ in full}) == 5
        for some in ([], numbers[:1], numbers[3:40:3], numbers, [10**9]):
            part = profile_store.by_site(db, "tarn", some)
            assert sorted(part) == sorted(row for row in full if row[1] in some)
        assert profile_store.by_site(db, "none-such", numbers) == []


def test_where_devices_are_follows_each_that_moves(demo: Context) -> None:
    def places() -> dict[str, int]:
        found: Counter[str] = Counter()
        for mine in devices_by_site(demo, "tarn").values():
            found.update(dict(mine))
        return dict(found)

    before, was = places(), snapshot(demo).device("nbt-101").site
    change_device(demo, ANSELM, "nbt-101", DeviceChange("Orrin Field Station"), "It moved.")
    assert places() == {**before, was: before[was] - 1, "Orrin Field Station": before["Orrin Field Station"] + 1}
    placed = snapshot(demo).find(snapshot(demo).sheets["tarn"].platform, "9.1", DeviceFilter())
    assert places() == dict(Counter(row.site for row, _ in placed))
