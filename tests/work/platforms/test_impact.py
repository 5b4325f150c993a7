"""What a changed sheet would do: every device whose state, runway or cost moves, and whoever relies on an override."""

from __future__ import annotations

from decimal import Decimal

import pytest

from doorstone.core.forecast.costs import ways
from doorstone.core.forecast.device_forecast import forecast
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.platforms.impact import CostMove, Impact, RunwayMove, StateMove, sheet_impact
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import ADMIN, D, changed_sheet, granted, line, read
from tests.build import CHIPLESS, GOOD
from tests.work.platforms.test_revisions import EDITS, edited


def impact(context: Context, old: str, new: str) -> Impact:
    text, lists = changed_sheet(old, new)
    return sheet_impact(context, text, lists, "tarn.toml")


@pytest.fixture
def fleet(context: Context) -> Context:
    """d1 meets everything; d2 and d3 lack chip and processor, and only d2 has an exception for it."""
    read(context, line("d1", GOOD), line("d2", CHIPLESS), line("d3", {**CHIPLESS, "disk.system_gib": 477}))
    granted(context, "d2")
    return context


def test_a_release_that_ends_earlier_moves_runways_and_costs(fleet: Context) -> None:
    found = impact(fleet, "desk = 2027-11-30", "desk = 2027-10-31")
    assert [change.words for change in found.changes] == ["desk is serviced through 2027-10-31, was 2027-11-30"]
    assert (found.moves, found.devices) == ((), 0)
    # The overrides for the chip end at 9.2; by its exception d2 has 9.1 until 30 September only.
    assert found.runways == (RunwayMove("technical", D("2027-11-30"), D("2027-10-31"), 2, ("d2", "d3")),)
    # By hand: 110 minutes are 1.83 h, 76.86. 316 days are five looks, 0.83 h, 34.86; 286 days four, 0.67 h, 28.14.
    assert found.costs == (CostMove("except", Decimal("111.72"), Decimal("105.00"), 2, ("d2", "d3")),)
    assert (found.exceptions, found.kits, found.relying) == ((), (), ())


def test_the_approved_line_moves_with_the_technical_where_nothing_is_excepted(fleet: Context) -> None:
    found = impact(fleet, "desk = 2029-06-30", "desk = 2029-03-31")
    one = D("2029-06-30"), D("2029-03-31"), 1, ("d1",)
    assert found.runways == (RunwayMove("approved", *one), RunwayMove("technical", *one))
    assert found.costs == ()  # two moves that are offered cost what they did


def test_an_exception_that_goes_stale_no_longer_carries_its_device(fleet: Context) -> None:
    found = impact(
        fleet,
        '{ fact = "tpm.version", at_least_version = "2.0" }',
        '{ fact = "tpm.version", at_least_version = "1.9" }',
    )
    assert [(one.id, one.devices) for one in found.exceptions] == [("EX-0001", ("d2",))]
    assert found.moves == (StateMove("tarn", "9.1", "excepted", "needs-exception", 1, ("d2",)),)
    assert found.runways == (RunwayMove("approved", D("2027-09-30"), D("2027-02-28"), 1, ("d2",)),)


def test_whoever_relies_on_an_override_that_ends_is_named_by_forecast_and_exception(fleet: Context) -> None:
    text, lists = changed_sheet('until = "9.2"', 'until = "9.1"')
    found = sheet_impact(fleet, text, lists, "tarn.toml")
    relying = {one.id: (one.devices, one.words) for one in found.relying}
    assert relying["compat-drop-in"] == (
        ("d2", "d3"),
        ("no longer works on 9.1", "2 by their forecast", "1 by their exceptions"),
    )
    # What is left of 9 is 9.0, whose servicing has ended: 8 through February is all.
    assert RunwayMove("technical", D("2027-11-30"), D("2027-02-28"), 2, ("d2", "d3")) in found.runways
    assert RunwayMove("approved", D("2027-09-30"), D("2027-02-28"), 1, ("d2",)) in found.runways
    assert CostMove("except", Decimal("111.72"), None, 2, ("d2", "d3")) in found.costs


def test_a_fix_that_costs_more_moves_the_ways_that_need_it(context: Context) -> None:
    read(context, line("small", {**GOOD, "memory.mib": 2048}), line("good", GOOD))
    found = impact(context, 'cost = "38.00"', 'cost = "40.00"')
    assert found.runways == ()
    assert [(c.way, c.count, c.devices, c.becomes - c.was) for c in found.costs if c.was and c.becomes] == [
        ("fix", 1, ("small",), Decimal("2.00"))
    ]


def test_the_first_sheet_and_the_same_sheet_move_nothing(fleet: Context) -> None:
    assert impact(fleet, "format = 1", "format = 1").changed is False
    text, lists = changed_sheet('id = "tarn"', 'id = "other"')
    first = sheet_impact(fleet, text, lists, "other.toml")
    assert (first.revision, first.moves, first.runways) == (0, (), ())


