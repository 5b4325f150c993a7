"""The rules of the due list, worked by hand on 2027-01-18 with 30 days ahead and 7 days to decide."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from doorstone.core.attempts.outcomes import AttemptOutcome
from doorstone.core.due.exceptions import DueException, due_on_exception
from doorstone.core.due.fleet import (
    EditionInUse,
    Running,
    contradiction_due,
    late_releases,
    servicing_due,
    silence_due,
    uncovered_due,
)
from doorstone.core.due.items import COSTS, Due, DueDevice, DueKind, in_order, names
from doorstone.core.due.upgrades import LastAttempt, attempt_due, begun_by, check_due, first_days
from doorstone.core.exceptions.conditions import ConditionState, ConditionStatus
from doorstone.core.exceptions.life import ExceptionState
from tests.build import tarn

D = date.fromisoformat
TODAY = D("2027-01-18")
DEVICES = [DueDevice(f"d{n}", "Herbarium" if n < 3 else "Seed Vault") for n in range(1, 7)]
HELD = DueException(
    id="EX-0001", state=ExceptionState.APPROVED, release="9.1", devices=["d1"], sites=frozenset({"Herbarium"}),
    owner="rosa", requester="petra", requested_on=D("2027-01-10"), review=D("2027-06-01"), expiry=D("2027-09-30"),
)  # fmt: skip


def due(held: DueException, *, self_approval: bool = False) -> list[Due]:
    known = due_on_exception(
        held, TODAY, ahead_days=30, decide_days=7, self_approval=self_approval, active={"rosa", "petra"}
    )
    return list(known)


def kinds(held: DueException) -> list[tuple[str, date]]:
    return [(item.kind.value, item.on) for item in due(held)]


def test_nothing_is_due_on_an_exception_that_is_far_from_its_days() -> None:
    assert due(HELD) == []


def test_review_and_lapse_are_due_thirty_days_ahead_and_not_thirty_one() -> None:
    assert kinds(replace(HELD, review=D("2027-02-17"))) == [("review", D("2027-02-17"))]
    assert kinds(replace(HELD, review=D("2027-02-18"))) == []
    near = replace(HELD, review=D("2027-02-10"), expiry=D("2027-02-10"))  # a review on the last day is the lapse
    assert kinds(near) == [("lapse", D("2027-02-10"))]
    assert kinds(replace(near, renewed=True)) == []


def test_a_request_whose_last_day_is_past_is_back_with_its_requester() -> None:
    asked = replace(HELD, state=ExceptionState.REQUESTED, review=D("2027-01-12"), expiry=D("2027-01-17"))
    (item,) = due(asked)
    assert (item.kind, item.on, item.people) == ("request-waits", D("2027-01-17"), {"petra"})  # 7 days after the 10th
    assert item.roles == {"approver", "administrator"}  # who can decline it
    assert "can no longer be approved" in item.words
    (still,) = due(replace(asked, expiry=TODAY))  # its last day is a day on which it can be approved
    assert still.kind == "request-waits"


@pytest.mark.parametrize("state", [ExceptionState.LAPSED, ExceptionState.REVOKED, ExceptionState.CLOSED])
def test_conditions_stay_due_after_the_end_and_nothing_else_does(state: ExceptionState) -> None:
    kept = ConditionStatus(1, "No guests' media", ConditionState.OVERDUE, "", D("2027-01-10"))
    ended = replace(
        HELD,
        state=state,
        owner="joss",
        review=D("2026-11-01"),
        expiry=D("2026-12-31"),
        stale_for=["d1"],
        conditions=[kept],
    )
    (item,) = due(ended)
    assert (item.kind, item.on, item.people) == ("condition", D("2027-01-10"), {"joss"})
    assert item.words == (
        f"EX-0001 has ended ({state}), yet d1 still runs 9.1 by it: attest that “No guests' media” is kept"
    )
    (two,) = due(replace(ended, devices=["d1", "d2"]))
    assert "yet 2 devices still run 9.1 by it" in two.words


def test_a_request_is_due_a_week_after_it_was_made_to_those_who_may_decide() -> None:
    asked = replace(HELD, state=ExceptionState.REQUESTED, editors=["joss"], approvers=["mira"], approvals_needed=2)
    (item,) = due(asked)
    assert (item.kind, item.on, item.not_people) == ("request-waits", D("2027-01-17"), {"petra", "joss", "mira"})
    assert item.words == "EX-0001 for d1 on 9.1 waits for a decision (approval 2 of 2), asked by petra"
    (own,) = due(asked, self_approval=True)
    assert own.not_people == {"mira"}
    (answer,) = due(replace(asked, asked_back=True, question="Which network?"))
    assert (answer.kind, answer.people) == ("answer-waits", {"petra"})


def test_an_owner_who_has_left_and_a_stale_device() -> None:
    assert kinds(replace(HELD, owner="gone", stale_for={"d1"})) == [("second-look", TODAY), ("owner-left", TODAY)]


def test_devices_that_lack_the_same_are_one_item_since_the_first_of_them() -> None:
    found = [Running.one(d, "9.1", ("security-chip",), D(f"2027-01-0{n}")) for n, d in enumerate(DEVICES[::-1], 2)]
    (item,) = uncovered_due([*found[1:], found[0]])
    assert (item.on, item.object, item.sites) == (D("2027-01-02"), "d1", {"Herbarium", "Seed Vault"})
    assert item.words.startswith("d1, d2, d3, d4 and 2 more: on 9.1 with security-chip unmet")
    (other,) = contradiction_due(tarn(), found[:1])
    assert other.roles == {"administrator"}
    assert names(DEVICES[:3]) == "d1, d2 and d3"


def test_who_runs_without_permission_comes_first() -> None:
    late = silence_due("", DEVICES[:1], D("2026-01-01"), 45)
    assert late.on == D("2026-02-16")
    (first,) = uncovered_due([Running.one(DEVICES[0], "9.1", ("security-chip",), D("2027-01-17"))])
    assert [item.kind.value for item in in_order([late, first], TODAY)] == ["uncovered", "not-heard-from"]


def test_what_costs_most_to_be_late_with_comes_first_and_what_comes_goes_by_day() -> None:
    def due(kind: DueKind, day: str) -> Due:
        return Due(kind, D(day), "device", "d1", "")

    given = [
        due(DueKind.REVIEW, "2026-12-01"), due(DueKind.REQUEST, "2026-12-20"), due(DueKind.ROLLBACK, "2027-01-18"),
        due(DueKind.CONDITION, "2027-01-10"), due(DueKind.SECOND_LOOK, "2027-01-02"), due(DueKind.CHECK, "2027-01-19"),
        due(DueKind.LAPSE, "2027-01-25"), due(DueKind.LINK_ENDS, "2027-01-19"), due(DueKind.UNCOVERED, "2027-01-17"),
    ]  # fmt: skip
    assert [(one.kind.value, one.on.day) for one in in_order(given, TODAY)] == [
        ("uncovered", 17), ("second-look", 2), ("condition", 10),  # without permission
        ("rollback-ends", 18),  # lost
        ("request-waits", 20),  # somebody waits
        ("review", 1),  # nobody knows
        ("media-link-ends", 19), ("check", 19), ("lapse", 25),  # to come, by day
    ]  # fmt: skip
    assert set(COSTS) == set(DueKind)


def test_servicing_is_due_ninety_days_ahead_in_the_edition_that_runs() -> None:
    ends = D("2027-02-28")  # of release 8 in every edition
    seen = [EditionInUse("8", "DESK", 2, frozenset({"Herbarium"})), EditionInUse("7", "desk", 1, frozenset())]
    (item,) = servicing_due(tarn(), seen, D("2026-11-30"))
    assert (item.on, item.part) == (ends, "8 desk")
    assert list(servicing_due(tarn(), seen, D("2026-11-29"))) == []


def test_a_release_that_nothing_shows_is_late_from_the_day_after_its_publication() -> None:
    assert [d.part for d in late_releases(tarn(), {"9.1"}, D("2027-03-16"))] == []
    assert [(d.part, d.on) for d in late_releases(tarn(), {"9.1"}, D("2027-03-17"))] == [("9.2", D("2027-03-17"))]
    assert list(late_releases(tarn(), {"9.2"}, D("2027-03-17"))) == []


def test_a_check_is_due_after_the_newest_look() -> None:
    item = check_due(DEVICES[0], "9.1", D("2026-12-01"), [D("2026-12-20")], 60, D("2027-02-18"))
    assert item is not None
    assert item.on == D("2027-02-18")
    assert check_due(DEVICES[0], "9.1", D("2026-12-01"), [D("2026-12-20")], 60, D("2027-02-17")) is None


def test_an_attempt_that_went_wrong_says_what_to_do() -> None:
    last = LastAttempt("AT-0001", DEVICES[0], "9.1", AttemptOutcome.FAILED_TO_START, TODAY, [], "", [], ["storage"])
    found = attempt_due(tarn(), last)
    assert found is not None
    assert found.kind == "floor-found"
    assert attempt_due(tarn(), replace(last, undecided=[])) is None
    assert attempt_due(tarn(), replace(last, outcome=AttemptOutcome.ABANDONED)) is None
    refused = replace(last, outcome=AttemptOutcome.REFUSED, refused_by=["security-chip"], overrides=["compat-drop-in"])
    found = attempt_due(tarn(), refused)
    assert found is not None
    assert found.words.startswith("compat-drop-in did not keep set-up from refusing d1 on 9.1 by security-chip")


def test_devices_that_run_by_exception_are_looked_at_once_the_interval_is_over() -> None:
    """By hand, every 60 days, until 17 February: 19 December and 60 days is that day, 20 December the day after."""
    running = {"d1": date(2026, 12, 19), "d2": date(2026, 12, 20)}
    last = begun_by(60, date(2027, 2, 17))
    assert last == date(2026, 12, 19)
    twice = [
        ("d1", date(2027, 6, 1)),
        ("d1", date(2026, 12, 19)),
        ("d1", date(2026, 12, 18)),
        ("d1", date(2026, 12, 19)),
    ]
    assert first_days([*running.items(), *twice], last) == {"d1": date(2026, 12, 18)}
    for device, since in running.items():
        due = check_due(DueDevice(device, "north"), "9.1", since, (), 60, date(2027, 2, 17))
        assert (due is not None) == (device == "d1")
