"""People, their console sessions, and tokens for programs."""

from __future__ import annotations

from flask import session

from doorstone.formats.wire import (
    PersonAsked,
    PersonList,
    PersonShape,
    SessionShape,
    SignIn,
    TokenAsked,
    TokenList,
    TokenShape,
)
from doorstone.service import access
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, PUBLIC, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.work import people
from doorstone.work.desk import RISK_STATEMENT, Desk

operations = Operations("people")


@operations("POST", "/session", "Sign in to the console", roles=PUBLIC, body=SignIn, answer=SessionShape)
def sign_in(call: Call[None, SignIn]) -> SessionShape:
    access.check_console_call()
    person = people.check_password(call.desk, call.body.name, call.body.password)
    if person is None:
        raise ServiceProblemError(401, "sign-in", "Name and password do not fit", "Check both and try again")
    access.sign_in(person)
    return _session(call.desk, person.name)


@operations("GET", "/session", "Who is signed in", roles=EVERYONE, answer=SessionShape)
def get_session(call: Call[None, None]) -> SessionShape:
    return _session(call.desk, call.actor.name, call.actor.role)


def _session(desk: Desk, name: str, role: str | None = None) -> SessionShape:
    person = people.get_person(desk, name)
    return SessionShape.model_validate(
        {
            "name": person.name,
            "display": person.display,
            "role": role or person.role,
            "today": desk.today(),
            "risk_statement": RISK_STATEMENT,
            "most_days": desk.policy.most_days,
            "self_approval": desk.policy.self_approval,
        }
    )


@operations("DELETE", "/session", "Sign out everywhere", roles=EVERYONE, status=204)
def sign_out(call: Call[None, None]) -> PersonShape:
    people.end_sessions(call.desk, call.actor)
    session.clear()
    return PersonShape.model_validate(people.get_person(call.desk, call.actor.name))


@operations("GET", "/people", "List people", roles=EVERYONE, answer=PersonList)
def list_people(call: Call[None, None]) -> PersonList:
    return PersonList(items=[PersonShape.model_validate(p) for p in people.list_people(call.desk)])


@operations("POST", "/people", "Add a person", roles=ADMINISTRATORS, body=PersonAsked, answer=PersonShape, status=201)
def add_person(call: Call[None, PersonAsked]) -> PersonShape:
    asked = call.body
    person = people.add_person(call.desk, call.actor, asked.name, asked.display, asked.role, asked.password)
    return PersonShape.model_validate(person)


@operations("GET", "/tokens", "List tokens", roles=ADMINISTRATORS, answer=TokenList)
def list_tokens(call: Call[None, None]) -> TokenList:
    return TokenList(items=[TokenShape.model_validate(t) for t in people.list_tokens(call.desk)])


@operations(
    "POST", "/tokens", "Issue a token", roles=EVERYONE, body=TokenAsked, answer=TokenShape, status=201, creates=True
)
def issue_token(call: Call[None, TokenAsked]) -> TokenShape:
    token = people.issue_token(call.desk, call.actor, call.body.name, call.body.role, call.body.days)
    return TokenShape.model_validate(token)


@operations("DELETE", "/tokens/<token>", "Revoke a token", roles=ADMINISTRATORS, answer=TokenShape)
def revoke_token(call: Call[None, None]) -> TokenShape:
    return TokenShape.model_validate(people.revoke_token(call.desk, call.actor, call.path["token"]))
