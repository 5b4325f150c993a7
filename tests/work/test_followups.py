"""After an upgrade as use cases: batches, rates, drafts, follow-ups, drift, asking the update service."""

from __future__ import annotations

import threading
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.service.outbound import ask_updates
from doorstone.store import followups as after_store
from doorstone.work import attempts, followups, updates
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.context.ids import id_of
from doorstone.work.due import due_list as due
from doorstone.work.forecast import scenarios
from doorstone.work.kits import kits
from doorstone.work.updates import NewObservation, list_observations, record_observations
from doorstone_standins import machine, update_service
from tests.asking import PETRA, granted, line, on, read
from tests.build import CHIPLESS, GOOD

AT = datetime(2027, 1, 18, 8)


def tried(device: str, outcome: str = "completed", kit: str = "", **more: Any) -> NewAttempt:
    made = NewAttempt(device, kit, "9.1", "in-place", "everything", outcome, (), "", "MD-0001", "set-up 9.1.3", AT, AT)
    return replace(made, **more)


def carried(context: Context, device: str = "d1", **facts: Any) -> str:
    """A device carried to 9.1 by exception today; its kit."""
    read(context, line(device, {**CHIPLESS, **facts}))
    granted(context, device)
    kit = kits.make_kit(context, PETRA, device, "9.1", "in-place", "everything", sets=["quiet-start"]).id
    attempts.record_attempt(context, PETRA, tried(device, kit=kit))
    return kit


# ---------------------------------------------------------------------- attempts


def test_a_days_attempts_are_recorded_all_or_none(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD))
    with pytest.raises(BadInputError) as error:
        attempts.record_attempts(context, PETRA, [tried("d1"), tried("d9"), tried("d2", "vanished")])
    assert [(t.pointer, t.detail) for t in error.value.errors] == [
        ("attempt 2, d9", "There is no device 'd9'"),
        ("attempt 3, d2", "'vanished' is not an outcome"),
    ]
    assert attempts.list_attempts(context) == []
    made = attempts.record_attempts(context, PETRA, [tried("d1", "refused"), tried("d1"), tried("d2")])
    assert [(a.row.device, a.row.number, a.row.outcome) for a in made] == [
        ("d1", 1, "refused"), ("d1", 2, "completed"), ("d2", 1, "completed"),
    ]  # fmt: skip


def test_situation_17_how_often_it_works_by_override_model_and_tool(context: Context) -> None:
    kit = carried(context)
    attempts.record_attempt(context, PETRA, tried("d1", "refused", kit, refused_by=("security-chip",)))
    attempts.record_attempt(context, PETRA, tried("d1", "abandoned", kit))  # tells nothing
    found = attempts.success_rates(context, "override")
    assert {key: (r.done, r.tried) for key, r in found.items()} == {"compat-drop-in": (1, 2)}
    assert (round(found["compat-drop-in"].low, 3), round(found["compat-drop-in"].high, 3)) == (0.095, 0.905)
    assert list(attempts.success_rates(context, "model")) == ["Fallow 310"]
    assert list(attempts.success_rates(context, "tool", "tarn")) == ["set-up 9.1.3"]
    with pytest.raises(BadInputError, match="not counted by 'mood'"):
        attempts.success_rates(context, "mood")


def test_a_second_attempt_starts_from_what_the_first_one_met(context: Context) -> None:
    kit = carried(context)
    seen = tried("d1", "carry-over-lost", kit, seen="Only an empty desk.", mismatch="base language")
    attempts.record_attempt(context, PETRA, seen)
    found = attempts.draft(context, "d1")
    assert (found.number, found.kit, found.media, found.tool_version) == (3, kit, "MD-0001", "set-up 9.1.3")
    assert found.met == ("Try 2, 2027-01-18: carry over lost. base language; Only an empty desk.",)
    with pytest.raises(BadInputError, match="Only carry-over-lost has a mismatch"):
        attempts.record_attempt(context, PETRA, tried("d1", "completed", kit, mismatch="base language"))


