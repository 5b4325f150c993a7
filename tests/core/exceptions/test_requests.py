"""A request, looked through: every part that is to be corrected is named, in order, and nothing is raised."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from doorstone.core.devices.life import Life
from doorstone.core.errors import InvalidInputError, MoveRefusedError, UnknownObjectError
from doorstone.core.exceptions.batch import RequestGroup, requests_for
from doorstone.core.exceptions.life import ExceptionState
from doorstone.core.exceptions.requests import (
    NewAttachment,
    NewCondition,
    NewException,
    NewTerms,
    RenewedException,
    RequestBasis,
    RequestedDevice,
    Risk,
    TermsBasis,
    review_request,
)
from doorstone.core.exceptions.residual import RiskDevice, RiskTable
from doorstone.core.sorting.assessment import assess
from tests.build import CHIPLESS, GOOD, tarn, view

TERMS = NewTerms(
    "Runs the palm house.", (), "petra", date(2026, 9, 14), date(2027, 3, 1), date(2026, 12, 1)
)  # fmt: skip
ASKED = NewException("9.1", False, ("security-chip", "processor-listed"), ("d1", "d2"), "We know.", TERMS)
RISK = Risk(1, "We know.", "")
FIRST = RenewedException("EX-0001", "tarn", ExceptionState.APPROVED, "", ("d1", "d2"))


def device(name: str, facts: dict[str, object], life: Life = Life.IN_SERVICE) -> RequestedDevice:
    return RequestedDevice(name, life, assess(tarn(), "9.1", view(facts), (), name))


def basis(*devices: RequestedDevice, critical: bool = False, two: str = "critical") -> RequestBasis:
    terms = TermsBasis(tarn(), date(2026, 9, 14), {"petra"}, 365, ())
    exposures = [RiskDevice(one.id, critical, {}) for one in devices]
    return RequestBasis(terms, devices, exposures, RISK, None, RiskTable(), two)


BOTH = basis(device("d1", CHIPLESS), device("d2", CHIPLESS))


def test_what_can_be_had_is_kept_as_asked() -> None:
    found = review_request(ASKED, BOTH)
    assert (found.devices, found.refused, found.errors, found.approvals_needed) == (("d1", "d2"), (), (), 1)
    assert found.possible(go_on=False)
    vital = basis(device("d1", CHIPLESS), critical=True)
    assert review_request(ASKED, vital).approvals_needed == 2
    assert review_request(ASKED, replace(vital, two_approvers="none")).approvals_needed == 1


def test_a_risk_high_enough_takes_two_and_a_device_left_out_adds_none() -> None:
    # The chip weighs 6, the processor 2; both exposures of each are unread, 2 each; the critical d2 weighs 4 more: 16.
    asked = basis(device("d1", CHIPLESS), device("d2", CHIPLESS), two="none")
    exposures = [RiskDevice("d1", False, {}), RiskDevice("d2", True, {})]
    both = replace(asked, exposures=exposures, risk_table=RiskTable(two_approvers=16))
    assert review_request(ASKED, both).approvals_needed == 2
    assert review_request(ASKED, replace(both, risk_table=RiskTable(two_approvers=17))).approvals_needed == 1
    gone = replace(both, devices=[asked.devices[0], device("d2", CHIPLESS, Life.RETIRED)])
    assert review_request(ASKED, gone).approvals_needed == 1


def test_devices_that_cannot_have_it_are_named_and_the_rest_can_go_on() -> None:
    found = review_request(
        ASKED, basis(device("d1", CHIPLESS), device("d2", GOOD), device("d3", CHIPLESS, Life.RETIRED))
    )
    assert found.devices == ("d1",)
    assert [(one.device, one.requirement) for one in found.refused] == [
        ("d2", "processor-listed"), ("d2", "security-chip"), ("d3", ""),
    ]  # fmt: skip
    assert not found.possible(go_on=False)
    assert found.possible(go_on=True)
    assert not review_request(ASKED, basis(device("d2", GOOD))).possible(go_on=True)


def test_a_floor_that_is_not_asked_for_stands_in_the_way_too() -> None:
    found = review_request(ASKED, basis(device("d1", {**CHIPLESS, "cpu.features": []})))
    assert "no exception carries the device there" in found.refused[0].reason


@pytest.mark.parametrize(
    ("asked", "place", "words"),
    [
        (replace(ASKED, risk_acknowledged="Fine."), "risk", "not acknowledged word for word"),
        (replace(ASKED, terms=replace(TERMS, reason="Short.")), "terms", "too short"),
        (replace(ASKED, terms=replace(TERMS, owner="joss")), "terms", "account named 'joss'. Name one of petra"),
        (replace(ASKED, terms=replace(TERMS, expires_on=date(2028, 1, 1))), "terms", "more than 365 days"),
        (replace(ASKED, terms=replace(TERMS, conditions=(NewCondition(""),))), "terms", "1: it says nothing"),
        (
            replace(ASKED, terms=replace(TERMS, conditions=(NewCondition("", {"fact": "no.such", "at_least": 1}),))),
            "terms", "conditions, 1",
        ),
        (replace(ASKED, attachments=(NewAttachment("Plan", "desk drawer"),)), "attachments", "is no link"),
        (replace(ASKED, renews="EX-0009"), "renews", "There is no exception 'EX-0009'"),
    ],
)  # fmt: skip
def test_each_part_to_correct_is_named(asked: NewException, place: str, words: str) -> None:
    (found,) = review_request(asked, BOTH).errors
    assert found.place == place
    assert words in str(found.error)


def test_all_of_them_come_in_the_order_in_which_people_correct_them() -> None:
    bad = replace(
        ASKED, risk_acknowledged="", terms=replace(TERMS, owner=""), renews="EX-0009",
        attachments=(NewAttachment("", "https://docs.northmere.example/plan"),),
    )  # fmt: skip
    found = review_request(bad, BOTH).errors
    assert [one.place for one in found] == ["risk", "terms", "attachments", "renews"]
    kinds = [InvalidInputError, InvalidInputError, InvalidInputError, UnknownObjectError]
    assert [type(one.error) for one in found] == kinds


def test_only_the_devices_that_can_have_it_are_held_against_what_is_renewed() -> None:
    renewing = replace(ASKED, renews="EX-0001")
    assert review_request(renewing, replace(BOTH, renews=FIRST)).errors == ()
    narrower = replace(BOTH, renews=replace(FIRST, devices=("d1",)))
    (extra,) = review_request(renewing, narrower).errors
    assert "does not name d2" in str(extra.error)
    without = replace(basis(device("d1", CHIPLESS), device("d2", GOOD)), renews=replace(FIRST, devices=("d1",)))
    assert review_request(renewing, without).errors == ()
    (ended,) = review_request(renewing, replace(BOTH, renews=replace(FIRST, state=ExceptionState.REVOKED))).errors
    assert isinstance(ended.error, MoveRefusedError)


def test_of_many_devices_each_is_asked_for_or_named() -> None:
    devices = [
        device("d1", CHIPLESS),
        device("d2", GOOD),
        device("d3", CHIPLESS, Life.SET_ASIDE),
        device("d4", CHIPLESS),
    ]
    both = ("processor-listed", "security-chip")
    groups, refused = requests_for(devices, {}, (), 10)
    assert groups == [RequestGroup(both, ("d1", "d4"))]
    assert [one.device for one in refused] == ["d2", "d3"]
    held = {"d4": dict.fromkeys(both, "EX-0001")}
    groups, refused = requests_for(devices, held, ("security-chip", "storage"), 10)
    assert groups == [RequestGroup(("security-chip",), ("d1",))]
    assert [one.device for one in refused] == ["d2", "d3", "d4"]
    assert (
        requests_for(devices[:1], {}, ("storage",), 10)[1][0].reason == "it needs none of these requirements excepted"
    )
