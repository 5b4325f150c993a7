"""Exceptions as use cases: asked for, decided by whom, in part, by two, looked at again, renewed, cared for, ended."""

from __future__ import annotations

import contextlib
from datetime import date
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.exceptions.requests import NewAttachment, NewCondition
from doorstone.core.people import covers
from doorstone.store import ledger as ledger_store
from doorstone.store.exceptions import exceptions as store
from doorstone.work import attempts
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context, Policy
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, StaleEditError
from doorstone.work.devices.selections import save_selection
from doorstone.work.due import due_list as due
from doorstone.work.exceptions import activity, decisions, register
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.decisions import Part
from doorstone.work.exceptions.lapse import lapse
from doorstone.work.kits import kits
from doorstone.work.ledger import entries as ledger
from doorstone.work.people import people
from doorstone.work.people.people import PersonChange
from doorstone.work.platforms import revisions
from tests.asking import (
    ADMIN,
    ANSELM,
    CHIP,
    NOTICE,
    PETRA,
    RISK,
    TERMS,
    D,
    asked,
    changed_sheet,
    granted,
    line,
    on,
    read,
)
from tests.build import CHIPLESS, GOOD

SMALL = {**GOOD, "disk.system_gib": 29}
ENCRYPTED = NewCondition(fact_condition={"fact": "disk.encrypted", "is": True})


def entries(context: Context) -> int:
    with context.database.read() as db:
        return ledger_store.last_seq(db)


def actions(context: Context, name: str) -> list[str]:
    return [e.action.removeprefix("exception ") for e in reversed(ledger.list_entries(context, obj=name))]


def test_the_walk_of_a_request(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    made = exceptions.request(context, PETRA, asked("d1"))
    assert (made.id, made.state, made.in_force, made.row.version) == ("EX-0001", "requested", False, 1)
    assert (made.row.risk_text, made.row.notice_text, made.row.risk_version) == (RISK, NOTICE, 1)
    done = decisions.decide(context, ANSELM, "EX-0001", "approve", "Agreed.", 1)
    assert (done.state, done.in_force, done.row.decided_by, done.row.version) == ("approved", True, "anselm", 2)
    assert [e.action for e in ledger.list_entries(context, kind="exception")] == [
        "exception approved",
        "exception requested",
    ]


def test_a_request_that_includes_a_floor_names_the_device_and_the_reason(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", {**CHIPLESS, "cpu.features": []}))
    before = entries(context)
    with pytest.raises(RefusedError) as error:
        exceptions.request(context, PETRA, asked("d1", "d2", requirements=(*CHIP, "instruction-level")))
    places = {entry.pointer: entry.detail for entry in error.value.errors}
    assert "is a floor" in places["d2, instruction-level"]
    assert "the device meets it" in places["d1, instruction-level"]
    assert error.value.detail == "No exception can be had for 2 devices as asked"
    assert entries(context) == before


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"risk_acknowledged": RISK[:-1]}, "risk statement is not acknowledged word for word"),
        ({"notice_acknowledged": NOTICE.lower()}, "vendor's notice of 9.1 is not acknowledged word for word"),
        ({"terms": replace(TERMS, owner="joss")}, "There is no active account named 'joss'"),
        ({"terms": replace(TERMS, conditions=(NewCondition(" "),))}, "conditions, 1: it says nothing"),
        (
            {"terms": replace(TERMS, conditions=(NewCondition("Locked", due_on=D("2028-01-01")),))},
            "conditions, 1: 2028-01-01 lies outside",
        ),
        (
            {
                "terms": replace(
                    TERMS, conditions=(NewCondition(fact_condition={"fact": "disk.encripted", "is": True}),)
                )
            },
            "Unknown fact 'disk.encripted'",
        ),
        ({"attachments": (NewAttachment("Plan", "javascript:alert(1)"),)}, "is no link"),
        ({"attachments": (NewAttachment("Plan", "https://x.example", "abc"),)}, "SHA-256 is not one"),
        ({"devices": ()}, "names devices and requirements"),
        ({"terms": replace(TERMS, reason="short")}, "reason is too short"),
        ({"terms": replace(TERMS, owner=" ")}, "has an owner"),
        ({"terms": replace(TERMS, expires_on=D("2028-06-01"))}, "more than 365 days"),
        (
            {"terms": replace(TERMS, start_on=D("2026-12-01"), expires_on=D("2027-01-17"), review_on=D("2026-12-02"))},
            "is past",
        ),
        ({"release": "11"}, "has no release '11'"),
        ({"devices": ("gone",)}, "no device 'gone'"),
    ],
)
def test_terms_that_do_not_fit_are_refused(context: Context, change: dict[str, Any], message: str) -> None:
    read(context, line("d1", CHIPLESS))
    with pytest.raises((BadInputError, MissingError), match=message):
        exceptions.request(context, PETRA, replace(asked("d1"), **change))


