"""Deputies act in the person's role for the days named; four eyes stay four; what they decide says so for ever."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import cache

import httpx
import pytest
from flask import Flask

from doorstone.api.people import DeputyRequest, PersonChangeRequest, PersonRequest
from doorstone.client import BadInputError, Client, RefusedError, RoleError
from doorstone.core.ledger.sentences import sentence
from doorstone.service import auth
from doorstone.service.app import OPERATIONS, create_app
from doorstone.service.problems import ServiceProblemError
from doorstone.store import ledger_changes
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context, Policy
from doorstone.work.exceptions import requests
from doorstone.work.people import people
from tests.asking import ADMIN, asked, on

DAYS = {"start_on": date(2027, 1, 18), "end_on": date(2027, 1, 29)}
AWAY = "Anselm is on leave."
As = Callable[..., Client]


@pytest.fixture
def clients(demo: Context) -> As:
    """A client by name, in place of somebody if named, on a day."""
    admin = Actor("local", "administrator", "local")
    people.add_person(demo, admin, "ysolde", "Ysolde Marsh", "approver", "northmere-2027")

    @cache
    def served(day: str, two_approvers: bool) -> tuple[Context, Flask]:
        context = on(demo, day)
        context.policy = Policy(two_approvers="all") if two_approvers else demo.policy
        return context, create_app(context, b"k" * 32)

    def make(name: str, in_place_of: str = "", day: str = "2027-01-18", *, two_approvers: bool = False) -> Client:
        context, app = served(day, two_approvers)
        person = people.get_person(context, name)
        token = people.issue_token(context, Actor(name, person.role, "test"), "t", person.role, 30, session=True)
        transport = httpx.WSGITransport(app=app)
        return Client("http://doorstone.test", token.secret, transport=transport, in_place_of=in_place_of)

    return make


def deputy(clients: As, name: str = "odile", of: str = "anselm") -> None:
    clients(of).name_deputy(DeputyRequest(deputy=name, reason=AWAY, **DAYS))


def test_a_deputy_decides_in_the_persons_role_and_it_says_so_for_ever(clients: As, demo: Context) -> None:
    viewer = clients("odile", "anselm")
    with pytest.raises(RoleError, match="odile is not the deputy of anselm today"):
        viewer.session()
    deputy(clients)
    session = viewer.session()
    assert (session.name, session.role, session.in_place_of, session.acts_for) == (
        "odile", "approver", "anselm", ["anselm"],
    )  # fmt: skip
    assert clients("odile").session().role == "viewer"
    found = viewer.decide_exception("EX-0003", "approve", viewer.exception("EX-0003").version, "As agreed with Anselm.")
    assert [(one.person, one.in_place_of) for one in found.approvals] == [("odile", "anselm")]
    (entry, *_) = viewer.ledger("exception", "EX-0003")
    assert (entry.actor, entry.body["in_place_of"]) == ("odile", "anselm")
    words = sentence(entry.action, entry.object, entry.body, entry.actor)
    assert words == "odile, in place of anselm, approved: “As agreed with Anselm”."
    with demo.database.read() as db:
        assert list(ledger_changes.state_faults(db)) == []


def test_it_is_over_after_the_last_day_or_when_it_is_ended(clients: As) -> None:
    deputy(clients)
    assert clients("odile", "anselm", "2027-01-29").session().role == "approver"
    for day in ("2027-01-17", "2027-01-30"):
        with pytest.raises(RoleError):
            clients("odile", "anselm", day).session()
    ended = clients("anselm").end_deputy("DP-0002")
    assert ended.ended_at is not None
    assert ended.in_force is False
    with pytest.raises(RoleError):
        clients("odile", "anselm").session()


def test_four_eyes_stay_four(clients: As, demo: Context) -> None:
    deputy(clients, "petra")  # petra asked for EX-0003 herself
    acting = clients("petra", "anselm")
    with pytest.raises(RefusedError, match="never the requester"):
        acting.decide_exception("EX-0003", "approve", 1, "Fine.")
    assert "approve" not in acting.exception("EX-0003").actions
    own = requests.request(demo, ADMIN, asked("nbt-012")).id
    deputy(clients, "ysolde", "wilhelmina")
    with pytest.raises(RefusedError, match="never the requester"):  # in place of whoever asked
        clients("ysolde", "wilhelmina").decide_exception(own, "approve", 1, "Fine.")
    assert clients("ysolde").decide_exception(own, "approve", 1, "Seen for myself.").state == "approved"
    deputy(clients, "ysolde", "petra")
    with pytest.raises(RoleError, match="a technician may not"):  # the person's role, not one's own
        clients("ysolde", "petra").decide_exception("EX-0003", "approve", 1, "Fine.")


def test_a_person_and_their_deputy_are_one_of_two_approvers(clients: As) -> None:
    deputy(clients, "odile")
    acting = clients("odile", "anselm", two_approvers=True)
    first = acting.decide_exception("EX-0003", "approve", 1, "As agreed.")
    assert first.state == "requested"
    with pytest.raises(RefusedError, match="odile, in place of anselm, has approved it already"):
        clients("anselm", two_approvers=True).decide_exception("EX-0003", "approve", first.version, "Fine.")
    done = clients("ysolde", two_approvers=True).decide_exception("EX-0003", "approve", first.version, "Seen too.")
    assert done.state == "approved"
    assert {(one.person, one.in_place_of) for one in done.approvals} == {("odile", "anselm"), ("ysolde", "")}


def test_nobody_uses_it_for_what_is_ones_own(clients: As) -> None:
    deputy(clients, "odile", "wilhelmina")
    acting = clients("odile", "wilhelmina")
    assert acting.session().role == "administrator"
    for call in (
        lambda: acting.name_deputy(DeputyRequest(deputy="petra", reason=AWAY, **DAYS)),
        lambda: acting.set_my_password("northmere-2027", "another-long-one-2027"),
        lambda: acting.set_password("anselm", "another-long-one-2027"),
        lambda: acting.add_person(
            PersonRequest(name="rowan", display="Rowan", role="administrator", password="a-long-one-for-rowan")
        ),
        lambda: acting.change_person("odile", 1, PersonChangeRequest(role="administrator")),
    ):
        with pytest.raises(RoleError, match="not possible on behalf of another person"):
            call()


def test_no_operation_on_accounts_or_settings_works_on_behalf_of_another_person(demo: Context) -> None:
    """Every changing operation on people, tokens, deputies, webhooks and settings, by the list itself."""
    personal = {(one.method, one.path) for one in OPERATIONS if one.personal}
    assert personal >= {
        ("POST", "/people"), ("PATCH", "/people/<person>"), ("PUT", "/people/<person>/password"),
        ("DELETE", "/people/<person>/second-factor"), ("PUT", "/people/<person>/subject"), ("POST", "/tokens"),
        ("DELETE", "/tokens/<token>"), ("POST", "/deputies"), ("POST", "/webhooks"), ("PUT", "/risk"),
    }  # fmt: skip
    actor = Actor("odile", "administrator", "token", session=True, in_place_of="wilhelmina")
    for one in OPERATIONS:
        if one.personal:
            with pytest.raises(ServiceProblemError, match="on behalf of another person"):
                auth.require_role(one, actor)


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ({"deputy": "anselm"}, "Nobody is their own deputy"),
        ({"deputy": "joss"}, "no active account named `joss`"),
        ({"start_on": date(2027, 1, 1), "end_on": date(2027, 1, 17)}, "no time to come"),
        ({"end_on": date(2027, 6, 1)}, "longer than 92 days"),
        ({"reason": "x"}, "reason cannot be used"),
    ],
)
def test_a_deputy_that_cannot_be_is_refused(clients: As, how: dict[str, object], says: str) -> None:
    asked = DeputyRequest.model_validate({"deputy": "odile", "reason": AWAY, **DAYS, **how})
    with pytest.raises(BadInputError, match=says):
        clients("anselm").name_deputy(asked)
    with pytest.raises(RefusedError, match="not yours to name"):
        clients("petra").name_deputy(DeputyRequest(person="anselm", deputy="odile", reason=AWAY, **DAYS))
    named = clients("wilhelmina").name_deputy(DeputyRequest(person="anselm", deputy="odile", reason=AWAY, **DAYS))
    assert (named.person, named.by) == ("anselm", "wilhelmina")
    last = named.end_on
    with pytest.raises(RefusedError, match=f"acts for anselm from {named.start_on} through {last} already"):
        clients("anselm").name_deputy(DeputyRequest(deputy="odile", reason=AWAY, start_on=last, end_on=last))
    clients("anselm").end_deputy(named.id)
    clients("anselm").name_deputy(DeputyRequest(deputy="odile", reason=AWAY, start_on=last, end_on=last))


def test_what_is_due_for_the_person_is_due_for_the_deputy_too(clients: As) -> None:
    before = {one.object for one in clients("odile").due(mine=True)}
    deputy(clients)
    anselms = {one.object for one in clients("anselm").due(mine=True)}
    assert anselms
    assert {one.object for one in clients("odile").due(mine=True)} == before | anselms
