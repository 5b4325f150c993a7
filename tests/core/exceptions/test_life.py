from __future__ import annotations

from datetime import date
from typing import Any

import pytest

from doorstone.core.errors import InvalidInputError, MoveRefusedError
from doorstone.core.exceptions.life import (
    ExceptionState,
    ExceptionTerms,
    Involved,
    Move,
    allowed_actions,
    check_approver,
    next_state,
    refusals,
    shown,
    stale_because,
)
from doorstone.core.exceptions.terms import check_dates
from doorstone.core.facts import View
from doorstone.core.sorting.assessment import assess, findings_of
from tests.build import CHIPLESS, GOOD, tarn, view

D = date.fromisoformat


def seen(of: View) -> dict[str, Any]:
    return shown(findings_of(tarn(), "9.1", of, [], "", ["storage"]), of.values(), tarn().specs)


def reasons(facts: Any, *requirements: str) -> list[str]:
    return [r.reason for r in refusals("nbt-001", assess(tarn(), "9.1", view(facts)), requirements)]


def test_installer_checks_can_be_excepted() -> None:
    assert reasons(CHIPLESS, "security-chip", "processor-listed") == []


def test_a_floor_cannot_and_the_refusal_says_which_device_and_why() -> None:
    found = refusals("nbt-030", assess(tarn(), "9.1", view({**GOOD, "cpu.features": []})), ["instruction-level"])
    assert found[0].device == "nbt-030"
    assert found[0].reason == (
        "Instruction level x86-64-v3 is a floor: The system uses these instructions and stops at start without them"
    )


@pytest.mark.parametrize(
    ("facts", "requirement", "reason"),
    [
        (GOOD, "security-chip", "Security chip, TPM 2.0, switched on: the device meets it"),
        ({**GOOD, "tpm.state": "off"}, "security-chip", "Security chip, TPM 2.0, switched on is only switched off"),
        ({k: v for k, v in GOOD.items() if k != "tpm.state"}, "security-chip", "nobody has measured it"),
        (GOOD, "eyesight", "release 9.1 does not ask for eyesight"),
    ],
)
def test_what_else_cannot_be_excepted(facts: Any, requirement: str, reason: str) -> None:
    found = reasons(facts, requirement)
    assert len(found) == 1
    assert reason in found[0]


def test_memory_that_could_be_bought_may_still_be_excepted() -> None:
    # A part costs money: whether to buy it is for the organisation to decide.
    assert reasons({**GOOD, "memory.mib": 4096}, "memory-set-up") == []


MOVES = {
    (ExceptionState.REQUESTED, Move.APPROVE): ExceptionState.APPROVED,
    (ExceptionState.REQUESTED, Move.DECLINE): ExceptionState.DECLINED,
    (ExceptionState.REQUESTED, Move.WITHDRAW): ExceptionState.WITHDRAWN,
    (ExceptionState.APPROVED, Move.REVOKE): ExceptionState.REVOKED,
    (ExceptionState.APPROVED, Move.CLOSE): ExceptionState.CLOSED,
    (ExceptionState.APPROVED, Move.CONFIRM): ExceptionState.APPROVED,
    (ExceptionState.APPROVED, Move.LAPSE): ExceptionState.LAPSED,
}


@pytest.mark.parametrize("state", list(ExceptionState))
@pytest.mark.parametrize("move", list(Move))
def test_every_state_and_move(state: ExceptionState, move: Move) -> None:
    if (state, move) in MOVES:
        assert next_state(state, move) is MOVES[state, move]
    else:
        with pytest.raises(MoveRefusedError, match=f"is {state}"):
            next_state(state, move)


def test_the_approver_is_never_the_requester_unless_allowed() -> None:
    with pytest.raises(MoveRefusedError, match="never the requester"):
        check_approver("petra", (), {"petra"}, (), self_approval=False)
    with pytest.raises(MoveRefusedError, match="You have edited"):
        check_approver("petra", ("wilhelmina",), {"wilhelmina"}, (), self_approval=False)
    assert check_approver("petra", (), {"petra"}, (), self_approval=True)
    assert not check_approver("petra", ("wilhelmina",), {"anselm"}, (), self_approval=False)