# -------------------------------------------------------------------- follow-ups


def steps(context: Context, device: str = "d1") -> dict[str, str]:
    return {step.name: id_of("FU", step.id) for step in followups.device_followups(context, device).steps}


def test_what_an_upgrade_leaves_to_do_and_when_the_device_is_finished(context: Context) -> None:
    carried(context, **{"care.applications": ["seed register"]})
    found = followups.device_followups(context, "d1")
    assert [step.name for step in found.steps] == [
        "release-right", "files-there", "application seed register", "updates-arrive", "activated", "performance",
        "set quiet-start", "old-release",
    ]  # fmt: skip
    assert (found.blocked, found.rollback_until) == (True, date(2027, 2, 1))
    names = steps(context)
    for name in ("release-right", "files-there"):
        followups.settle(context, PETRA, names[name], "done")
    with pytest.raises(BadInputError, match="Failed takes a reason"):
        followups.settle(context, PETRA, names["application seed register"], "failed")
    followups.settle(context, PETRA, names["application seed register"], "failed", reason="It asks for its licence.")
    assert followups.device_followups(context, "d1").blocked
    followups.settle(context, PETRA, names["application seed register"], "done")
    assert not followups.device_followups(context, "d1").blocked
    with pytest.raises(MissingError):
        followups.settle(context, PETRA, "FU-9999", "done")


def test_situations_21_and_31_what_ends_rollback_is_asked_twice(context: Context) -> None:
    carried(context)
    old = steps(context)["old-release"]
    for step in followups.device_followups(context, "d1").steps:
        if step.blocking:
            followups.settle(context, PETRA, id_of("FU", step.id), "done")
    with pytest.raises(RefusedError, match="ends going back, which is possible through 2027-02-01"):
        followups.settle(context, PETRA, old, "done")
    assert followups.device_followups(context, "d1").rollback_until == date(2027, 2, 1)
    followups.settle(context, PETRA, old, "done", confirm=True)
    assert followups.device_followups(context, "d1").rollback_until is None
    assert "rollback-ends" not in {item.kind for item in due.due_list(context)}


def test_situation_28_how_it_runs_is_asked_and_weighs_in_the_course(context: Context) -> None:
    carried(context)
    name = steps(context)["performance"]
    with pytest.raises(BadInputError, match="it takes an answer"):
        followups.settle(context, PETRA, name, "done")
    followups.settle(context, PETRA, name, "done", "slower")
    assert scenarios.device_scenarios(context, "d1").runs == "slower"


def test_follow_ups_are_due_and_then_overdue(context: Context) -> None:
    carried(context)
    found = [(d.on.isoformat(), d.words) for d in due.due_list(context) if d.kind == "follow-up"]
    assert found[0] == (
        "2027-01-19",
        "d1: Release and edition are as expected (the device is not finished without it)",
    )
    later = [d for d in due.due_list(on(context, "2027-03-01")) if d.kind == "follow-up"]
    assert len(later) == 7
    assert all(d.overdue(date(2027, 3, 1)) for d in later)
    attempts.record_attempt(on(context, "2027-03-02"), PETRA, tried("d1"))
    assert {s.state for s in _all(context) if s.attempt == 1} == {"skipped"}  # a later upgrade took its place


def _all(context: Context) -> list[after_store.FollowUpRow]:
    with context.database.read() as db:
        return after_store.of_device(db, "d1")


# ------------------------------------------------------------------------- drift


def report(kit: str, state: str = "right") -> dict[str, Any]:
    row = {"place": "system", "section": "setup/compat", "name": "accept", "state": state}
    return {"kit": kit, "ok": state == "right", "settings": [row]}


