"""Devices out of service: they count nowhere, their exceptions end, their history stays, and they come back."""

from __future__ import annotations

from datetime import date

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import Life, LifeChange
from doorstone.core.ledger.sentences import sentence
from doorstone.store import ledger_changes
from doorstone.work import fleet, followups
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.devices import changes, lives, views
from doorstone.work.devices.unplaced import list_unplaced
from doorstone.work.due.due_list import due_list
from doorstone.work.exceptions import batch, decisions, requests
from doorstone.work.exceptions.uncovered import list_uncovered
from doorstone.work.forecast import scenarios
from doorstone.work.forecast.forecasts import device_forecast
from doorstone.work.kits import kits
from doorstone.work.ledger.entries import list_entries
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import ANSELM, PETRA, D, asked, granted, line, on, read
from tests.build import CHIPLESS, GOOD, TODAY

RETIRED = LifeChange(Life.RETIRED, TODAY, "Its board is broken.", wiped_by="petra")
ASIDE = LifeChange(Life.SET_ASIDE, TODAY, "Waits for a new fan.", D("2027-02-18"))
BACK = LifeChange(Life.IN_SERVICE, TODAY, "It works again.")


def counts(context: Context) -> dict[str, int]:
    """State -> devices, which every way to count agrees on."""
    found = fleet.fleet_view(context, "tarn", "9.1", DeviceFilter())
    page = views.list_devices(context, "tarn", "9.1", DeviceFilter(), "", 500)
    by_state = {state: n for state, n in found.states.items() if n}
    listed: dict[str, int] = {}
    for one in page.lines:
        listed[one.state] = listed.get(one.state, 0) + 1
    assert by_state == listed
    assert page.total == len(page.lines) == sum(by_state.values())
    ahead = snapshot(context).fleet_forecasts(snapshot(context).sheets["tarn"].platform)
    assert sum(devices for _, devices in ahead) == page.total
    return by_state


def test_a_device_set_aside_counts_nowhere_until_it_is_back(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS), line("d3", GOOD))
    name = granted(context, "d1")
    assert counts(context) == {"excepted": 1, "needs-exception": 1, "clear": 1}
    lives.change_lives(context, PETRA, ["d1", "d2"], ASIDE)
    assert counts(context) == {"clear": 1}
    assert views.get_device(context, "d2").life is not None
    assert requests.get_exception(context, name).state == "approved"
    with pytest.raises(RefusedError) as error:
        requests.request(context, PETRA, asked("d2"))
    assert [entry.detail for entry in error.value.errors] == ["d2 is set aside"]
    with pytest.raises(RefusedError) as error:
        batch.request_each(context, PETRA, asked("d2", requirements=()))
    assert [entry.detail for entry in error.value.errors] == ["d2 is set aside"]
    with pytest.raises(RefusedError) as error:
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert "d1 is set aside" in [entry.detail for entry in error.value.errors]
    later = on(context, "2027-02-18")
    assert [(d.object, d.on) for d in due_list(later) if d.kind == "look-again"] == [
        ("d1", D("2027-02-18")), ("d2", D("2027-02-18")),
    ]  # fmt: skip
    lives.change_lives(context, PETRA, ["d1"], BACK)
    assert counts(context) == {"excepted": 1, "clear": 1}


def test_retiring_ends_its_exceptions_and_lets_others_go_on(context: Context) -> None:
    read(context, *(line(name, CHIPLESS) for name in ("d1", "d2", "d3", "d4")))
    alone, shared = granted(context, "d1"), granted(context, "d2", "d3")
    waits = requests.request(context, PETRA, asked("d4")).id
    done = lives.change_lives(context, PETRA, ["d1", "d2", "d4"], RETIRED)
    assert [(one.device, one.ends, one.leaves) for one in done] == [
        ("d1", (alone,), ()), ("d2", (), (shared,)), ("d4", (waits,), ()),
    ]  # fmt: skip
    states = {name: requests.get_exception(context, name) for name in (alone, shared, waits)}
    assert [view.state for view in states.values()] == ["closed", "approved", "withdrawn"]
    assert states[shared].row.devices == ("d3",)
    assert states[shared].row.left_out == {"d2": "d2 is retired: Its board is broken."}
    assert counts(context) == {"excepted": 1}
    back = lives.change_lives(context, PETRA, ["d1"], BACK)
    assert (back[0].was, back[0].ends) == (Life.RETIRED, ())
    assert counts(context) == {"excepted": 1, "needs-exception": 1}  # its exception does not come back with it


def test_what_is_gone_leaves_nothing_due_and_no_device_uncovered(context: Context) -> None:
    runs = {**CHIPLESS, "os.release": "9.1"}
    read(context, line("d1", runs), line("d2", runs), line("d3", {**GOOD, "os.platform": "fennel"}))
    assert [one.row.id for one in list_uncovered(context)] == ["d1", "d2"]
    lives.change_lives(context, PETRA, ["d1", "d3"], RETIRED)
    assert [one.row.id for one in list_uncovered(context)] == ["d2"]
    assert list_unplaced(context) == []
    late = on(context, "2027-12-01")  # nothing was read for long
    named = {(due.kind.value, device) for due in due_list(late) for device in ("d1", "d2", "d3") if device in due.words}
    assert named == {("uncovered", "d2"), ("not-heard-from", "d2")}


