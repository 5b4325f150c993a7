"""Imports as jobs: checked to the end, then taken over; refused, cancelled or halted without anything half done."""

from __future__ import annotations

import io
import json
import sqlite3
import threading
from typing import Any

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.demo.seed import PETRA, export_text
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.work import sorting
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.devices import disputes
from doorstone.work.devices import views as devices
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import Import, ImportOptions
from doorstone.work.snapshot.roll_up import fleet_roll_up
from doorstone.work.snapshot.snapshot import assess_device
from doorstone.work.snapshot.standings import standings
from tests.build import CHIPLESS, GOOD, tarn

WILHELMINA = Actor("wilhelmina", "administrator", "console")


def line(device: str, facts: dict[str, Any], at: str = "2027-01-15T08:00:00", **more: Any) -> str:
    return json.dumps({"device": device, "source": "assessor", "taken_at": at, "facts": facts, **more}) + "\n"


def received(context: Context, text: str, **how: Any) -> str:
    name = import_job.begin(context, PETRA, ImportOptions("ndjson", "f.ndjson", **how)).id
    import_job.receive(context, PETRA, name, io.BytesIO(text.encode()))
    return name


def done(context: Context, text: str, **how: Any) -> Import:
    return import_job.run(context, received(context, text, **how))


def fleet(count: int, facts: dict[str, Any]) -> str:
    return "".join(line(f"d{number:05d}", facts) for number in range(count))


def ids(context: Context) -> list[str]:
    with context.database.read() as db:
        return device_store.ids(db)


def spooled(context: Context) -> list[str]:
    folder = context.database.path.parent / "imports"
    return sorted(path.name for path in folder.iterdir()) if folder.exists() else []


def test_a_received_file_is_checked_and_taken_over_and_leaves_no_file(context: Context) -> None:
    found = done(context, fleet(1200, dict(GOOD)))
    row = found.row
    assert (row.state, row.readings, row.devices, row.added, row.checked, row.applied) == (
        "done", 1200, 1200, 1200, 1200, 1200,
    )  # fmt: skip
    assert row.position == row.size
    assert spooled(context) == []
    assert devices.list_devices(context, "tarn", "9.1", DeviceFilter()).total == 1200


def test_an_import_leaves_no_reference_to_what_is_not_there(context: Context) -> None:
    done(context, line("d1", GOOD) + line("d2", CHIPLESS) + line("d1", {"tpm.version": "1.2"}, source="assessor"))
    done(context, line("d1", GOOD, "2027-01-16T08:00:00"))
    with context.database.read() as db:
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
        assert db.execute("PRAGMA foreign_keys").fetchone()[0] == 1  # they are looked up again after it


def test_bad_lines_refuse_the_file_or_are_left_out_by_choice(context: Context) -> None:
    text = line("d1", GOOD) + "nonsense\n" + line("d2", {"memory.mib": "8 Gbit"}) + line("d3", GOOD)
    refused = done(context, text)
    assert (refused.row.state, refused.row.why) == ("refused", "Nothing was imported: 2 lines cannot be read")
    assert ids(context) == []
    kept = done(context, text, skip=True)
    assert (kept.row.state, kept.row.readings, kept.row.rejected) == ("done", 2, 2)
    assert ids(context) == ["d1", "d3"]
    problems = [(p.number, p.line, p.place) for p in import_job.import_problems(context, kept.id)]
    assert problems == [(1, 2, "column 1"), (2, 3, "memory.mib")]


def test_every_rejected_line_is_told_page_by_page(context: Context) -> None:
    refused = done(context, "x\n" * 250)
    first = import_job.import_problems(context, refused.id, 0, 100)
    last = import_job.import_problems(context, refused.id, 200, 100)
    assert (first[0].line, first[-1].line, [p.line for p in last][-1], len(last)) == (1, 100, 250, 50)


def test_a_dry_run_says_what_would_change_and_changes_nothing(context: Context) -> None:
    done(context, line("d1", GOOD) + line("d2", CHIPLESS))
    before = devices.get_device(context, "d1", "9.1")
    later = line("d1", {**GOOD, "tpm.state": "off"}, "2027-01-16T08:00:00") + line("d3", CHIPLESS)
    found = done(context, later, dry=True)
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
    assert ids(context) == ["d1", "d2"]
    assert devices.get_device(context, "d1", "9.1") == before
    assert spooled(context) == []