def test_situation_35_a_setting_that_went_after_an_update_is_shown_as_drift(context: Context) -> None:
    kit = carried(context)
    first = followups.add_verification(context, PETRA, kit, "d1", report(kit))
    assert (first.ok, first.changed) == (True, ())
    gone = followups.add_verification(on(context, "2027-03-01"), PETRA, kit, "d1", report(kit, "missing"))
    assert gone.changed == (("setup/compat/accept", "right", "missing"),)
    assert [one.ok for one in followups.device_verifications(context, "d1")] == [False, True]
    for bad in ({}, report("KT-0009"), {**report(kit), "settings": "none"}, report(kit, "lost")):
        with pytest.raises(BadInputError):
            followups.add_verification(context, PETRA, kit, "d1", bad)
    with pytest.raises(MissingError):
        followups.add_verification(context, PETRA, "KT-0009", "d1", report("KT-0009"))


# ------------------------------------------------------------------- observations


def saw(device: str, kind: str, result: str, reason: str = "", day: str = "2027-01-17") -> NewObservation:
    return NewObservation(device, date.fromisoformat(day), kind, result, reason, "file", "")


def test_observations_from_a_file_all_or_none_and_known_ones_left_alone(context: Context) -> None:
    read(context, line("d1", GOOD))
    with pytest.raises(BadInputError) as error:
        record_observations(context, PETRA, [saw("d1", "security", "arrived"), saw("d9", "driver", "arrived")])
    assert [t.pointer for t in error.value.errors] == ["observation 2, d9"]
    assert list_observations(context, "d1") == []
    many = [saw("d1", "security", "arrived"), saw("d1", "release", "not-offered", "phased")]
    assert record_observations(context, PETRA, many) == (2, 0)
    assert record_observations(context, PETRA, [*many, saw("d1", "driver", "arrived")]) == (1, 2)


def test_situation_19_phased_is_no_surprise_but_unsupported_is(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1"}))
    record_observations(context, PETRA, [saw("d1", "release", "not-offered", "phased")])
    assert "standing-differs" not in {item.kind for item in due.due_list(context)}
    record_observations(context, PETRA, [saw("d1", "release", "not-offered", "unsupported", "2027-01-18")])
    found = [item.words for item in due.due_list(context) if item.kind == "standing-differs"]
    assert found == ["d1: release updates are worse than the sheet has it (normal)"]
    assert not [item for item in due.due_list(on(context, "2027-06-01")) if item.kind == "standing-differs"]  # too old


@pytest.fixture
def offers(tmp_path: Path) -> Any:
    """A stand-in update service over a folder with the machine d1, chipless, on 9.1."""
    folder = tmp_path / "machines"
    machine.create(folder / "d1", name="d1", release="9.1", chip=None)
    server = update_service.make_server(folder)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}/offers/{{device}}?on={{day}}"
    server.shutdown()
    server.server_close()


def test_the_update_service_is_asked_and_what_is_new_recorded(context: Context, offers: str) -> None:
    carried(context)
    fetch, day = ask_updates(offers), timedelta(hours=24)
    assert updates.poll(context, fetch, AT, day) == {"d1": "3 recorded"}
    rows = {o.update_class: (o.result, o.reason, o.source, o.by) for o in list_observations(context, "d1")}
    assert rows == {
        "security": ("arrived", "", "update-service", "doorstone"),
        "driver": ("not-offered", "unsupported", "update-service", "doorstone"),
        "release": ("not-offered", "unknown", "update-service", "doorstone"),
    }
    assert updates.poll(context, fetch, AT + timedelta(hours=23), day) == {}  # not due yet
    later = on(context, "2027-01-20")
    assert updates.poll(later, fetch, AT + timedelta(hours=48), day) == {"d1": "0 recorded"}  # the same as before
    assert updates.poll(on(context, "2027-01-27"), fetch, AT + timedelta(days=9), day) == {"d1": "3 recorded"}


