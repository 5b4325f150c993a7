"""Imports as jobs: checked to the end, then taken over; refused, cancelled or halted without anything half done."""

from __future__ import annotations

import io
import json
import threading
from typing import Any

import pytest

from doorstone.demo.seed import PETRA, export_text
from doorstone.store import devices as device_store
from doorstone.store import profiles as profile_store
from doorstone.store.devices import Filter
from doorstone.work import devices, disputes, intake, sorting
from doorstone.work.board import standings
from doorstone.work.desk import Actor, Desk, FixedClock
from doorstone.work.errors import BadInputError, MissingError, RefusedError
from doorstone.work.intake import Import, ImportGiven
from tests.build import CHIPLESS, GOOD, tarn

WILHELMINA = Actor("wilhelmina", "administrator", "console")


def line(device: str, facts: dict[str, Any], at: str = "2027-01-15T08:00:00", **more: Any) -> str:
    return json.dumps({"device": device, "source": "assessor", "taken_at": at, "facts": facts, **more}) + "\n"


def received(desk: Desk, text: str, **how: Any) -> str:
    name = intake.begin(desk, PETRA, ImportGiven("ndjson", "f.ndjson", **how)).id
    intake.receive(desk, PETRA, name, io.BytesIO(text.encode()))
    return name


def done(desk: Desk, text: str, **how: Any) -> Import:
    return intake.run(desk, received(desk, text, **how))


def fleet(count: int, facts: dict[str, Any]) -> str:
    return "".join(line(f"d{number:05d}", facts) for number in range(count))


def ids(desk: Desk) -> list[str]:
    with desk.database.read() as db:
        return device_store.ids(db)


def spooled(desk: Desk) -> list[str]:
    folder = desk.database.path.parent / "imports"
    return sorted(path.name for path in folder.iterdir()) if folder.exists() else []


def test_a_received_file_is_checked_and_taken_over_and_leaves_no_file(desk: Desk) -> None:
    found = done(desk, fleet(1200, dict(GOOD)))
    row = found.row
    assert (row.state, row.readings, row.devices, row.added, row.checked, row.applied) == (
        "done", 1200, 1200, 1200, 1200, 1200,
    )  # fmt: skip
    assert row.position == row.size
    assert spooled(desk) == []
    assert devices.list_devices(desk, "tarn", "9.1", Filter()).total == 1200


def test_bad_lines_refuse_the_file_or_are_left_out_by_choice(desk: Desk) -> None:
    text = line("d1", GOOD) + "nonsense\n" + line("d2", {"memory.mib": "8 Gbit"}) + line("d3", GOOD)
    refused = done(desk, text)
    assert (refused.row.state, refused.row.why) == ("refused", "Nothing was imported: 2 lines cannot be read")
    assert ids(desk) == []
    kept = done(desk, text, skip=True)
    assert (kept.row.state, kept.row.readings, kept.row.rejected) == ("done", 2, 2)
    assert ids(desk) == ["d1", "d3"]
    problems = [(p.number, p.line, p.place) for p in intake.import_problems(desk, kept.id)]
    assert problems == [(1, 2, "column 1"), (2, 3, "memory.mib")]


def test_every_rejected_line_is_told_page_by_page(desk: Desk) -> None:
    refused = done(desk, "x\n" * 250)
    first = intake.import_problems(desk, refused.id, 0, 100)
    last = intake.import_problems(desk, refused.id, 200, 100)
    assert (first[0].line, first[-1].line, [p.line for p in last][-1], len(last)) == (1, 100, 250, 50)