def test_what_a_dry_run_says_is_what_the_import_does(demo: Context) -> None:
    export, mapping = export_text()
    export = export.replace("Perhaps", "None").replace("2 sticks", "2").replace("10/01/2027", "17/01/2027")
    export = export.replace("16,512,Enabled", "16,512,None")
    given = {"form": "csv", "mapping": mapping}
    tried = import_job.import_readings(demo, PETRA, export, ImportOptions(**given, dry=True))
    assert tried.changes is not None
    before = {d: assess_device(demo, d).state.value for d in ("nbt-064", "nbt-133", "nbt-150", "nbt-021")}
    disputed_before = {(d.device, d.requirements) for d in disputes.list_disputes(demo, "tarn")}
    import_job.import_readings(demo, PETRA, export, ImportOptions(**given))
    after = {d: assess_device(demo, d).state.value for d in before}
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
    monkeypatch.setattr(import_job, "CHUNK", 500)
    monkeypatch.setattr(import_job, "CHECKED", 500)


@pytest.mark.usefixtures("small_steps")
def test_cancelled_before_or_while_it_is_checked_nothing_has_changed(context: Context) -> None:
    name = import_job.begin(context, PETRA, ImportOptions("ndjson")).id
    assert import_job.cancel(context, PETRA, name).row.state == "cancelled"
    with pytest.raises(RefusedError, match="cancelled; it has its file"):
        import_job.receive(context, PETRA, name, io.BytesIO(b""))
    other = received(context, fleet(3000, dict(GOOD)))
    asked = 0

    def cancel_in_the_middle() -> bool:
        nonlocal asked
        asked += 1
        if asked == 3:
            import_job.cancel(context, PETRA, other)
        return False

    assert import_job.run(context, other, cancel_in_the_middle).row.state == "cancelled"
    assert (ids(context), spooled(context)) == ([], [])
    with pytest.raises(RefusedError, match="nothing to cancel"):
        import_job.cancel(context, PETRA, other)


