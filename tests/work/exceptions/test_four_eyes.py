"""Four eyes: whose approval counts, and what edits and second looks change."""

from __future__ import annotations

import pytest

from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context, Policy
from doorstone.work.context.errors import RefusedError
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.people import people
from doorstone.work.people.people import PersonChange
from tests.asking import ADMIN, ANSELM, PETRA, TERMS, asked, line, read
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
    people.add_person(context, ADMIN, "hedda", "", "approver", None)
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