def test_a_dry_run_says_what_would_change_and_changes_nothing(desk: Desk) -> None:
    done(desk, line("d1", GOOD) + line("d2", CHIPLESS))
    before = devices.get_device(desk, "d1", "9.1")
    later = line("d1", {**GOOD, "tpm.state": "off"}, "2027-01-16T08:00:00") + line("d3", CHIPLESS)
    found = done(desk, later, dry=True)
    assert (found.row.state, found.row.readings, found.row.added) == ("done", 2, 1)
    towards = {"platform": "tarn", "release": "9.1"}
    assert found.changes == {
        "moves": [
            {**towards, "was": "", "becomes": "needs-exception", "count": 1, "devices": ["d3"]},
            {**towards, "was": "clear", "becomes": "fixable", "count": 1, "devices": ["d1"]},
        ],
        "disputes": [],
        "facts": [{"fact": "tpm.state", "devices": 1, "device": "d1", "was": "on", "becomes": "off"}],
    }
    assert ids(desk) == ["d1", "d2"]
    assert devices.get_device(desk, "d1", "9.1") == before
    assert spooled(desk) == []


def test_what_a_dry_run_says_is_what_the_import_does(demo: Desk) -> None:
    export, mapping = export_text()
    export = export.replace("Perhaps", "None").replace("2 sticks", "2").replace("10/01/2027", "17/01/2027")
    export = export.replace("16,512,Enabled", "16,512,None")
    given = {"form": "csv", "mapping": mapping}
    tried = intake.import_readings(demo, PETRA, export, ImportGiven(**given, dry=True))
    assert tried.changes is not None
    before = {d: devices.assess_device(demo, d).state.value for d in ("nbt-064", "nbt-133", "nbt-150", "nbt-021")}
    disputed_before = {(d.device, d.requirements) for d in disputes.list_disputes(demo, "tarn")}
    intake.import_readings(demo, PETRA, export, ImportGiven(**given))
    after = {d: devices.assess_device(demo, d).state.value for d in before}
    moved = {d: (m["was"], m["becomes"]) for m in tried.changes["moves"] for d in m["devices"]}
    assert moved == {d: (before[d], after[d]) for d in before if before[d] != after[d]}
    # Of both chips the assessor says on and the export none; nbt-133 needs an exception whatever its chip is.
    assert moved == {"nbt-064": ("clear", "unsettled")}
    disputed = {(d.device, d.requirements) for d in disputes.list_disputes(demo, "tarn")} - disputed_before
    assert disputed == {("nbt-064", ("security-chip",)), ("nbt-133", ("security-chip",))}
    towards = {"platform": "tarn", "release": "9.1"}
    assert tried.changes["disputes"] == [
        {**towards, "requirement": "security-chip", "count": 2, "devices": ["nbt-064", "nbt-133"]}
    ]


@pytest.fixture
def small_steps(monkeypatch: pytest.MonkeyPatch) -> None:
    """Five hundred readings to a step, checked or taken over."""
    monkeypatch.setattr(intake, "CHUNK", 500)
    monkeypatch.setattr(intake, "SMALL", 500)
    monkeypatch.setattr(intake, "CHECKED", 500)


@pytest.mark.usefixtures("small_steps")
def test_cancelled_before_or_while_it_is_checked_nothing_has_changed(desk: Desk) -> None:
    name = intake.begin(desk, PETRA, ImportGiven("ndjson")).id
    assert intake.cancel(desk, PETRA, name).row.state == "cancelled"
    with pytest.raises(RefusedError, match="cancelled; it has its file"):
        intake.receive(desk, PETRA, name, io.BytesIO(b""))
    other = received(desk, fleet(3000, dict(GOOD)))
    asked = 0

    def cancel_in_the_middle() -> bool:
        nonlocal asked
        asked += 1
        if asked == 3:
            intake.cancel(desk, PETRA, other)
        return False

    assert intake.run(desk, other, cancel_in_the_middle).row.state == "cancelled"
    assert (ids(desk), spooled(desk)) == ([], [])
    with pytest.raises(RefusedError, match="nothing to cancel"):
        intake.cancel(desk, PETRA, other)