@pytest.mark.parametrize(
    ("start", "expiry", "review", "message"),
    [
        ("2027-01-18", "2027-01-17", "2027-01-18", "before the start"),
        ("2027-01-18", "2027-06-01", "2027-06-02", "outside"),
        ("2027-01-18", "2027-06-01", "2027-01-17", "outside"),
        ("2027-01-18", "2028-01-19", "2027-06-01", "more than 365 days"),
    ],
)
def test_dates_that_do_not_fit(start: str, expiry: str, review: str, message: str) -> None:
    with pytest.raises(InvalidInputError, match=message):
        check_dates(D(start), D(expiry), D(review), 365)


def test_the_longest_run_is_allowed_to_the_day() -> None:
    check_dates(D("2027-01-18"), D("2028-01-18"), D("2027-01-18"), 365)


def test_in_force_from_start_through_expiry() -> None:
    terms = ExceptionTerms(
        "EX-0001",
        "tarn",
        "9.2",
        True,
        frozenset(),
        frozenset(),
        D("2027-02-01"),
        D("2027-03-01"),
        ExceptionState.APPROVED,
    )
    days = ["2027-01-31", "2027-02-01", "2027-03-01", "2027-03-02"]
    assert [terms.in_force(D(day)) for day in days] == [False, True, True, False]
    assert [terms.reaches(tarn(), release) for release in ("9.0", "9.2", "9.3")] == [True, True, False]


def test_situation_40_a_device_read_again_with_another_disk_is_stale() -> None:
    small = {**GOOD, "disk.system_gib": 29}
    before = seen(view(small))
    assert stale_because(before, before) == []
    again = seen(view({**small, "disk.system_gib": 58}))
    assert stale_because(before, again) == ["storage: disk.system_gib was 29 GiB, is 58 GiB"]
    gone = seen(view(GOOD))
    assert stale_because(before, gone)[0] == "storage: finding was unmet, is met"
    asked = {
        **before["storage"],
        "asks": "disk.free_gib at least 10 GiB",
        "rule": "",
        "measured": {"disk.free_gib": "20 GiB"},
    }
    assert stale_because(before, {"storage": asked}) == [
        f"storage: the sheet asked for {before['storage']['asks']}, now for disk.free_gib at least 10 GiB"
    ]


REQUEST_MOVES, APPROVED_MOVES = ("approve", "decline", "withdraw"), ("revoke", "close", "confirm")


@pytest.mark.parametrize(
    ("state", "moves", "person", "role", "expected"),
    [
        ("requested", REQUEST_MOVES, "petra", "technician", "withdraw edit comment answer attest attach transfer"),
        ("requested", REQUEST_MOVES, "anselm", "approver",
         "approve decline comment ask-back attest attach transfer"),
        ("requested", REQUEST_MOVES, "odile", "approver", "decline comment ask-back attest attach transfer"),
        ("requested", REQUEST_MOVES, "joss", "viewer", ""),
        ("approved", APPROVED_MOVES, "petra", "technician", "comment answer attest attach review transfer renew"),
        ("approved", APPROVED_MOVES, "anselm", "approver",
         "revoke close confirm comment attest attach review transfer"),
        ("lapsed", (), "petra", "technician", "comment answer attach"),
        ("lapsed", (), "wilhelmina", "administrator", "comment attach"),
    ],
)  # fmt: skip
def test_what_somebody_may_do_with_an_exception(
    state: str, moves: tuple[str, ...], person: str, role: str, expected: str
) -> None:
    who = Involved("petra", "petra", frozenset({"odile"}), frozenset({"joss"}), asked_back=True)
    assert allowed_actions(ExceptionState(state), moves, person, role, who, self_approval=False) == tuple(
        expected.split()
    )


def test_an_ended_exception_is_attested_for_while_a_device_runs_by_it() -> None:
    who = Involved("petra", "petra", relied_on=True)
    for state, person, role, may in [
        (ExceptionState.LAPSED, "petra", "technician", True),
        (ExceptionState.REVOKED, "anselm", "approver", True),
        (ExceptionState.LAPSED, "odile", "viewer", False),
    ]:
        assert ("attest" in allowed_actions(state, (), person, role, who, self_approval=False)) is may


def test_who_has_approved_waits_for_the_other_and_self_approval_is_a_rule() -> None:
    who = Involved("petra", "petra", approvers=frozenset({"anselm"}))
    again = allowed_actions(ExceptionState.REQUESTED, REQUEST_MOVES, "anselm", "approver", who, self_approval=False)
    assert "approve" not in again
    mine = Involved("wilhelmina", "wilhelmina")
    for own in (True, False):
        may = allowed_actions(ExceptionState.REQUESTED, REQUEST_MOVES, "wilhelmina", "administrator", mine, own)
        assert ("approve" in may) is own