def test_a_changed_sheet_moves_just_the_devices_that_it_tells_apart_from_their_class(context: Context) -> None:
    sizes = {f"d{n}": mib for n, mib in enumerate((4096, 5000, 6100, 8192, 8000, 16384))}
    read(context, *(line(device, {**GOOD, "memory.mib": mib}) for device, mib in sizes.items()))

    def classes() -> dict[str, int | None]:
        return {row.id: row.profile for row in snapshot(context).rows(sizes)}

    before = classes()
    assert len({before[d] for d in ("d2", "d3", "d4", "d5")}) == 1  # with its tolerance 6,100 MiB are 6 GiB
    revisions.load_sheet(context, ADMIN, *changed_sheet("at_least = 6144", "at_least = 8192"), "tarn.toml")
    after = classes()
    assert (after["d0"], after["d1"]) == (before["d0"], before["d1"])
    assert after["d2"] == after["d0"]
    assert len({after[d] for d in ("d3", "d4", "d5")}) == 1
    now = snapshot(context)
    for device in sizes:
        row, alone = now.device(device), now.assessment(device, "9.1")
        stands = now.stands(row, now.sheets["tarn"].platform, "9.1")
        assert (stands.state, dict(stands.marks)) == (alone.state, {f.requirement.id: f.mark for f in alone.findings})


def seen(context: Context) -> dict[str, dict[str, object]]:
    """What each device is shown as, asked one by one: states, runways of both lines, costs."""
    now = snapshot(context)
    platform, found = now.sheets["tarn"].platform, dict[str, dict[str, object]]()
    for row in now.rows(now.held_by_device().keys() | {f"d{n}" for n in range(12)}):
        view, held, decisions = now.view(row.id), now.exceptions_of(row.id), now.decisions_for(platform)
        mine: dict[str, object] = {r.id: str(now.stands(row, platform, r.id).state) for r in platform.releases}
        ahead = forecast(platform, row.id, view, decisions, held)
        mine |= {"technical": ahead.technical.runway, "approved": ahead.approved.runway}
        costs = ways(platform, row.id, view, decisions, (), context.policy.costs)
        found[row.id] = {**mine, **{f"costs {way.way}": way.cost for way in costs}}
    return found


def moves_of(found: Impact) -> set[tuple[str, object, object, int, tuple[str, ...]]]:
    return {
        *((one.release, one.was, one.becomes, one.count, one.devices) for one in found.moves),
        *((one.line, one.was, one.becomes, one.count, one.devices) for one in found.runways),
        *((f"costs {one.way}", one.was, one.becomes, one.count, one.devices) for one in found.costs),
    }


@pytest.mark.parametrize("edit", [*EDITS, ("desk = 2027-11-30", "desk = 2027-10-31")], ids=lambda edit: edit[1][:60])
def test_what_is_foretold_is_what_loading_does(context: Context, edit: tuple[str, str]) -> None:
    """Devices alike and unlike, two of which two sources contradict each other, one reports a failure, two excepted."""
    own: list[dict[str, object]] = [
        {"memory.mib": 7000}, {"memory.mib": 7001}, {"memory.mib": 8192, "os.arch": "x86"}, {"os.edition": "estate"},
        {"disk.free_gib": 5, "tpm.version": "1.2"}, {"cpu.features": ["avx2"], "disk.system_gib": 100}, {},
        {"disk.free_gib": 20}, {"memory.mib": 7000, "disk.free_gib": 5}, {"disk.free_gib": 200},
    ]  # fmt: skip
    read(context, *(line(f"d{n}", {**GOOD, **facts}) for n, facts in enumerate(own)))
    read(context, *(line(device, {"memory.mib": 5500}, source="assessor") for device in ("d6", "d7")))
    read(context, line("d10", CHIPLESS), line("d11", {**CHIPLESS, "memory.mib": 7000, "disk.free_gib": 20}))
    read(context, line("d9", {}, source="attempt", texts=["The disk is too small."]))
    granted(context, "d10", "d11")
    before, found = seen(context), sheet_impact(context, *edited(edit), "tarn.toml")
    revisions.load_sheet(context, ADMIN, *edited(edit), "tarn.toml")
    moved: dict[tuple[str, object, object], list[str]] = {}
    for device, after in seen(context).items():
        for what in {*before[device], *after}:
            pair = before[device].get(what), after.get(what)
            if pair[0] != pair[1]:
                moved.setdefault((what, *pair), []).append(device)
    assert moves_of(found) == {(*key, len(devices), tuple(sorted(devices))) for key, devices in moved.items()}
    states = {release for one in found.moves for release in (one.release,)}
    assert found.devices == len({d for (what, _, _), devices in moved.items() if what in states for d in devices})
