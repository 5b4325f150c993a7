"""People, their console sessions, and tokens for programs."""

from __future__ import annotations

from dataclasses import asdict

from flask import request, session
from pydantic import Field

from doorstone.formats.wire import Asked
from doorstone.formats.wire_people import (
    CodeAsked,
    MeShape,
    OwnChangeAsked,
    PasswordAsked,
    PersonAsked,
    PersonChangeAsked,
    PersonList,
    PersonShape,
    SecondFactorShape,
    SessionShape,
    SignIn,
    SignInPage,
    SignInShape,
    SubjectAsked,
    TokenAsked,
    TokenList,
    TokenShape,
    WaysShape,
)
from doorstone.service import access
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, PUBLIC, Answer, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.work import exceptions, people
from doorstone.work.desk import Desk
from doorstone.work.people import Person, PersonChange

operations = Operations("people")
_SHOWN_NOW = "Give the code that your authenticator shows now"


class SignInQuery(Asked):
    cursor: int | None = Field(None, ge=1, le=2**53)
    limit: int = Field(100, ge=1, le=500)


class PeopleQuery(Asked):
    gone: bool = False


@operations("GET", "/session/ways", "How one can sign in here", roles=PUBLIC, answer=WaysShape)
def sign_in_ways(call: Call[None, None]) -> WaysShape:
    provider = access.the_door().provider
    return WaysShape(password=True, provider=provider.issuer if provider else "")


@operations("POST", "/session", "Sign in to the console", roles=PUBLIC, body=SignIn, answer=SessionShape)
def sign_in(call: Call[None, SignIn]) -> SessionShape:
    access.check_console_call()
    name, address = call.body.name, request.remote_addr or ""
    _check_tries(call.desk, name, "password")
    person = people.check_password(call.desk, name, call.body.password)
    if person is None:
        people.note_sign_in(call.desk, name, address, "password", "failed")
        raise ServiceProblemError(401, "sign-in", "Name and password do not fit", "Check both and try again")
    if not people.check_code(call.desk, name, call.body.code):
        if not call.body.code:
            raise ServiceProblemError(
                401, "code", "A code is needed as well", "Give the one that your authenticator shows"
            )
        people.note_sign_in(call.desk, name, address, "code", "failed")
        raise ServiceProblemError(
            401, "code", "The code does not fit", "Give the one that your authenticator shows now"
        )
    access.the_door().throttle.succeeded(name, address)
    people.note_sign_in(call.desk, name, address, "password", "signed-in")
    access.sign_in(person)
    return _session(call.desk, person.name)


def _check_tries(desk: Desk, name: str, way: str) -> None:
    if wait := access.the_door().throttle.wait(name, request.remote_addr or ""):
        people.note_sign_in(desk, name, request.remote_addr or "", way, "throttled")
        detail = f"Too many tries for {name!r}, or from here"
        raise ServiceProblemError(429, "too-many-tries", detail, f"Wait {wait} seconds", retry_after=wait)


@operations("GET", "/session", "Who is signed in", roles=EVERYONE, answer=SessionShape)
def get_session(call: Call[None, None]) -> SessionShape:
    return _session(call.desk, call.actor.name, call.actor.role)


def _session(desk: Desk, name: str, role: str | None = None) -> SessionShape:
    person = people.get_person(desk, name)
    risk = exceptions.risk(desk)
    return SessionShape.model_validate(
        {
            "name": person.name,
            "display": person.display,
            "role": role or person.role,
            "sites": dict(person.sites),
            "today": desk.today(),
            "risk_version": risk.version,
            "risk_statement": risk.text,
            "most_days": desk.policy.most_days,
            "self_approval": desk.policy.self_approval,
            "required": list(desk.policy.required),
        }
    )


@operations("DELETE", "/session", "Sign out everywhere", roles=EVERYONE, status=204, own=True)
def sign_out(call: Call[None, None]) -> PersonShape:
    people.end_sessions(call.desk, call.actor)
    session.clear()
    return _person(people.get_person(call.desk, call.actor.name))


def _person(person: Person, owns: list[str] | None = None) -> PersonShape:
    return PersonShape.model_validate({**asdict(person), "sites": dict(person.sites), "owns": owns or []})


def _me(person: Person) -> Answer:
    shape = MeShape.model_validate({**_person(person).model_dump(), "has_calendar": person.has_calendar})
    return Answer(shape, etag=f"v{person.version}")


@operations("GET", "/me", "Oneself, with what one is told of", roles=EVERYONE, answer=MeShape)
def get_me(call: Call[None, None]) -> Answer:
    return _me(people.get_person(call.desk, call.actor.name))


@operations(
    "PATCH", "/me", "Choose what one is told of, and where", roles=EVERYONE, body=OwnChangeAsked, answer=MeShape,
    match=True, own=True,
)  # fmt: skip
def change_me(call: Call[None, OwnChangeAsked]) -> Answer:
    assert call.version is not None
    told = tuple(call.body.told_of) if call.body.told_of is not None else None
    change = PersonChange(email=call.body.email, told_of=told)
    return _me(people.change_person(call.desk, call.actor, call.actor.name, call.version, change))


@operations("PUT", "/me/password", "Set one's own password", roles=EVERYONE, body=PasswordAsked, status=204, own=True)
def change_my_password(call: Call[None, PasswordAsked]) -> PersonShape:
    name = call.actor.name
    _check_tries(call.desk, name, "old password")
    people.set_password(call.desk, call.actor, name, call.body.old, call.body.new)
    access.the_door().throttle.succeeded(name, request.remote_addr or "")
    session.clear()
    return _person(people.get_person(call.desk, name))


