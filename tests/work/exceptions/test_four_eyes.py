"""Four eyes: whose approval counts, and what edits and second looks change."""

from __future__ import annotations

import pytest

from doorstone.core.people import Deputy
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context, Policy
from doorstone.work.context.errors import RefusedError
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.people import deputies, people
from doorstone.work.people.people import PersonChange
from tests.asking import ADMIN, ANSELM, PETRA, TERMS, D, asked, line, on, read
from tests.build import CHIPLESS

WILHELMINA = ADMIN


def two_needed(context: Context) -> str:
    context.policy = Policy(two_approvers="all")
    read(context, line("d1", CHIPLESS))
    return exceptions.request(context, PETRA, asked("d1")).id


@pytest.mark.parametrize("change", [PersonChange(active=False), PersonChange(role="viewer")])
def test_an_approval_by_somebody_who_may_no_longer_decide_does_not_count(
    context: Context, change: PersonChange
) -> None:
    name = two_needed(context)
    people.add_person(context, Actor("first-setup", "administrator", "local"), "hedda", "", "approver", None)
    decisions.decide(context, ANSELM, name, "approve", "", None)
    people.change_person(context, ADMIN, "anselm", people.get_person(context, "anselm").version, change)
    hedda = Actor("hedda", "approver", "test")
    assert decisions.decide(context, hedda, name, "approve", "", None).state == "requested"
    assert decisions.decide(context, WILHELMINA, name, "approve", "", None).state == "approved"


def test_whoever_edited_a_request_is_not_its_approver(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    name = exceptions.request(context, PETRA, asked("d1")).id
    exceptions.edit(context, WILHELMINA, name, 1, TERMS)
    with pytest.raises(RefusedError, match="You have edited what would be approved"):
        decisions.decide(context, WILHELMINA, name, "approve", "", None)
    assert decisions.decide(context, ANSELM, name, "approve", "", None).row.self_approved is False


def test_where_an_editor_may_approve_it_shows(context: Context) -> None:
    context.policy = Policy(self_approval=True)
    read(context, line("d1", CHIPLESS))
    name = exceptions.request(context, PETRA, asked("d1")).id
    exceptions.edit(context, WILHELMINA, name, 1, TERMS)
    assert decisions.decide(context, WILHELMINA, name, "approve", "", None).row.self_approved is True


def test_a_second_look_takes_as_many_as_the_approval_did(context: Context) -> None:
    name = two_needed(context)
    decisions.decide(context, ANSELM, name, "approve", "", None)
    decisions.decide(context, WILHELMINA, name, "approve", "", None)
    read(context, line("d1", {**CHIPLESS, "tpm.version": "1.1"}, at="2027-01-17T08:00:00"))
    once = decisions.decide(context, ANSELM, name, "confirm", "Still the same chip.", None)
    assert set(once.stale) == {"d1"}
    again = decisions.decide(context, ANSELM, name, "confirm", "Still the same chip.", None)
    assert set(again.stale) == {"d1"}  # the same person twice is one person
    assert decisions.decide(context, WILHELMINA, name, "confirm", "Seen as well.", None).stale == {}


# ------------------------------------------------------------ people behind accounts


def for_wilhelmina(name: str, role: str = "administrator") -> Actor:
    return Actor(name, role, "test", in_place_of="wilhelmina")


def test_an_account_that_the_requester_controls_is_not_a_second_person(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    people.add_person(context, WILHELMINA, "hedda", "", "approver", None)
    name = exceptions.request(context, WILHELMINA, asked("d1", owner="petra")).id
    hedda = Actor("hedda", "approver", "test")
    with pytest.raises(RefusedError, match="not of separate people"):
        decisions.decide(context, hedda, name, "approve", "", None)
    assert "approve" not in exceptions.actions_of(context, hedda, exceptions.get_exception(context, name))
    later = on(context, "2027-02-18")  # 31 days later
    assert "approve" in exceptions.actions_of(later, hedda, exceptions.get_exception(later, name))
    people.set_password(context, WILHELMINA, "anselm", None, "a-new-password-2027")
    with pytest.raises(RefusedError, match="not of separate people"):
        decisions.decide(context, ANSELM, name, "approve", "", None)
    context.policy = Policy(self_approval=True)
    assert decisions.decide(context, ANSELM, name, "approve", "", None).row.self_approved is True


def test_two_accounts_of_one_person_are_one_approval(context: Context) -> None:
    name = two_needed(context)
    people.add_person(context, WILHELMINA, "hedda", "", "approver", None)
    decisions.decide(context, WILHELMINA, name, "approve", "", None)
    with pytest.raises(RefusedError, match="your two accounts are not of separate people"):
        decisions.decide(context, Actor("hedda", "approver", "test"), name, "approve", "", None)
    assert decisions.decide(context, ANSELM, name, "approve", "", None).state == "approved"


def test_whoever_is_represented_in_a_request_does_not_approve_it(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    name = exceptions.request(context, for_wilhelmina("petra"), asked("d1")).id
    with pytest.raises(RefusedError, match="You have edited"):
        decisions.decide(context, WILHELMINA, name, "approve", "", None)
    assert decisions.decide(context, ANSELM, name, "approve", "", None).state == "approved"


def test_an_approval_by_a_deputy_who_was_removed_does_not_count(context: Context) -> None:
    name = two_needed(context)
    people.add_person(context, Actor("first-setup", "administrator", "local"), "hedda", "", "viewer", None)
    days = Deputy("wilhelmina", "hedda", D("2027-01-18"), D("2027-01-31"))
    deputy = deputies.name_deputy(context, WILHELMINA, days, "On leave until the end of the month.").id
    decisions.decide(context, for_wilhelmina("hedda"), name, "approve", "", None)
    deputies.end_deputy(context, WILHELMINA, deputy)
    assert decisions.decide(context, ANSELM, name, "approve", "", None).state == "requested"
    assert decisions.decide(context, WILHELMINA, name, "approve", "", None).state == "approved"


def test_an_equal_open_request_of_the_same_person_is_refused_by_name(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    first = exceptions.request(context, PETRA, asked("d1")).id
    with pytest.raises(RefusedError, match=f"{first} already requests exactly this"):
        exceptions.request(context, PETRA, asked("d1"))
    assert exceptions.request(context, PETRA, asked("d1", expires_on=D("2027-08-31"))).id == "EX-0002"
    decisions.decide(context, PETRA, first, "withdraw", "", None)
    assert exceptions.request(context, PETRA, asked("d1")).id == "EX-0003"