@pytest.mark.usefixtures("small_steps")
def test_once_it_takes_over_it_is_carried_to_its_end_even_over_a_stop(desk: Desk) -> None:
    name = received(desk, fleet(2000, dict(CHIPLESS)))
    asked = 0

    def stop_in_the_middle() -> bool:
        nonlocal asked
        asked += 1
        return asked == 7  # four pieces checked, two taken over

    halted = intake.run(desk, name, stop_in_the_middle)
    assert (halted.row.state, halted.row.applied, halted.ended) == ("applying", 1000, False)
    with pytest.raises(RefusedError, match="is being taken over and will be finished"):
        intake.cancel(desk, PETRA, name)
    assert len(ids(desk)) == 1000
    again = Desk(desk.database, FixedClock(desk.clock.now()))
    assert intake.resume(again) == [name]
    ended = intake.run(again, name)
    assert (ended.row.state, ended.row.readings, ended.row.devices, ended.row.added) == ("done", 2000, 2000, 2000)
    assert sorting.fleet_roll_up(again, "tarn", "9.1").states["needs-exception"] == 2000


@pytest.mark.usefixtures("small_steps")
def test_a_stop_while_it_checks_begins_the_check_again_and_one_without_a_file_comes_to_nothing(desk: Desk) -> None:
    bare = intake.begin(desk, PETRA, ImportGiven("ndjson")).id
    name = received(desk, fleet(1500, dict(GOOD)) + "nonsense\n", skip=True)
    halts = iter([False, False, True])
    assert intake.run(desk, name, lambda: next(halts)).row.state == "checking"
    assert intake.resume(desk) == [name]
    assert intake.get_import(desk, bare).row.why == "The service stopped before the file had come"
    ended = intake.run(desk, name)
    assert (ended.row.readings, ended.row.rejected) == (1500, 1)
    assert len(intake.import_problems(desk, name)) == 1


def test_others_work_while_an_import_is_taken_over(desk: Desk) -> None:
    name = received(desk, fleet(4000, dict(GOOD)))
    worker = threading.Thread(target=lambda: intake.run(desk, name))
    worker.start()
    decided = 0
    while worker.is_alive():
        sorting.decide(
            desk, WILHELMINA, "tarn", "storage", "9.1", "release", "", "installer-check", "trial", "Tried again."
        )
        decided += 1
    assert intake.get_import(desk, name).row.state == "done"
    assert decided >= 3
    assert sorting.fleet_roll_up(desk, "tarn", "9.1").states["clear"] == 4000


def test_only_who_began_it_or_an_administrator_sends_its_file(desk: Desk) -> None:
    name = intake.begin(desk, PETRA, ImportGiven("ndjson")).id
    with pytest.raises(RefusedError, match="begun by petra"):
        intake.receive(desk, Actor("anselm", "technician", "test"), name, io.BytesIO(b""))
    intake.receive(desk, WILHELMINA, name, io.BytesIO(line("d1", GOOD).encode()))
    assert intake.run(desk, name).row.state == "done"


@pytest.mark.parametrize(
    ("given", "message"),
    [
        (ImportGiven("xlsx"), "'xlsx' is not a form of readings"),
        (ImportGiven("csv", mapping="format = 2"), "The mapping cannot be used"),
    ],
)
def test_what_cannot_be_begun(desk: Desk, given: ImportGiven, message: str) -> None:
    with pytest.raises(BadInputError, match=message):
        intake.begin(desk, PETRA, given)
    with pytest.raises(MissingError, match="no import 'IM-0009'"):
        intake.get_import(desk, "IM-0009")


# ------------------------------------------------------------------ profiles


def profiles(desk: Desk) -> dict[str, int]:
    with desk.database.read() as db:
        return {str(number): size for number, size in profile_store.sizes(db, "tarn").items()}


def stand(desk: Desk, release: str = "9.1") -> list[tuple[str, int]]:
    """State and number of devices of each profile."""
    found = standings(desk, tarn(), release)
    return sorted((found.of[number].state, row.devices) for number, row in found.rows.items())