def test_a_service_that_does_not_answer_is_asked_later_each_time(context: Context) -> None:
    carried(context)
    asked: list[str] = []

    def fetch(device: str, day: date) -> dict[str, Any]:
        asked.append(device)
        raise OSError("no answer")

    at, waits = AT, []
    for _ in range(11):
        assert updates.poll(context, fetch, at, timedelta(hours=24)) == {"d1": "failed: no answer"}
        with context.database.read() as db:
            row = after_store.polls(db, ["d1"])["d1"]
        waits.append((datetime.fromisoformat(row.next_at) - at) // timedelta(minutes=1))
        assert updates.poll(context, fetch, at + timedelta(seconds=1), timedelta(hours=24)) == {}
        at = datetime.fromisoformat(row.next_at)
    assert waits == [5, 10, 20, 40, 80, 160, 320, 640, 1280, 1440, 1440]
    assert list_observations(context, "d1") == []


def test_an_answer_that_says_nothing_of_use_is_a_failure_and_records_nothing(context: Context) -> None:
    carried(context)
    for days, answer in enumerate(({}, {"security": {"result": "perhaps"}}, {"security": 7}), 1):
        said = updates.poll(context, lambda device, day, a=answer: a, AT + timedelta(days=days), timedelta(0))  # type: ignore[misc]
        assert said["d1"].startswith("failed")
    assert list_observations(context, "d1") == []


# ------------------------------------------------------------- after a wipe, in order


def test_situation_34_after_a_wipe_nothing_is_asked_that_cannot_be_so(context: Context) -> None:
    carried(context)
    kept = {step.name for step in followups.device_followups(context, "d1").steps}
    read(context, line("d2", {**GOOD, "care.applications": ["Plate Reader"]}))
    attempts.record_attempt(context, PETRA, tried("d2", route="clean", carry_over="nothing"))
    steps = {step.name: step for step in followups.device_followups(context, "d2").steps}
    assert "ends-rollback" in {step.kind for step in followups.device_followups(context, "d1").steps}
    assert "ends-rollback" not in {step.kind for step in steps.values()}
    assert steps["application Plate Reader"].todo.startswith("Put it in anew")
    assert len(kept) > 3


def test_what_ends_going_back_waits_for_what_the_device_is_not_finished_without(context: Context) -> None:
    read(context, line("d1", {**GOOD, "care.applications": ["Plate Reader"]}))
    attempts.record_attempt(context, PETRA, tried("d1"))
    steps = {step.kind: step for step in followups.device_followups(context, "d1").steps}
    last = id_of("FU", steps["ends-rollback"].id)
    with pytest.raises(RefusedError, match="the device is not finished"):
        followups.settle(context, PETRA, last, "done", confirm=True)
    for step in followups.device_followups(context, "d1").steps:
        if step.blocking:
            followups.settle(context, PETRA, id_of("FU", step.id), "done")
    assert followups.settle(context, PETRA, last, "done", confirm=True).state == "done"


# ------------------------------------------------------------------ the days roll


@pytest.mark.long
def test_what_was_due_and_is_not_done_is_overdue_on_the_days_of_two_years(demo: Context) -> None:
    """Nothing that is due on a day and left undone vanishes on the next; it is overdue, or its day has changed."""
    leaves_by_itself = {
        "lapse",
        "rollback-ends",
        "kit-expires",
        "standing-differs",
        "review",
        "condition",
        "second-look",
        "owner-left",
    }
    before: set[tuple[str, str, str, date]] = set()
    day = date(2027, 1, 18)
    while day < date(2029, 1, 18):  # each day of the first six weeks and of every eighth week after them
        demo.clock = FixedClock(datetime(day.year, day.month, day.day, 9))
        found = {(d.kind.value, d.object, d.part, d.on) for d in due.due_list(demo)}
        kept = {item for item in before if item[0] not in leaves_by_itself and item[3] < day}
        assert kept <= found, (day, kept - found)
        before = found
        week = (day - date(2027, 1, 18)).days // 7
        day += timedelta(days=1 if week < 6 or week % 8 == 0 else 7)