def test_while_people_ask_for_pages_readings_are_taken_over_in_smaller_steps(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps, kept = list[int](), import_job.store.keep_applied

    def noted(db: sqlite3.Connection, number: int, applied: int, devices: int, added: int) -> None:
        steps.append(applied)
        kept(db, number, applied, devices, added)

    monkeypatch.setattr(import_job.store, "keep_applied", noted)
    monkeypatch.setattr("doorstone.work.context.write_priority.RECENT", 600.0)
    import_job.run(context, received(context, fleet(1200, dict(GOOD))))
    with context.write_priority.paging():
        pass
    done = import_job.run(context, received(context, fleet(1200, dict(CHIPLESS))))
    assert steps == [1000, 200, 250, 250, 250, 250, 200]
    assert (done.row.readings, done.row.devices, done.row.added) == (1200, 1200, 0)


@pytest.mark.usefixtures("small_steps")
def test_once_it_takes_over_it_is_carried_to_its_end_even_over_a_stop(context: Context) -> None:
    name = received(context, fleet(2000, dict(CHIPLESS)))

    def once_some_are_taken_over() -> bool:
        return import_job.get_import(context, name).row.applied >= 1000

    halted = import_job.run(context, name, once_some_are_taken_over)
    applied = halted.row.applied
    assert (halted.row.state, 1000 <= applied < 1500, halted.ended) == ("applying", True, False)
    with pytest.raises(RefusedError, match="is being taken over and will be finished"):
        import_job.cancel(context, PETRA, name)
    assert len(ids(context)) == applied
    again = Context(context.database, FixedClock(context.clock.now()))
    assert import_job.resume(again) == [name]
    ended = import_job.run(again, name)
    assert (ended.row.state, ended.row.readings, ended.row.devices, ended.row.added) == ("done", 2000, 2000, 2000)
    assert fleet_roll_up(again, "tarn", "9.1").states["needs-exception"] == 2000


@pytest.mark.usefixtures("small_steps")
def test_a_stop_while_it_checks_begins_the_check_again_and_one_without_a_file_comes_to_nothing(
    context: Context,
) -> None:
    bare = import_job.begin(context, PETRA, ImportOptions("ndjson")).id
    name = received(context, fleet(1500, dict(GOOD)) + "nonsense\n", skip=True)
    halts = iter([False, False, True])
    assert import_job.run(context, name, lambda: next(halts)).row.state == "checking"
    assert import_job.resume(context) == [name]
    assert import_job.get_import(context, bare).row.why == "The service stopped before the file had come"
    ended = import_job.run(context, name)
    assert (ended.row.readings, ended.row.rejected) == (1500, 1)
    assert len(import_job.import_problems(context, name)) == 1


def test_others_work_while_an_import_is_taken_over(context: Context) -> None:
    name = received(context, fleet(4000, dict(GOOD)))
    worker = threading.Thread(target=lambda: import_job.run(context, name))
    worker.start()
    decided = 0
    while worker.is_alive():
        sorting.decide(
            context, WILHELMINA, "tarn", "storage", "9.1", "release", "", "installer-check", "trial", "Tried again."
        )
        decided += 1
    assert import_job.get_import(context, name).row.state == "done"
    assert decided >= 3
    assert fleet_roll_up(context, "tarn", "9.1").states["clear"] == 4000


def test_only_who_began_it_or_an_administrator_sends_its_file(context: Context) -> None:
    name = import_job.begin(context, PETRA, ImportOptions("ndjson")).id
    with pytest.raises(RefusedError, match="begun by petra"):
        import_job.receive(context, Actor("anselm", "technician", "test"), name, io.BytesIO(b""))
    import_job.receive(context, WILHELMINA, name, io.BytesIO(line("d1", GOOD).encode()))
    assert import_job.run(context, name).row.state == "done"


@pytest.mark.parametrize(
    ("given", "message"),
    [
        (ImportOptions("xlsx"), "'xlsx' is not a form of readings"),
        (ImportOptions("csv", mapping="format = 2"), "The mapping cannot be used"),
    ],
)
def test_what_cannot_be_begun(context: Context, given: ImportOptions, message: str) -> None:
    with pytest.raises(BadInputError, match=message):
        import_job.begin(context, PETRA, given)
    with pytest.raises(MissingError, match="no import 'IM-0009'"):
        import_job.get_import(context, "IM-0009")


# ------------------------------------------------------------------ profiles


def profiles(context: Context) -> dict[str, int]:
    with context.database.read() as db:
        return {str(number): size for number, size in profile_store.sizes(db, "tarn").items()}


def stand(context: Context, release: str = "9.1") -> list[tuple[str, int]]:
    """State and number of devices of each profile."""
    found = standings(context, tarn(), release)
    return sorted((found.of[number].state, row.devices) for number, row in found.rows.items())


def test_devices_that_are_alike_share_a_profile_and_are_sorted_once(context: Context) -> None:
    done(context, fleet(40, dict(GOOD)) + "".join(line(f"c{n}", dict(CHIPLESS)) for n in range(7)))
    assert sorted(profiles(context).values()) == [7, 40]
    assert stand(context) == [("clear", 40), ("needs-exception", 7)]
    done(context, line("c9", dict(CHIPLESS)))
    assert stand(context) == [("clear", 40), ("needs-exception", 8)]


def test_a_decision_sorts_anew_only_what_it_touches(context: Context) -> None:
    other = {**CHIPLESS, "machine.model": "Fallow 999"}
    done(context, line("d1", GOOD) + line("d2", CHIPLESS) + line("d3", other))
    before = [("clear", 1), ("needs-exception", 1), ("needs-exception", 1)]
    assert stand(context, "9.1") == stand(context, "9.2") == before
    asked = ("tarn", "security-chip", "9.1", "model", "Fallow 310", "floor", "trial", "It stops at start.")
    decided = sorting.decide(context, WILHELMINA, *asked)
    assert stand(context, "9.1") == [("clear", 1), ("floored", 1), ("needs-exception", 1)]  # the profile of that model
    assert stand(context, "9.2") == before
    sorting.withdraw(context, WILHELMINA, decided.id, "It was another fault.")
    assert stand(context, "9.1") == before
    own = sorting.decide(
        context, WILHELMINA, "tarn", "security-chip", "9.1", "device", "d3", "floor", "trial", "Only this one."
    )
    done(context, line("d4", other))
    assert stand(context) == [("clear", 1), ("floored", 1), ("needs-exception", 1), ("needs-exception", 1)]
    with pytest.raises(RefusedError, match="was withdrawn"):
        sorting.withdraw(context, WILHELMINA, decided.id, "Once more.")
    assert own.id == "SD-0002"


def test_a_new_day_moves_only_devices_whose_words_have_aged(context: Context) -> None:
    done(context, line("d1", GOOD, verdicts={"storage": "fail"}) + line("d2", GOOD))
    assert assess_device(context, "d1", "9.1").state == "unsettled"
    later = Context(context.database, FixedClock(context.clock.now().replace(month=2, day=15)))
    assert devices.list_devices(later, "tarn", "9.1", DeviceFilter(state="clear")).total == 2
    earlier = Context(context.database, FixedClock(context.clock.now()))
    assert devices.list_devices(earlier, "tarn", "9.1", DeviceFilter(state="clear")).total == 1


def test_counts_by_profile_are_those_of_the_devices_one_by_one(demo: Context) -> None:
    for release in ("9.1", "9.3"):
        rolled = fleet_roll_up(demo, "tarn", release)
        page = devices.list_devices(demo, "tarn", release, DeviceFilter(), limit=500)
        slow = [assess_device(demo, one.id, release) for one in page.lines]
        assert {s: n for s, n in rolled.states.items() if n} == {
            s: sum(a.state == s for a in slow) for s in {a.state.value for a in slow}
        }
        for one, assessed in zip(page.lines, slow, strict=True):
            assert (one.state, dict(one.marks)) == (
                assessed.state,
                {f.requirement.id: f.mark for f in assessed.findings},
            )
