"""Reasons that people read, each true: courses, accounts, due items, counts of attempts."""

from __future__ import annotations

from typing import Any

import pytest

from doorstone.api.readings import RecordFileRequest
from doorstone.core.devices.life import Life, LifeChange
from doorstone.service.record_files import record_file
from doorstone.work import attempts
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.context import Context
from doorstone.work.devices.lives import change_lives
from doorstone.work.devices.views import get_device
from doorstone.work.due.due_list import due_list
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions.register import account
from doorstone.work.followups import add_verification
from doorstone.work.forecast.forecasts import device_forecast
from doorstone.work.kits import kits
from doorstone.work.updates import NewObservation, record_observation
from tests.asking import ADMIN, ANSELM, PETRA, D, granted, line, on, read
from tests.build import CHIPLESS, GOOD

SMALL = {**GOOD, "disk.system_gib": 29}


def why(context: Context, device: str) -> tuple[str, str]:
    course = device_forecast(context, device).course
    return course.way, course.why


def tried(context: Context, kit: str, **more: Any) -> attempts.Attempt:
    now = context.clock.now()
    given = {"outcome": "refused", "refused_by": ("memory-set-up",), "started_at": now, "ended_at": now, **more}
    return attempts.record_attempt(
        context,
        PETRA,
        NewAttempt("d1", kit, "9.1", "in-place", "everything", seen="", media="", tool_version="", **given),
    )


def test_a_course_names_the_kit_once_it_is_made(context: Context) -> None:
    read(context, line("d1", SMALL))
    granted(context, "d1", requirements=("storage",))
    assert why(context, "d1") == ("except", "EX-0001 approved, with small-disk: make the kit")
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert why(context, "d1") == ("except", f"EX-0001 approved, with small-disk: use {kit.id}")
    decisions.decide(context, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    assert why(context, "d1") == ("except", "1 check to except, with small-disk")


def test_a_course_fixes_first_where_a_kit_would_be_refused(context: Context) -> None:
    read(context, line("d1", {**SMALL, "tpm.state": "off"}))
    granted(context, "d1", requirements=("storage",))
    assert why(context, "d1") == ("fix", "1 requirement to fix first; then EX-0001 approved, with small-disk")


def test_a_course_to_stay_names_the_day_on_which_the_running_release_ends_and_what_follows(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1"}))
    course = device_forecast(context, "d1").course
    assert (course.way, course.by) == ("stay", D("2027-11-30"))
    assert (
        course.why
        == "It runs 9.1 already. Afterwards it can move to 9.2, then 9.3, and stay serviced through 2029-06-30"
    )


def test_a_course_says_that_an_offer_is_phased(context: Context) -> None:
    read(context, line("d1", GOOD))
    seen = NewObservation(
        "d1", D("2027-01-17"), "release", "not-offered", "phased", "update-service", "In waves, until May."
    )
    record_observation(context, PETRA, seen)
    way, words = why(context, "d1")
    assert way == "take"
    assert "does not offer it yet (phased, seen on 2027-01-17: In waves, until May)" in words
    assert words.endswith("If it is not offered by 2027-02-28, install it in place from media")


def test_an_account_names_exceptions_for_other_releases(context: Context) -> None:
    read(context, line("d1", SMALL))
    granted(context, "d1", requirements=("storage",))
    found = account(context, "d1")
    assert (found.release, found.permissions) == ("8", ())
    assert [(one.id, one.state, one.release, one.through) for one in found.others] == [
        ("EX-0001", "approved", "9.1", "2027-09-30")
    ]


def test_a_device_and_its_forecast_say_that_it_is_uncovered(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, "os.release": "9.1"}), line("d2", GOOD))
    for found in (get_device(context, "d1").uncovered, device_forecast(context, "d1").uncovered):
        assert found is not None
        assert (found.requirements, found.since) == (("processor-listed", "security-chip"), D("2027-01-15"))
    assert (get_device(context, "d2").uncovered, device_forecast(context, "d2").uncovered) == (None, None)


def test_a_retired_device_has_no_state_and_no_course(context: Context) -> None:
    read(context, line("d1", SMALL))
    assert get_device(context, "d1").device.state == "needs-exception"
    change_lives(context, ADMIN, ["d1"], LifeChange(Life.RETIRED, D("2027-01-18"), "It is broken.", wiped_by="petra"))
    found = get_device(context, "d1")
    assert (found.device.state, found.device.marks, found.course) == ("", {}, None)


def test_an_override_is_not_blamed_for_a_refusal_by_another_requirement(context: Context) -> None:
    read(context, line("d1", {**SMALL, "memory.mib": 4096}))
    granted(context, "d1", requirements=("storage", "memory-set-up"))
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert len(kit.row.overrides) == 2
    tried(context, kit.id)
    blamed = {name: (rate.tried, rate.done) for name, rate in attempts.success_rates(context, "override").items()}
    assert "small-disk" not in blamed
    assert list(blamed.values()) == [(1, 0)]


def test_a_file_of_attempts_that_is_imported_twice_makes_no_second_try(context: Context) -> None:
    read(context, line("d1", SMALL))
    head = "device,release,route,carry_over,outcome,refused_by,seen,started_at,ended_at\n"
    rows = [
        f"d1,9.1,in-place,everything,refused,storage,,2027-01-1{n}T08:00:00,2027-01-1{n}T09:00:00\n" for n in (5, 6)
    ]
    first = record_file(context, PETRA, "attempts", RecordFileRequest(form="csv", text=head + "".join(rows)))
    again = record_file(context, PETRA, "attempts", RecordFileRequest(form="csv", text=head + "".join(rows)))
    assert [(one.recorded, one.known) for one in (first, again)] == [(2, 0), (0, 2)]
    assert [one.row.number for one in attempts.list_attempts(context, "d1")] == [2, 1]


@pytest.mark.parametrize("revoked", [False, True])
def test_drift_of_a_kit_that_is_no_longer_valid_asks_for_a_new_kit(context: Context, revoked: bool) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    now = context.clock.now()
    tried(context, kit.id, outcome="completed", refused_by=(), started_at=now, ended_at=now)
    wrong = {"place": "system", "section": "setup/compat", "name": "accept", "state": "missing"}
    add_verification(context, PETRA, kit.id, "d1", {"kit": kit.id, "ok": False, "settings": [wrong]})
    if revoked:
        decisions.decide(context, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    (item,) = [item for item in due_list(on(context, "2027-01-19")) if item.kind == "drift"]
    assert ("make a new kit" in item.words) is revoked
    assert ("apply the kit again" in item.words) is not revoked