@operations(
    "POST", "/me/second-factor", "Begin a second factor: what an authenticator needs, shown once", roles=EVERYONE,
    answer=SecondFactorShape, status=201, own=True,
)  # fmt: skip
def begin_second_factor(call: Call[None, None]) -> SecondFactorShape:
    return SecondFactorShape(address=people.begin_second_factor(call.desk, call.actor))


@operations(
    "PUT", "/me/second-factor", "Confirm the second factor with its first code", roles=EVERYONE, body=CodeAsked,
    status=204, own=True,
)  # fmt: skip
def confirm_second_factor(call: Call[None, CodeAsked]) -> PersonList:
    people.confirm_second_factor(call.desk, call.actor, call.body.code)
    return PersonList(items=[])


@operations("DELETE", "/me/second-factor", "Do without a second factor", roles=EVERYONE, status=204, own=True)
def drop_second_factor(call: Call[None, None]) -> PersonList:
    people.drop_second_factor(call.desk, call.actor, call.actor.name)
    return PersonList(items=[])


@operations(
    "DELETE", "/people/<person>/second-factor", "Take away somebody's second factor", roles=ADMINISTRATORS, status=204
)
def drop_a_second_factor(call: Call[None, None]) -> PersonList:
    people.drop_second_factor(call.desk, call.actor, call.path["person"])
    return PersonList(items=[])


@operations(
    "PUT", "/people/<person>/subject", "Bind somebody to their subject at the provider", roles=ADMINISTRATORS,
    body=SubjectAsked, answer=PersonShape,
)  # fmt: skip
def bind_person(call: Call[None, SubjectAsked]) -> PersonShape:
    provider = access.the_door().provider
    if provider is None:
        raise ServiceProblemError(404, "provider", "There is no provider to sign in through", "Configure oidc_issuer")
    bound = people.bind_person(call.desk, call.actor, call.path["person"], provider.issuer, call.body.subject)
    return _person(bound)


@operations(
    "GET", "/sign-ins", "Who signed in or failed to, newest first", roles=ADMINISTRATORS, query=SignInQuery,
    answer=SignInPage, pages=True,
)  # fmt: skip
def list_sign_ins(call: Call[SignInQuery, None]) -> Answer:
    rows = people.list_sign_ins(call.desk, call.query.cursor, call.query.limit + 1)
    page = rows[: call.query.limit]
    after = str(page[-1].id) if len(rows) > len(page) else None
    return Answer(SignInPage(items=[SignInShape.model_validate(row) for row in page], next=after), next=after)


@operations("GET", "/people", "List people", roles=EVERYONE, query=PeopleQuery, answer=PersonList)
def list_people(call: Call[PeopleQuery, None]) -> PersonList:
    """Mail addresses and what people are told of are for administrators only."""
    found = people.list_people(call.desk, gone=call.query.gone)
    shapes = [_person(p, people.owned_exceptions(call.desk, p.name)) for p in found]
    if call.actor.role != "administrator":
        shapes = [shape.model_copy(update={"email": "", "told_of": []}) for shape in shapes]
    return PersonList(items=shapes)


@operations("POST", "/people", "Add a person", roles=ADMINISTRATORS, body=PersonAsked, answer=PersonShape, status=201)
def add_person(call: Call[None, PersonAsked]) -> PersonShape:
    asked = call.body
    return _person(people.add_person(call.desk, call.actor, asked.name, asked.display, asked.role, asked.password))


@operations(
    "PATCH", "/people/<person>", "Change a person's role, sites, names, or whether they may sign in",
    roles=ADMINISTRATORS, body=PersonChangeAsked, answer=PersonShape, match=True,
)  # fmt: skip
def change_person(call: Call[None, PersonChangeAsked]) -> Answer:
    assert call.version is not None
    a = call.body
    told = tuple(a.told_of) if a.told_of is not None else None
    change = PersonChange(a.display, a.role, dict(a.sites) if a.sites is not None else None, a.email, told, a.active)
    name = call.path["person"]
    found = people.change_person(call.desk, call.actor, name, call.version, change)
    return Answer(_person(found, people.owned_exceptions(call.desk, name)), etag=f"v{found.version}")


@operations(
    "PUT", "/people/<person>/password", "Set somebody's password", roles=ADMINISTRATORS, body=PasswordAsked, status=204
)
def set_password(call: Call[None, PasswordAsked]) -> PersonList:
    people.set_password(call.desk, call.actor, call.path["person"], call.body.old, call.body.new)
    return PersonList(items=[])


@operations("GET", "/tokens", "List tokens; one's own, or as an administrator all", roles=EVERYONE, answer=TokenList)
def list_tokens(call: Call[None, None]) -> TokenList:
    every = call.actor.role == "administrator"
    found = [t for t in people.list_tokens(call.desk) if every or t.person == call.actor.name]
    return TokenList(items=[TokenShape.model_validate(t) for t in found])


@operations(
    "POST",
    "/tokens",
    "Issue a token",
    roles=EVERYONE,
    body=TokenAsked,
    answer=TokenShape,
    status=201,
    creates=True,
    own=True,
)
def issue_token(call: Call[None, TokenAsked]) -> TokenShape:
    a = call.body
    return TokenShape.model_validate(
        people.issue_token(call.desk, call.actor, a.name, a.role, a.days, a.device, session=a.session)
    )


@operations(
    "DELETE", "/tokens/<token>", "Revoke a token; one's own, or as an administrator any", roles=EVERYONE,
    answer=TokenShape, own=True,
)  # fmt: skip
def revoke_token(call: Call[None, None]) -> TokenShape:
    return TokenShape.model_validate(people.revoke_token(call.desk, call.actor, call.path["token"]))