def test_devices_that_are_alike_share_a_profile_and_are_sorted_once(desk: Desk) -> None:
    done(desk, fleet(40, dict(GOOD)) + "".join(line(f"c{n}", dict(CHIPLESS)) for n in range(7)))
    assert sorted(profiles(desk).values()) == [7, 40]
    assert stand(desk) == [("clear", 40), ("needs-exception", 7)]
    done(desk, line("c9", dict(CHIPLESS)))
    assert stand(desk) == [("clear", 40), ("needs-exception", 8)]


def test_a_decision_sorts_anew_only_what_it_touches(desk: Desk) -> None:
    other = {**CHIPLESS, "machine.model": "Fallow 999"}
    done(desk, line("d1", GOOD) + line("d2", CHIPLESS) + line("d3", other))
    before = [("clear", 1), ("needs-exception", 1), ("needs-exception", 1)]
    assert stand(desk, "9.1") == stand(desk, "9.2") == before
    asked = ("tarn", "security-chip", "9.1", "model", "Fallow 310", "floor", "trial", "It stops at start.")
    decided = sorting.decide(desk, WILHELMINA, *asked)
    assert stand(desk, "9.1") == [("clear", 1), ("floored", 1), ("needs-exception", 1)]  # the profile of that model
    assert stand(desk, "9.2") == before
    sorting.withdraw(desk, WILHELMINA, decided.id, "It was another fault.")
    assert stand(desk, "9.1") == before
    own = sorting.decide(
        desk, WILHELMINA, "tarn", "security-chip", "9.1", "device", "d3", "floor", "trial", "Only this one."
    )
    done(desk, line("d4", other))
    assert stand(desk) == [("clear", 1), ("floored", 1), ("needs-exception", 1), ("needs-exception", 1)]
    with pytest.raises(RefusedError, match="was withdrawn"):
        sorting.withdraw(desk, WILHELMINA, decided.id, "Once more.")
    assert own.id == "SD-0002"


def test_a_new_day_moves_only_devices_whose_words_have_aged(desk: Desk) -> None:
    done(desk, line("d1", GOOD, verdicts={"storage": "fail"}) + line("d2", GOOD))
    assert devices.assess_device(desk, "d1", "9.1").state == "unsettled"
    later = Desk(desk.database, FixedClock(desk.clock.now().replace(month=2, day=15)))
    assert devices.list_devices(later, "tarn", "9.1", Filter(state="clear")).total == 2
    earlier = Desk(desk.database, FixedClock(desk.clock.now()))
    assert devices.list_devices(earlier, "tarn", "9.1", Filter(state="clear")).total == 1


def test_counts_by_profile_are_those_of_the_devices_one_by_one(demo: Desk) -> None:
    for release in ("9.1", "9.3"):
        rolled = sorting.fleet_roll_up(demo, "tarn", release)
        page = devices.list_devices(demo, "tarn", release, Filter(), limit=500)
        slow = [devices.assess_device(demo, one.id, release) for one in page.lines]
        assert {s: n for s, n in rolled.states.items() if n} == {
            s: sum(a.state == s for a in slow) for s in {a.state.value for a in slow}
        }
        for one, assessed in zip(page.lines, slow, strict=True):
            assert (one.state, dict(one.marks)) == (
                assessed.state,
                {f.requirement.id: f.mark for f in assessed.findings},
            )


@pytest.mark.parametrize(
    ("size", "took", "wanted", "expected"),
    [
        (1_000, 0.15, 0.15, 1_000),  # as long as it may: stays
        (1_000, 0.30, 0.15, 500),  # twice as long: half
        (1_000, 0.01, 0.15, 2_000),  # far less: twice as many, no more at once
        (3_000, 0.01, 0.15, 4_000),  # at most CHUNK
        (120, 2.0, 0.03, 100),  # at least SMALL, however slow
        (100, 0.0, 0.03, 200),
    ],
)
def test_a_transaction_of_an_import_takes_over_what_fits_into_its_time(
    size: int, took: float, wanted: float, expected: int
) -> None:
    assert intake._next_size(size, took, wanted) == expected