def test_a_retired_device_that_is_read_again_is_due_and_still_counts_nowhere(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD))
    lives.change_lives(context, PETRA, ["d1"], RETIRED)
    later = on(context, "2027-01-25")
    read(later, line("d1", GOOD, "2027-01-24T08:00:00"))
    assert counts(later) == {"clear": 1}
    (found,) = lives.list_lives(later)
    assert (found.row.id, found.last_read_on, found.read_since) == ("d1", date(2027, 1, 24), True)
    assert [due.words for due in due_list(later) if due.kind == "read-after-retired"] == [
        "d1 is retired since 2027-01-18 and was read on 2027-01-24: bring it back, or find out"
    ]


def test_all_or_none_and_every_device_that_cannot_is_named(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD), line("d3", GOOD))
    lives.change_lives(context, PETRA, ["d2"], RETIRED)
    with pytest.raises(RefusedError) as error:
        lives.change_lives(context, PETRA, ["d1", "d2", "d9"], RETIRED)
    assert [(entry.pointer, entry.detail) for entry in error.value.errors] == [
        ("d2", "d2 is retired already"), ("d9", "There is no device 'd9'"),
    ]  # fmt: skip
    assert counts(context) == {"clear": 2}
    with pytest.raises(MissingError):
        lives.change_lives(context, PETRA, ["d9"], RETIRED)
    pair = LifeChange(Life.REPLACED, TODAY, "They swap places.", replaced_by="d3")
    with pytest.raises(RefusedError, match="Nothing was changed"):
        lives.change_lives(context, PETRA, ["d1", "d3"], pair)


def test_a_site_ends_with_all_that_stands_there(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD, site="Orrin"), line("d3", GOOD, site="Orrin"),
         line("d4", {**GOOD, "os.platform": "fennel"}, site="Orrin"))  # fmt: skip
    lives.change_lives(context, PETRA, ["d3"], ASIDE)
    chosen = lives.chosen(context, Life.RETIRED, [], "", "Orrin")
    assert chosen == ["d2", "d3", "d4"]
    lives.change_lives(context, PETRA, chosen, RETIRED)
    assert lives.chosen(context, Life.RETIRED, [], "", "Orrin") == []
    assert counts(context) == {"clear": 1}
    assert [one.change.life.value for one in lives.device_lives(context, "d3")] == ["set-aside", "retired"]


def test_a_site_that_moves_takes_its_devices_along_and_unsettles_what_rests_on_them(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS, site="Orrin"), line("d3", GOOD, site="Orrin"))
    name = granted(context, "d1", "d2")
    move = changes.DeviceChange(site="Library")
    chosen = lives.chosen(context, None, ["d1"], "", "Orrin")
    with pytest.raises(RefusedError) as refused:
        changes.change_devices(context, ANSELM, [*chosen, "d8", "d9"], move, "Orrin closes in spring.")
    assert [one.pointer for one in refused.value.errors] == ["d8", "d9"]
    assert {one.site for one in views.list_devices(context, "tarn", "9.1", DeviceFilter(), "", 9).lines} != {"Library"}
    made = changes.change_devices(context, ANSELM, chosen, move, "Orrin closes in spring.")
    assert [(one.device, one.was["site"], one.stale) for one in made] == [
        ("d1", "Herbarium", (name,)), ("d2", "Orrin", (name,)), ("d3", "Orrin", ()),
    ]  # fmt: skip
    assert {one.site for one in views.list_devices(context, "tarn", "9.1", DeviceFilter(), "", 9).lines} == {"Library"}
    both = changes.DeviceChange("Library", critical=True)
    again = changes.change_devices(context, ANSELM, chosen, both, "All of it.")
    assert [one.now for one in again] == [{"critical": True}] * 3
    with pytest.raises(BadInputError, match="Nothing of the 3 devices would change"):
        changes.change_devices(context, ANSELM, chosen, move, "Orrin closes in spring.")


def test_the_ledger_tells_it_and_a_life_changed_behind_its_back_is_found(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    lives.change_lives(context, PETRA, ["d1"], RETIRED)
    told = [
        sentence(e.action, e.object, e.body, e.actor)
        for name in ("EX-0001", "LF-0001")
        for e in reversed(list_entries(context, obj=name))
    ]
    assert told[-2:] == [
        "petra closed it: “d1 is retired: Its board is broken”.",
        "petra retired d1 on 2027-01-18, its data erased by petra: “Its board is broken”.",
    ]
    with context.database.write() as db:
        before = list(ledger_changes.state_faults(db))  # the people of these tests came without an entry
        assert not [fault for fault in before if "d1" in fault or "EX-" in fault or "LF-" in fault]
        db.execute("UPDATE devices SET life = 'in-service' WHERE id = 'd1'")
        faults = [fault for fault in ledger_changes.state_faults(db) if fault not in before]
    assert faults == ["device d1: its life was changed without an entry"]


def test_follow_ups_of_a_retired_device_are_no_longer_due(demo: Context) -> None:
    later = on(demo, "2027-03-01")
    before = [due for due in due_list(later) if due.object == "nbt-102"]
    assert before
    assert followups.device_followups(later, "nbt-102").steps
    lives.change_lives(later, ANSELM, ["nbt-102"], LifeChange(Life.RETIRED, D("2027-03-01"), "The screen is broken."))
    assert [due.kind.value for due in due_list(later) if due.object == "nbt-102"] == ["data-not-wiped"]
    assert decisions.consequences(later, "EX-0001")


def test_nothing_is_foretold_of_what_is_not_in_service(demo: Context) -> None:
    for ask in (device_forecast, scenarios.device_scenarios):
        with pytest.raises(MissingError, match="nbt-195 is replaced, so it has no forecast"):
            ask(demo, "nbt-195")