def test_an_edit_of_what_somebody_else_has_edited_is_refused(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    exceptions.edit(context, PETRA, "EX-0001", 1, replace(TERMS, owner="anselm"))
    with pytest.raises(StaleEditError, match="you saw version 1, it is at version 2"):
        exceptions.edit(context, ADMIN, "EX-0001", 1, replace(TERMS, owner="odile"))
    assert exceptions.get_exception(context, "EX-0001").row.owner == "anselm"
    with pytest.raises(StaleEditError):
        decisions.decide(context, ANSELM, "EX-0001", "approve", "", 1)


def test_only_the_requester_edits_and_withdraws_and_only_while_requested(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    other = Actor("joss", "technician", "test")
    with pytest.raises(RefusedError, match="requested by petra"):
        exceptions.edit(context, other, "EX-0001", 1, TERMS)
    with pytest.raises(RefusedError, match="requested by petra"):
        decisions.decide(context, other, "EX-0001", "withdraw", "", 1)
    decisions.decide(context, PETRA, "EX-0001", "withdraw", "", 1)
    with pytest.raises(RefusedError, match="its terms stand"):
        exceptions.edit(context, PETRA, "EX-0001", 2, TERMS)


def test_situation_36_self_approval_where_it_is_allowed_shows_as_such(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, ADMIN, asked("d1"))
    with pytest.raises(RefusedError, match="never the requester"):
        decisions.decide(context, ADMIN, "EX-0001", "approve", "", 1)
    small = Context(context.database, context.clock, Policy(self_approval=True))
    assert decisions.decide(small, ADMIN, "EX-0001", "approve", "", 1).row.self_approved is True
    assert ledger.list_entries(context, kind="exception")[0].body["self_approved"] is True


def test_a_decline_and_a_revocation_take_a_reason(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    name = granted(context, "d1")
    with pytest.raises(BadInputError, match="takes a reason"):
        decisions.decide(context, ANSELM, name, "revoke", "", 2)
    assert decisions.decide(context, ANSELM, name, "revoke", "The site is closed.", 2).state == "revoked"


def test_it_lapses_after_its_last_day_and_that_is_written_down_also_when_nobody_was_there(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    assert [exceptions.get_exception(on(context, d), "EX-0001").state for d in ("2027-09-30", "2027-10-01")] == [
        "approved",
        "lapsed",
    ]
    assert lapse(on(context, "2027-09-30")) == []
    late = on(context, "2027-12-24")
    assert lapse(late) == ["EX-0001"]
    assert lapse(late) == []
    found = exceptions.get_exception(late, "EX-0001")
    assert (found.state, found.row.ended_on, found.row.decided_by) == ("lapsed", "2027-10-01", "anselm")
    last = ledger.list_entries(late, obj="EX-0001")[0]
    assert (last.action, last.actor, last.at) == ("exception lapsed", "doorstone", "2027-12-24T09:00:00")
    with pytest.raises(RefusedError, match="is lapsed, so revoke is not possible"):
        decisions.decide(late, ANSELM, "EX-0001", "revoke", "No longer.", None)


def test_situation_40_one_of_the_approved_devices_is_stale_and_the_others_stand(context: Context) -> None:
    small = {**GOOD, "disk.system_gib": 29}
    read(context, line("d1", small), line("d2", small), line("d3", small))
    name = granted(context, "d1", "d2", "d3", requirements=("storage",))
    read(context, line("d2", {**small, "disk.system_gib": 58}, "2027-01-17T08:00:00"))
    view = exceptions.get_exception(context, name)
    assert dict(view.stale) == {"d2": ["storage: disk.system_gib was 29 GiB, is 58 GiB"]}
    with pytest.raises(RefusedError) as error:
        kits.make_kit(context, PETRA, "d2", "9.1", "in-place", "everything")
    assert any("is stale" in entry.detail for entry in error.value.errors)
    assert kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything").row.overrides == ("small-disk",)


# ------------------------------------------------- many devices, selections


def test_a_selection_is_asked_for_device_by_device_and_one_may_go_on_with_the_rest(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", SMALL), line("d3", GOOD), line("d4", {**SMALL, "cpu.features": []}))
    save_selection(context, PETRA, "Small ones", "tarn", "", DeviceFilter(site="Herbarium"))
    wanted = asked(requirements=("storage",), more={"selection": "Small ones"})
    checked = exceptions.check(context, wanted)
    assert checked.devices == ("d1", "d2")
    floored = "Instruction level x86-64-v3 is a floor at 9.1: no exception carries the device there"
    assert [(t.pointer, t.detail) for t in checked.refused] == [
        ("d3, storage", "64 GB system disk: the device meets it"),
        ("d4, instruction-level", floored),
    ]
    with pytest.raises(RefusedError, match="No exception can be had for 2 devices as asked"):
        exceptions.request(context, PETRA, wanted)
    made = exceptions.request(context, PETRA, replace(wanted, go_on=True))
    assert made.row.devices == ("d1", "d2")
    assert [t.pointer for t in made.refused] == ["d3, storage", "d4, instruction-level"]


def test_a_rehearsal_of_a_request_checks_all_that_the_request_checks(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    short = asked("d1", reason="No.", expires_on=D("2026-01-01"))
    assert [(t.pointer, t.detail) for t in exceptions.check(context, short).terms] == [
        ("terms", "The reason is too short")
    ]
    late = asked("d1", expires_on=D("2030-01-01"), more={"renews": "EX-0009"})
    assert [t.pointer for t in exceptions.check(context, late).terms] == ["terms", "renews"]
    assert exceptions.check(context, asked("d1")).terms == ()


def test_going_on_with_nobody_left_is_refused(context: Context) -> None:
    read(context, line("d1", GOOD))
    with pytest.raises(RefusedError):
        exceptions.request(context, PETRA, asked("d1", requirements=("storage",), more={"go_on": True}))


# ----------------------------------------------------------- parts, two, twice


def test_a_part_is_approved_and_the_rest_is_left_out_with_the_reason(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1", "d2"))
    with pytest.raises(BadInputError, match="takes a reason for the rest"):
        decisions.decide(context, ANSELM, "EX-0001", "approve", "", 1, Part(("d1",)))
    with pytest.raises(BadInputError, match="does not ask for d9"):
        decisions.decide(context, ANSELM, "EX-0001", "approve", "Not all of it.", 1, Part(("d9",)))
    part = Part(("d1",), ("security-chip",))
    done = decisions.decide(context, ANSELM, "EX-0001", "approve", "The list has another way.", 1, part)
    assert (done.row.devices, done.row.requirements) == (("d1",), ("security-chip",))
    assert done.row.left_out == {
        "d2": "The list has another way.",
        "processor-listed": "The list has another way.",
    }
    assert register.account(context, "d2", "9.1").permissions[0].still == ("nobody has allowed it",)


@pytest.fixture
def careful(context: Context) -> Context:
    """A context whose organisation has two people approve for critical devices."""
    read(context, line("d1", SMALL, critical=True), line("d2", SMALL))
    return Context(context.database, context.clock, Policy(two_approvers="critical"))


def test_situation_27_a_critical_device_takes_two_approvers_and_others_one(careful: Context) -> None:
    exceptions.request(careful, PETRA, asked("d1", requirements=("storage",)))
    exceptions.request(careful, PETRA, asked("d2", requirements=("storage",)))
    first = decisions.decide(careful, ANSELM, "EX-0001", "approve", "Seen.", 1)
    assert (first.state, first.row.approvals_needed, first.in_force) == ("requested", 2, False)
    with pytest.raises(RefusedError, match="You have approved it already"):
        decisions.decide(careful, ANSELM, "EX-0001", "approve", "Again.", None)
    second = decisions.decide(careful, ADMIN, "EX-0001", "approve", "Seen too.", 2)
    assert (second.state, [a.person for a in second.row.approvals]) == ("approved", ["anselm", "wilhelmina"])
    assert decisions.decide(careful, ANSELM, "EX-0002", "approve", "", 1).state == "approved"


def test_the_first_of_two_approvals_falls_away_when_what_it_saw_has_changed_or_the_terms_are_edited(
    careful: Context,
) -> None:
    exceptions.request(careful, PETRA, asked("d1", requirements=("storage",)))
    decisions.decide(careful, ANSELM, "EX-0001", "approve", "Seen.", 1)
    read(careful, line("d1", {**SMALL, "disk.system_gib": 58}, "2027-01-17T08:00:00"))
    again = decisions.decide(careful, ADMIN, "EX-0001", "approve", "Seen with 58 GiB.", 2)
    assert (again.state, [a.person for a in again.row.approvals]) == ("requested", ["wilhelmina"])
    assert ledger.list_entries(careful, obj="EX-0001")[0].body["fell_away"] == "anselm"
    edited = exceptions.edit(careful, PETRA, "EX-0001", 3, TERMS)
    assert edited.row.approvals == ()


def test_devices_are_shown_with_values_of_their_own_that_may_differ_a_little(
    context: Context,
) -> None:
    read(context, line("d1", {**GOOD, "disk.system_gib": 29}), line("d2", {**GOOD, "disk.system_gib": 40}))
    name = granted(context, "d1", "d2", requirements=("storage",))
    view = exceptions.get_exception(context, name)
    assert {d: one["storage"]["values"] for d, one in view.row.shown.items()} == {
        "d1": {"disk.system_gib": 29}, "d2": {"disk.system_gib": 40},
    }  # fmt: skip
    read(context, line("d1", {"disk.system_gib": 30}, "2027-01-17T08:00:00"))  # 3 % more; a part of 8 % may be the same
    read(context, line("d2", {"disk.system_gib": 29}, "2027-01-17T08:00:00"))
    assert exceptions.get_exception(context, name).stale == {"d2": ["storage: disk.system_gib was 40 GiB, is 29 GiB"]}


def test_what_changed_stays_visible_once_a_device_has_moved_past_the_release(context: Context) -> None:
    small = {**GOOD, "disk.system_gib": 29}
    read(context, line("d1", small), line("d2", small))
    name = granted(context, "d1", "d2", requirements=("storage",))
    read(context, line("d2", {**small, "disk.system_gib": 58, "os.release": "9.2"}, "2027-01-17T08:00:00"))
    view = exceptions.get_exception(context, name)
    changes = ["storage: disk.system_gib was 29 GiB, is 58 GiB"]
    assert (dict(view.stale), dict(view.stale_moved_on)) == ({}, {"d2": changes})
    assert "confirm" not in view.moves
    assert not any(one.object == name and "second look" in one.words for one in due.due_list(context))


def test_a_second_look_lets_the_approval_of_stale_devices_rest_on_todays_findings(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", SMALL))
    name = granted(context, "d1", "d2", requirements=("storage",))
    with pytest.raises(RefusedError, match="Nothing has changed under EX-0001"):
        decisions.decide(context, ANSELM, name, "confirm", "As before.", None)
    read(context, line("d2", {**SMALL, "disk.system_gib": 58}, "2027-01-17T08:00:00"))
    assert "confirm" in exceptions.get_exception(context, name).moves
    with pytest.raises(RefusedError, match="never the requester"):
        decisions.decide(context, replace(PETRA, role="approver"), name, "confirm", "Mine.", None)
    done = decisions.decide(context, ANSELM, name, "confirm", "A bigger disk, still too small.", None)
    assert (dict(done.stale), done.state, "confirm" in done.moves) == ({}, "approved", False)
    entry = ledger.list_entries(context, obj=name)[0]
    assert entry.body["changes"] == {"d2": ["storage: disk.system_gib was 29 GiB, is 58 GiB"]}


def test_a_changed_sheet_a_sort_and_a_condition_make_stale_just_the_devices_concerned(context: Context) -> None:
    read(context, line("d1", {**SMALL, "disk.encrypted": True}), line("d2", {**SMALL, "disk.encrypted": True}))
    name = granted(context, "d1", "d2", requirements=("storage",), conditions=(ENCRYPTED,))
    read(context, line("d2", {**SMALL, "disk.encrypted": False}, "2027-01-17T08:00:00"))
    broken = "the condition “disk.encrypted yes” is not kept: disk.encrypted no"
    assert exceptions.get_exception(context, name).stale == {"d2": [broken]}
    revisions.load_sheet(
        context, ADMIN, *changed_sheet('"disk.system_gib", at_least = 60,', '"disk.system_gib", at_least = 110,'), "t"
    )
    stale = exceptions.get_exception(context, name).stale
    assert sorted(stale) == ["d1", "d2"]
    assert stale["d1"] == [
        "storage: the sheet asked for disk.system_gib at least 60 GiB, now for disk.system_gib at least 110 GiB"
    ]


def test_nobody_approves_on_a_condition_that_is_broken_from_the_start(context: Context) -> None:
    read(context, line("d1", {**SMALL, "disk.encrypted": False}))
    exceptions.request(context, PETRA, asked("d1", requirements=("storage",), conditions=(ENCRYPTED,)))
    with pytest.raises(RefusedError) as refused:
        decisions.decide(context, ANSELM, "EX-0001", "approve", "", 1)
    assert [(t.pointer, t.detail) for t in refused.value.errors] == [
        ("d1, condition", "“disk.encrypted yes” is not kept: disk.encrypted no")
    ]


# ------------------------------------------------------------- renewal, owner


def test_a_renewal_is_a_linked_successor_that_takes_over_on_its_first_day(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    old = granted(context, "d1")
    dates = {"start_on": D("2027-10-01"), "expires_on": D("2028-03-01"), "review_on": D("2027-12-01")}
    with pytest.raises(BadInputError, match="EX-0001 does not name d2"):
        exceptions.request(context, PETRA, asked("d2", more={"renews": old}, conditions=(), **dates))
    new = exceptions.request(context, PETRA, asked("d1", more={"renews": old}, conditions=(), **dates)).id
    assert exceptions.get_exception(context, old).renewed_by == new
    with pytest.raises(RefusedError, match="EX-0001 is renewed by EX-0002"):
        exceptions.request(context, PETRA, asked("d1", more={"renews": old}, conditions=(), **dates))
    decisions.decide(context, ANSELM, new, "approve", "", 1)
    assert lapse(on(context, "2027-09-30")) == []
    assert lapse(on(context, "2027-10-01")) == [old]
    after = exceptions.get_exception(on(context, "2027-10-01"), old)
    assert (after.state, actions(context, old)[-1]) == ("closed", "replaced")


def test_situation_32_an_owner_who_leaves_is_told_of_and_somebody_else_takes_over(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    people.add_person(context, ADMIN, "joss", "Joss Wren", "technician", "long enough pw")
    granted(context, "d1", owner="joss")
    people.change_person(context, ADMIN, "joss", 1, PersonChange(active=False))
    assert people.owned_exceptions(context, "joss") == ["EX-0001"]
    assert [d.kind for d in due.due_list(context, "anselm")] == ["owner-left"]
    with pytest.raises(RefusedError, match="EX-0001 is joss's"):
        activity.transfer(context, PETRA, "EX-0001", None, "petra", "")
    with pytest.raises(BadInputError, match="There is no active account named 'joss'"):
        activity.transfer(context, ANSELM, "EX-0001", None, "joss", "")
    assert activity.transfer(context, ANSELM, "EX-0001", 2, "petra", "Joss has left.").row.owner == "petra"
    assert due.due_list(context, "anselm") == []


# ---------------------------------------------------------------- being cared for


def test_who_is_asked_back_answers_and_both_are_due_in_turn(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    with pytest.raises(RefusedError, match="does not decide"):
        activity.comment(context, PETRA, "EX-0001", "Why not?", question=True)
    assert [d.kind for d in due.due_list(context, "anselm")] == ["request-waits"]
    asked_back = activity.comment(context, ANSELM, "EX-0001", "Is a new one ordered?", question=True)
    assert (asked_back.row.asked_back, [d.kind for d in due.due_list(context, "anselm")]) == (True, [])
    assert ("answer-waits", "2027-01-25") in [(d.kind, d.on.isoformat()) for d in due.due_list(context, "petra")]
    answered = activity.comment(context, PETRA, "EX-0001", "For September.")
    assert [c.kind for c in answered.row.comments] == ["question", "answer"]
    assert answered.row.asked_back is False
    assert [d.kind for d in due.due_list(context, "petra")] == ["media-link-ends", "servicing-ends"]


def test_a_condition_is_attested_again_and_again_and_overdue_if_it_is_not(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")

    def kept(day: str) -> tuple[str, date | None]:
        one = exceptions.get_exception(on(context, day), "EX-0001").kept[0].kept
        return one.word.value, one.due_on

    assert kept("2027-03-01") == ("due", D("2027-03-01"))
    assert kept("2027-03-02") == ("overdue", D("2027-03-01"))
    assert register.account(on(context, "2027-03-02"), "d1", "9.1").permissions[0].holds is False
    activity.attest(on(context, "2027-03-02"), PETRA, "EX-0001", 1, "Looked at it.")
    assert kept("2027-03-02") == ("kept", D("2027-05-31"))
    assert kept("2027-06-01") == ("overdue", D("2027-05-31"))
    with pytest.raises(BadInputError, match="has no condition 7"):
        activity.attest(context, PETRA, "EX-0001", 7, "")


def test_a_review_names_the_next_one_and_evidence_is_attached(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    endings = ["media-link-ends", "servicing-ends"]
    in_april = [d.kind for d in due.due_list(on(context, "2027-04-10"), "petra")]
    assert in_april == ["condition", *endings, "not-heard-from", "review"]
    with pytest.raises(BadInputError, match="next review cannot be on 2027-12-01"):
        activity.review(context, PETRA, "EX-0001", None, D("2027-12-01"), "Fine.")
    activity.review(on(context, "2027-04-10"), PETRA, "EX-0001", None, D("2027-08-01"), "Still needed.")
    in_may = [d.kind for d in due.due_list(on(context, "2027-05-05"), "petra")]
    assert in_may == ["condition", *endings, "not-heard-from"]
    activity.attach(context, PETRA, "EX-0001", NewAttachment("Order", "https://northmere.example/o/7", "ab" * 32))
    assert exceptions.get_exception(context, "EX-0001").row.attachments[0].sha256 == "ab" * 32


def test_what_is_required_beside_the_terms_is_named(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    strict = Context(context.database, context.clock, Policy(required=("conditions", "attachment")))
    with pytest.raises(BadInputError, match="A request here has attachment"):
        exceptions.request(strict, PETRA, asked("d1"))
    with pytest.raises(BadInputError, match="A request here has conditions and attachment"):
        exceptions.request(strict, PETRA, asked("d1", conditions=()))


def test_another_risk_statement_counts_from_now_on_and_what_was_acknowledged_stays(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    text = "I take it on me that this device may stop being updated at any time, and I shall see to it."
    exceptions.change_risk(context, ADMIN, text)
    assert exceptions.risk(context).version == 2
    assert exceptions.get_exception(context, "EX-0001").row.risk_text == RISK
    with pytest.raises(BadInputError, match="word for word"):
        exceptions.request(context, PETRA, asked("d1"))


# -------------------------------------------------------------- when it ends


def upgraded(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything").id
    ended = context.clock.now()
    given = NewAttempt(
        "d1", kit, "9.1", "in-place", "everything", "completed", (), "", "", "", ended, ended, notice_accepted=True
    )  # fmt: skip
    attempts.record_attempt(context, PETRA, given)


def test_what_must_be_done_once_it_does_not_hold(context: Context) -> None:
    upgraded(context)
    first = "It runs 9.1 with processor-listed, security-chip unmet and nothing else permits that"
    one = decisions.consequences(context, "EX-0001")[0]
    assert (one.relies, one.steps) == (
        True,
        (
            first,
            "Roll back: possible through 2027-02-01",
            "Replace it, or have another exception approved",
            "Do not use KT-0001: it was made on this exception",
        ),
    )
    later = decisions.consequences(on(context, "2027-02-02"), "EX-0001")[0]
    assert "Roll back: possible through 2027-02-01" not in later.steps
    granted(context, "d1", reason="A second one, for the same.")
    assert decisions.consequences(context, "EX-0001")[0].relies is False


def test_situations_16_and_21_the_notice_stands_in_both_records_and_rollback_is_due(context: Context) -> None:
    upgraded(context)
    assert attempts.get_attempt(context, "AT-0001").row.notice_accepted == NOTICE
    assert exceptions.get_exception(context, "EX-0001").row.notice_text == NOTICE

    def of_device(day: str) -> list[tuple[str, str]]:
        found = [d for d in due.due_list(on(context, day)) if d.object == "d1" and d.kind != "follow-up"]
        return [(d.kind, d.on.isoformat()) for d in found]

    assert of_device("2027-01-18") == [("rollback-ends", "2027-02-01")]
    assert [kind for kind, _ in of_device("2027-03-10")] == ["not-heard-from", "check"]


def test_an_exception_that_begins_later_puts_no_look_off(context: Context) -> None:
    upgraded(context)
    later = {"start_on": D("2027-06-01"), "review_on": D("2027-07-01")}
    granted(context, "d1", reason="From the summer on.", conditions=(), **later)
    found = [d.on for d in due.due_list(on(context, "2027-03-10")) if (d.object, d.kind) == ("d1", "check")]
    assert found == [D("2027-03-19")]  # sixty days after 18 January, as if there were no second one


def test_the_account_of_a_device_says_who_allowed_what_and_whether_it_holds(context: Context) -> None:
    upgraded(context)
    found = register.account(context, "d1")
    assert (found.runs, [p.requirement for p in found.permissions]) == ("9.1", ["processor-listed", "security-chip"])
    chip = found.permissions[1]
    assert (chip.exception, chip.approved_by, chip.through, chip.holds) == ("EX-0001", ("anselm",), "2027-09-30", True)
    assert chip.measured == "tpm.version 1.2, tpm.state on"
    decisions.decide(context, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    assert register.account(context, "d1").permissions[1].still == ("EX-0001 is revoked",)
    told = [line.words for line in register.story(context, "device", "d1")]
    assert told[0].startswith("EX-0001: petra asked to run 9.1 without processor-listed, security-chip on d1")
    assert told[-1] == "EX-0001: anselm revoked the approval: “The site is closed”."


def test_of_two_who_decide_at_the_same_version_the_second_is_told(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    name = granted(context, "d1")
    late = on(context, "2027-10-01")
    lapse(late)
    with pytest.raises(StaleEditError):
        activity.transfer(late, PETRA, name, 2, "odile", "")
    with context.database.read() as db:
        row = store.get(db, 1)
    assert row is not None
    assert (row.owner, row.state, row.version) == ("petra", "lapsed", 3)


class UndoneError(Exception):
    pass


@pytest.mark.parametrize("name", [f"EX-{number:04d}" for number in range(1, 10)])
def test_whoever_is_told_that_they_may_make_a_move_may_and_nobody_else(demo: Context, name: str) -> None:
    """Every person tries every move on every exception of the demo, in a transaction that is undone."""
    for person in people.list_people(demo):
        actor = Actor(person.name, person.role, "test")
        view = exceptions.get_exception(demo, name)
        told = set(exceptions.actions_of(demo, actor, view))
        for move in ("approve", "decline", "withdraw", "revoke", "close", "confirm"):
            needed = "technician" if move == "withdraw" else "approver"
            done = covers(person.role, needed)
            with contextlib.suppress(UndoneError), demo.database.write():
                try:
                    note = "for the reason that the test says"
                    decisions.decide(demo, actor, name, move, note, view.row.version)
                except RefusedError as error:  # for what the devices are, not for who asks
                    done = done and bool(error.errors)
                raise UndoneError
            assert (move in told) == done, (name, person.name, move)
