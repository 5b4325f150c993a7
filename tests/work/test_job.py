"""The use cases, on a context of their own: readings, sorting, exceptions, kits, attempts, standing, forecast."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.facts import FactValue
from doorstone.demo.seed import sheet_text
from doorstone.store import ledger as ledger_store
from doorstone.work import attempts, sorting
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.actor import Actor, Receipt
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, ReusedKeyError
from doorstone.work.devices import views as devices
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.forecast import forecasts
from doorstone.work.kits import kits
from doorstone.work.kits.overrides import overrides_for
from doorstone.work.people import people
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot import sheets
from doorstone.work.snapshot.snapshot import assess_device
from doorstone.work.updates import NewObservation, device_standing, record_observation
from tests.asking import ADMIN, ANSELM, CHIP, PETRA, D, asked, granted, line, read
from tests.build import CHIPLESS, GOOD


def state(context: Context, device: str) -> str:
    return assess_device(context, device, "9.1").state


def entries(context: Context) -> int:
    with context.database.read() as db:
        return ledger_store.last_seq(db)


# ------------------------------------------------------------------- readings


def test_an_import_adds_devices_and_a_second_one_changes_them(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", GOOD))
    assert (state(context, "d1"), state(context, "d2")) == ("needs-exception", "clear")
    report = import_job.import_readings(
        context, PETRA, line("d1", GOOD, "2027-01-16T08:00:00"), ImportOptions("ndjson")
    )
    assert (report.id, report.row.readings, report.row.devices, report.row.added) == ("IM-0002", 1, 1, 0)
    assert state(context, "d1") == "clear"


def test_one_bad_line_and_nothing_is_imported(context: Context) -> None:
    before = entries(context)
    with pytest.raises(BadInputError) as error:
        read(context, line("d1", GOOD), line("d2", GOOD)[:60] + "\n", line("d3", {"memory.mib": "8 Gbit"}))
    assert [entry.pointer for entry in error.value.errors] == ["line 2, column 61", "line 3, memory.mib"]
    assert entries(context) == before + 1  # that it was begun
    assert import_job.get_import(context, "IM-0001").row.state == "refused"
    with pytest.raises(MissingError, match="no device 'd1'"):
        devices.get_device(context, "d1")


def test_an_older_reading_does_not_undo_a_newer_one(context: Context) -> None:
    read(context, line("d1", GOOD, "2027-01-16T08:00:00"))
    read(context, line("d1", CHIPLESS, "2027-01-10T08:00:00"))
    assert state(context, "d1") == "clear"


def test_a_repeated_call_with_the_same_key_imports_once(context: Context) -> None:
    caller = replace(PETRA, receipt=Receipt("key-1", "same"))
    first = import_job.import_readings(context, caller, line("d1", GOOD), ImportOptions("ndjson"))
    before = entries(context)
    assert import_job.import_readings(context, caller, line("d1", GOOD), ImportOptions("ndjson")) == first
    assert entries(context) == before
    with pytest.raises(ReusedKeyError):
        import_job.import_readings(
            context, replace(PETRA, receipt=Receipt("key-1", "other")), line("d2", GOOD), ImportOptions("ndjson")
        )


# ------------------------------------------------------------------- sheets


def test_the_same_sheet_again_changes_nothing_and_another_is_a_new_revision(context: Context) -> None:
    text, lists = sheet_text()
    assert revisions.load_sheet(context, ADMIN, text, lists, "tarn.toml").changed is False
    report = revisions.load_sheet(context, ADMIN, text + "\n# looked through in January\n", lists, "tarn.toml")
    assert (report.changed, report.revision) == (True, 2)


def test_a_bad_sheet_leaves_the_loaded_one(context: Context) -> None:
    text, lists = sheet_text()
    before = entries(context)
    with pytest.raises(BadInputError) as error:
        revisions.load_sheet(context, ADMIN, text.replace('"cpu.arch"', '"cpu.arhc"'), lists, "tarn.toml")
    assert error.value.errors[0].detail == "Unknown fact 'cpu.arhc'"
    assert sheets.get_sheet(context, "tarn").revision == 1
    assert entries(context) == before


# ------------------------------------------------------------------ sorting


LOCAL = Actor("local", "administrator", "local")


def decide(context: Context, sort: str, scope: str = "release", target: str = "", **more: str) -> Any:
    return sorting.decide(
        context, ADMIN, "tarn", more.get("requirement", "processor-listed"), "9.1", scope, target, sort,
        more.get("evidence", "trial"), more.get("note", "Tried on the bench."),
    )  # fmt: skip


def test_a_decision_sorts_again_what_it_touches(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", {**CHIPLESS, "machine.model": "Herb Tower"}))
    decide(context, "floor", "model", "Fallow 310")
    assert (state(context, "d1"), state(context, "d2")) == ("floored", "needs-exception")
    decide(context, "installer-check", "device", "d1")
    assert state(context, "d1") == "needs-exception"
    decide(context, "unsorted")
    assert (state(context, "d1"), state(context, "d2")) == ("needs-exception", "unsettled")


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ({"requirement": "eyesight"}, "asks for no 'eyesight'"),
        ({"evidence": "hunch"}, "not a kind of evidence"),
        ({"note": " "}, "carries a note"),
        ({"scope": "device", "target": "gone"}, "no device 'gone'"),
        ({"scope": "model", "target": "Fallow 1"}, "No device is a 'Fallow 1'"),
        ({"target": "d1"}, "has no target"),
    ],
)
def test_a_decision_that_does_not_fit_is_refused(context: Context, more: dict[str, str], message: str) -> None:
    scope, target = more.pop("scope", "release"), more.pop("target", "")
    with pytest.raises((BadInputError, MissingError), match=message):
        decide(context, "floor", scope, target, **more)


def test_evidence_against_a_sort_is_flagged(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    attempt(context, "d1", "completed")
    decide(context, "floor")
    row = next(row for row in sorting.sorting_table(context, "tarn", "9.1") if row.requirement == "processor-listed")
    assert (row.sort, row.ran) == ("floor", 1)
    assert row.against == "a floor for Fallow 310, yet 1 device without it runs 9.1"


# --------------------------------------------------------------------- kits


def test_a_kit_is_made_for_exactly_what_is_excepted(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    with pytest.raises(RefusedError) as error:
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert [t.pointer for t in error.value.errors] == ["d1, processor-listed", "d1, security-chip"]
    granted(context, "d1")
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert (kit.id, kit.row.overrides, kit.row.exceptions) == ("KT-0001", ("compat-drop-in",), ("EX-0001",))
    assert "runbook.md" in [file.path for file in kit.files]


def test_half_an_exception_is_not_enough(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1", requirements=("security-chip",))
    with pytest.raises(RefusedError) as error:
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert [t.pointer for t in error.value.errors] == ["d1, processor-listed"]


def test_an_exception_for_another_release_does_not_count(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1", release="9.0")
    with pytest.raises(RefusedError):
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")


def test_a_check_that_could_be_fixed_is_covered_only_once_its_exception_is_in_force(context: Context) -> None:
    read(context, line("d1", {**GOOD, "memory.mib": 4096}))
    assert overrides_for(context, "d1", "9.1", "in-place").checks == ()
    exceptions.request(context, PETRA, asked("d1", requirements=("memory-set-up",)))
    assert overrides_for(context, "d1", "9.1", "in-place").checks == ()
    decisions.decide(context, ANSELM, "EX-0001", "approve", "", 1)
    answer = overrides_for(context, "d1", "9.1", "in-place")
    assert answer.checks == ("memory-set-up",)
    assert answer.choice.best is not None
    assert answer.choice.best.ids == ("small-memory",)


def test_a_clear_device_gets_a_kit_without_overrides(context: Context) -> None:
    read(context, line("d1", GOOD))
    assert kits.make_kit(context, PETRA, "d1", "", "clean", "nothing").row.overrides == ()


@pytest.mark.parametrize(
    ("route", "carry_over"), [("clean", "everything"), ("in-place", "nothing"), ("by-air", "files")]
)
def test_a_route_that_cannot_carry_that_over_is_refused(context: Context, route: str, carry_over: str) -> None:
    read(context, line("d1", GOOD))
    with pytest.raises(BadInputError):
        kits.make_kit(context, PETRA, "d1", "9.1", route, carry_over)


# ------------------------------------------------- attempts, standing, ahead


def attempt(context: Context, device: str, outcome: str, **more: Any) -> Any:
    given = NewAttempt(
        device, "", "9.1", "in-place", "everything", outcome, (), "", "stick 4", "set-up 9.1.3",
        datetime(2027, 1, 18, 7), datetime(2027, 1, 18, 8),
    )  # fmt: skip
    return attempts.record_attempt(context, PETRA, replace(given, **more))


def test_situation_17_and_18_attempts_are_numbered_with_media_and_tool_version(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    numbers = [attempt(context, "d1", outcome).row.number for outcome in ("refused", "abandoned", "completed")]
    assert numbers == [1, 2, 3]
    newest = attempts.list_attempts(context, "d1")[0].row
    assert (newest.media, newest.tool_version, newest.unmet) == ("stick 4", "set-up 9.1.3", CHIP)


def test_a_completed_attempt_is_a_reading_of_the_release(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    attempt(context, "d1", "refused", refused_by=("security-chip",))
    assert devices.get_device(context, "d1").device.release == "8"
    attempt(context, "d1", "completed")
    assert devices.get_device(context, "d1").device.release == "9.1"
    read(context, line("d1", {"os.release": "9.2"}, "2027-01-18T08:30:00", source="assessor"))
    assert devices.get_device(context, "d1").device.release == "9.2"


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ({"ended_at": datetime(2027, 1, 18, 6)}, "before it started"),
        ({"ended_at": datetime(2027, 1, 19, 6)}, "yet to come"),
        ({"refused_by": ("eyesight",)}, "asks for no eyesight"),
        ({"kit": "KT-0099"}, "no kit 'KT-0099'"),
        ({"release": "11"}, "no release '11'"),
    ],
)
def test_an_attempt_that_does_not_fit_is_refused(context: Context, more: dict[str, Any], message: str) -> None:
    read(context, line("d1", CHIPLESS))
    with pytest.raises((BadInputError, MissingError), match=message):
        attempt(context, "d1", "refused", **more)


def observed(context: Context, kind: str, result: str, reason: str = "", on: str = "2027-01-17") -> None:
    record_observation(context, PETRA, NewObservation("d1", D(on), kind, result, reason, "update-service", ""))


def test_situation_19_not_offered_because_phased_is_not_unsupported(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1"}))
    observed(context, "release", "not-offered", "phased")
    assert device_standing(context, "d1").classes[2].compared == "as-expected"
    observed(context, "release", "not-offered", "unsupported")
    assert device_standing(context, "d1").classes[2].compared == "worse"


@pytest.mark.parametrize(
    ("kind", "result", "reason", "on"),
    [
        ("weather", "arrived", "", "2027-01-17"),
        ("security", "lost", "", "2027-01-17"),
        ("security", "not-offered", "", "2027-01-17"),
        ("security", "arrived", "phased", "2027-01-17"),
        ("security", "arrived", "", "2027-01-19"),
    ],
)
def test_an_observation_that_does_not_fit_is_refused(
    context: Context, kind: str, result: str, reason: str, on: str
) -> None:
    read(context, line("d1", GOOD))
    with pytest.raises(BadInputError):
        observed(context, kind, result, reason, on)


def test_the_forecast_knows_the_exceptions_of_the_device(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    granted(context, "d1")
    with_it, without = (forecasts.device_forecast(context, device) for device in ("d1", "d2"))
    assert with_it.forecast.approved.runway == D("2027-09-30")
    assert without.forecast.approved.runway == D("2027-02-28")
    assert with_it.course.way == "except"


def test_a_device_whose_release_is_unknown_has_no_forecast(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "7"}))
    with pytest.raises(MissingError, match="runs release 7"):
        forecasts.device_forecast(context, "d1")
    assert forecasts.fleet_forecast(context, "tarn").unknown == 1


# ----------------------------------------------------------- lists, overview


def test_devices_are_listed_by_filter_and_page(context: Context) -> None:
    read(context, *[line(f"d{n}", CHIPLESS if n % 2 else GOOD) for n in range(6)])
    page = devices.list_devices(context, "tarn", "9.1", DeviceFilter(state="needs-exception"), limit=2)
    assert ([row.id for row in page.lines], page.total, page.next) == (["d1", "d3"], 3, "d3")
    rest = devices.list_devices(context, "tarn", "9.1", DeviceFilter(state="needs-exception"), "d3", 2)
    assert ([row.id for row in rest.lines], rest.next) == (["d5"], None)
    unmet = devices.list_devices(context, "tarn", "9.1", DeviceFilter(requirement="security-chip", mark="met"))
    assert [row.id for row in unmet.lines] == ["d0", "d2", "d4"]
    words = devices.list_devices(context, "tarn", "9.1", DeviceFilter(words="herbarium D4"))
    assert [row.id for row in words.lines] == ["d4"]
    with pytest.raises(BadInputError, match="not a state"):
        devices.list_devices(context, "tarn", "9.1", DeviceFilter(state="odd"))


def test_the_overview_counts(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", GOOD))
    seen = forecasts.overview(context, "tarn")
    assert seen.release == "9.1"  # 9.2 is published in March 2027
    assert seen.roll_up.states["needs-exception"] == 1
    assert seen.sites[0].states == {"needs-exception": 1, "clear": 1}


def test_people_and_tokens(context: Context) -> None:
    people.set_password(context, LOCAL, "petra", None, "a long password")
    assert people.check_password(context, "petra", "a long password") is not None
    assert people.check_password(context, "petra", "another password") is None
    assert people.check_password(context, "nobody", "a long password") is None
    token = people.issue_token(context, PETRA, "script", "technician", 10)
    assert token.secret is not None
    holder = people.who_holds(context, token.secret)
    assert holder is not None
    assert (holder.name, holder.role) == ("petra", "technician")
    later = Context(context.database, FixedClock(datetime(2027, 1, 29, 9)))
    assert people.who_holds(later, token.secret) is None  # it ran through 28 January
    people.revoke_token(context, ADMIN, token.id)
    assert people.who_holds(context, token.secret) is None
    with context.database.read() as db:
        assert token.secret not in str([tuple(row) for row in db.execute("SELECT * FROM tokens")])


@pytest.mark.parametrize(
    ("name", "role", "password"),
    [("Petra", "technician", "long enough pw"), ("petra", "king", "long enough pw"), ("petra", "viewer", "short")],
)
def test_a_person_that_does_not_fit_is_refused(context: Context, name: str, role: str, password: str) -> None:
    with pytest.raises(BadInputError):
        people.add_person(context, ADMIN, name, "", role, password)


def test_a_technician_issues_no_token_of_a_higher_role(context: Context) -> None:
    with pytest.raises(RefusedError, match="cannot issue a token of role 'approver'"):
        people.issue_token(context, PETRA, "x", "approver", 10)
    people.issue_token(context, PETRA, "x", "viewer", 10)


def test_values_of_facts_come_back_as_they_went_in(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    facts: dict[str, FactValue | str] = {f.name: f.believed.value for f in devices.get_device(context, "d1").facts}
    assert (facts["memory.mib"], facts["tpm.version"], facts["disk.encrypted"]) == ("8,192 MiB", "1.2", "no")
