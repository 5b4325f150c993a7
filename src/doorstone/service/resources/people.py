"""People, their console sessions, and tokens for programs."""

from __future__ import annotations

import sqlite3

import structlog
from flask import current_app, request, session
from msgspec.structs import asdict
from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.people import (
    CodeRequest,
    CurrentCodeRequest,
    DeputyList,
    DeputyRequest,
    DeputyResponse,
    MeResponse,
    OwnChangeRequest,
    PasswordRequest,
    PersonChangeRequest,
    PersonList,
    PersonRequest,
    PersonResponse,
    SecondFactorResponse,
    SessionResponse,
    SignInPage,
    SignInRequest,
    SignInResponse,
    SubjectRequest,
    TokenList,
    TokenRequest,
    TokenResponse,
    WaysResponse,
)
from doorstone.core.people import Deputy, token_roles
from doorstone.service import auth
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, PUBLIC, Answer, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.store.database import has_no_room
from doorstone.work.context.context import Context
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.people import deputies, people
from doorstone.work.people.deputies import DeputyView
from doorstone.work.people.people import Person, PersonChange

operations = Operations("people")
log = structlog.get_logger("doorstone.people")
_SHOWN_NOW = "Give the code that your authenticator shows now"


class SignInQuery(RequestModel):
    cursor: int | None = Field(None, ge=1, le=2**53)
    limit: int = Field(100, ge=1, le=500)


class PeopleQuery(RequestModel):
    gone: bool = False


@operations("GET", "/session/ways", "The ways to sign in", roles=PUBLIC, answer=WaysResponse)
def sign_in_ways(call: Call[None, None]) -> WaysResponse:
    provider = auth.auth_settings().provider
    return WaysResponse(password=True, provider=provider.issuer if provider else "")


@operations("POST", "/session", "Sign in to the console", roles=PUBLIC, body=SignInRequest, answer=SessionResponse)
def sign_in(call: Call[None, SignInRequest]) -> SessionResponse:
    auth.check_console_call()
    name, address = call.body.name, request.remote_addr or ""
    _check_tries(call.context, name, "password")
    person = people.check_password(call.context, name, call.body.password)
    if person is None:
        _note(call.context, name, "password", "failed")
        raise ServiceProblemError(401, "sign-in", "Name and password do not fit", "Check both and try again")
    if not people.check_code(call.context, name, call.body.code):
        if not call.body.code:
            raise ServiceProblemError(
                401, "code", "A code is needed as well", "Give the one that your authenticator shows"
            )
        _note(call.context, name, "code", "failed")
        raise ServiceProblemError(
            401, "code", "The code does not fit", "Give the one that your authenticator shows now"
        )
    auth.auth_settings().throttle.succeeded(name, address)
    _note(call.context, name, "password", "signed-in")
    auth.sign_in(person)
    return _session(call.context, person.name)


def _note(context: Context, name: str, way: str, outcome: str) -> None:
    """Keep a sign-in, or what became of it. On a full disk it stands in the log only: people can still look."""
    try:
        people.note_sign_in(context, name, request.remote_addr or "", way, outcome)
    except (OSError, sqlite3.Error) as error:
        if not has_no_room(error, context.database.path.parent):
            raise
        log.warning("sign-in not kept", name=name, way=way, outcome=outcome, fault=str(error))


def _check_tries(context: Context, name: str, way: str) -> None:
    throttle, address = auth.auth_settings().throttle, request.remote_addr or ""
    if wait := throttle.wait(name, address):
        if throttle.is_news(name, address):
            _note(context, name, way, "throttled")
        detail = f"Too many tries for {name!r}, or from here"
        raise ServiceProblemError(429, "too-many-tries", detail, f"Wait {wait} seconds", retry_after=wait)


@operations("GET", "/session", "Who is signed in", roles=EVERYONE, answer=SessionResponse)
def get_session(call: Call[None, None]) -> SessionResponse:
    return _session(call.context, call.actor.name, call.actor.role, call.actor.in_place_of)


def _session(context: Context, name: str, role: str | None = None, in_place_of: str = "") -> SessionResponse:
    person = people.get_person(context, name)
    sites = people.get_person(context, in_place_of).sites if in_place_of else person.sites
    risk = exceptions.risk(context)
    operations = current_app.extensions["doorstone.operations"]
    may = auth.allowed_operations(operations, role or person.role)
    may_at = {
        site: sorted({*may, *auth.allowed_operations(operations, greater, at_site=True)})
        for site, greater in sites.items()
    }
    return SessionResponse.model_validate(
        {
            "name": person.name,
            "display": person.display,
            "role": role or person.role,
            "sites": dict(sites),
            "token_roles": list(token_roles(role or person.role)),
            "may": may,
            "may_at": may_at,
            "acts_for": deputies.acts_for(context, name),
            "in_place_of": in_place_of,
            "today": context.today(),
            "risk_version": risk.version,
            "risk_statement": risk.text,
            "most_days": context.policy.most_days,
            "self_approval": context.policy.self_approval,
            "required": list(context.policy.required),
        }
    )


@operations("DELETE", "/session", "Sign out everywhere", roles=EVERYONE, status=204, own=True)
def sign_out(call: Call[None, None]) -> PersonResponse:
    people.end_sessions(call.context, call.actor)
    session.clear()
    return _person(people.get_person(call.context, call.actor.name))


def _person(person: Person, owns: list[str] | None = None) -> PersonResponse:
    return PersonResponse.model_validate({**asdict(person), "sites": dict(person.sites), "owns": owns or []})


def _me(person: Person) -> Answer:
    shape = MeResponse.model_validate({**_person(person).model_dump(), "has_calendar": person.has_calendar})
    return Answer(shape, etag=f"v{person.version}")


@operations("GET", "/me", "The person signed in, with their mail settings", roles=EVERYONE, answer=MeResponse)
def get_me(call: Call[None, None]) -> Answer:
    return _me(people.get_person(call.context, call.actor.name))


@operations(
    "PATCH", "/me", "Change your mail address and which mail you get",
    roles=EVERYONE, body=OwnChangeRequest, answer=MeResponse,
    match=True, own=True,
)  # fmt: skip
def change_me(call: Call[None, OwnChangeRequest]) -> Answer:
    assert call.version is not None
    news = tuple(call.body.news) if call.body.news is not None else None
    change = PersonChange(email=call.body.email, news=news)
    return _me(people.change_person(call.context, call.actor, call.actor.name, call.version, change))


@operations("PUT", "/me/password", "Change your password", roles=EVERYONE, body=PasswordRequest, status=204, own=True)
def change_my_password(call: Call[None, PasswordRequest]) -> PersonResponse:
    name = call.actor.name
    _check_tries(call.context, name, "old password")
    people.set_password(call.context, call.actor, name, call.body.old, call.body.new)
    auth.auth_settings().throttle.succeeded(name, request.remote_addr or "")
    if not call.dry:
        session.clear()
    return _person(people.get_person(call.context, name))


@operations(
    "POST", "/me/second-factor", "Begin a second factor: what an authenticator needs, shown once", roles=EVERYONE,
    body=CurrentCodeRequest, answer=SecondFactorResponse, status=201, own=True,
)  # fmt: skip
def begin_second_factor(call: Call[None, CurrentCodeRequest]) -> SecondFactorResponse:
    return SecondFactorResponse(address=people.begin_second_factor(call.context, call.actor, call.body.code))


@operations(
    "PUT", "/me/second-factor", "Confirm the second factor with its first code", roles=EVERYONE, body=CodeRequest,
    status=204, own=True,
)  # fmt: skip
def confirm_second_factor(call: Call[None, CodeRequest]) -> PersonList:
    people.confirm_second_factor(call.context, call.actor, call.body.code)
    return PersonList(items=[])


@operations(
    "DELETE", "/me/second-factor", "Remove your second factor", roles=EVERYONE, body=CurrentCodeRequest, status=204,
    own=True,
)  # fmt: skip
def drop_second_factor(call: Call[None, CurrentCodeRequest]) -> PersonList:
    people.drop_own_second_factor(call.context, call.actor, call.body.code)
    return PersonList(items=[])


@operations(
    "DELETE", "/people/<person>/second-factor", "Remove a person's second factor", roles=ADMINISTRATORS, status=204
)
def drop_a_second_factor(call: Call[None, None]) -> PersonList:
    people.drop_second_factor(call.context, call.actor, call.path["person"])
    return PersonList(items=[])


@operations(
    "PUT", "/people/<person>/subject", "Link a person to their subject at the identity provider", roles=ADMINISTRATORS,
    body=SubjectRequest, answer=PersonResponse,
)  # fmt: skip
def bind_person(call: Call[None, SubjectRequest]) -> PersonResponse:
    provider = auth.auth_settings().provider
    if provider is None:
        raise ServiceProblemError(404, "provider", "There is no provider to sign in through", "Configure oidc_issuer")
    bound = people.bind_person(call.context, call.actor, call.path["person"], provider.issuer, call.body.subject)
    return _person(bound)


@operations(
    "GET", "/sign-ins", "Who signed in or failed to, newest first", roles=ADMINISTRATORS, query=SignInQuery,
    answer=SignInPage, pages=True,
)  # fmt: skip
def list_sign_ins(call: Call[SignInQuery, None]) -> Answer:
    rows = people.list_sign_ins(call.context, call.query.cursor, call.query.limit + 1)
    page = rows[: call.query.limit]
    after = str(page[-1].id) if len(rows) > len(page) else None
    return Answer(SignInPage(items=[SignInResponse.model_validate(row) for row in page], next=after), next=after)


@operations("GET", "/people", "List people", roles=EVERYONE, query=PeopleQuery, answer=PersonList)
def list_people(call: Call[PeopleQuery, None]) -> PersonList:
    """The people who may sign in. Only administrators see mail addresses and which mail people get."""
    found = people.list_people(call.context, gone=call.query.gone)
    shapes = [_person(p, people.owned_exceptions(call.context, p.name)) for p in found]
    if call.actor.role != "administrator":
        shapes = [shape.model_copy(update={"email": "", "news": []}) for shape in shapes]
    return PersonList(items=shapes)


@operations(
    "POST", "/people", "Add a person", roles=ADMINISTRATORS, body=PersonRequest, answer=PersonResponse, status=201
)
def add_person(call: Call[None, PersonRequest]) -> PersonResponse:
    request = call.body
    return _person(
        people.add_person(call.context, call.actor, request.name, request.display, request.role, request.password)
    )


@operations(
    "PATCH", "/people/<person>", "Change a person's role, sites, names, or whether they may sign in",
    roles=ADMINISTRATORS, body=PersonChangeRequest, answer=PersonResponse, match=True,
)  # fmt: skip
def change_person(call: Call[None, PersonChangeRequest]) -> Answer:
    assert call.version is not None
    a = call.body
    news = tuple(a.news) if a.news is not None else None
    change = PersonChange(a.display, a.role, dict(a.sites) if a.sites is not None else None, a.email, news, a.active)
    name = call.path["person"]
    found = people.change_person(call.context, call.actor, name, call.version, change)
    return Answer(_person(found, people.owned_exceptions(call.context, name)), etag=f"v{found.version}")


@operations(
    "PUT",
    "/people/<person>/password",
    "Set a person's password",
    roles=ADMINISTRATORS,
    body=PasswordRequest,
    status=204,
)
def set_password(call: Call[None, PasswordRequest]) -> PersonList:
    people.set_password(call.context, call.actor, call.path["person"], call.body.old, call.body.new)
    return PersonList(items=[])


@operations("GET", "/tokens", "List your tokens; as an administrator, all tokens", roles=EVERYONE, answer=TokenList)
def list_tokens(call: Call[None, None]) -> TokenList:
    every = call.actor.role == "administrator"
    found = [t for t in people.list_tokens(call.context) if every or t.person == call.actor.name]
    return TokenList(items=[TokenResponse.model_validate(t) for t in found])


@operations(
    "POST",
    "/tokens",
    "Issue a token",
    roles=EVERYONE,
    body=TokenRequest,
    answer=TokenResponse,
    status=201,
    creates=True,
    own=True,
)
def issue_token(call: Call[None, TokenRequest]) -> TokenResponse:
    a = call.body
    return TokenResponse.model_validate(
        people.issue_token(call.context, call.actor, a.name, a.role, a.days, a.device, session=a.session)
    )


@operations(
    "DELETE", "/tokens/<token>", "Revoke a token of yours; as an administrator, any token", roles=EVERYONE,
    answer=TokenResponse, own=True,
)  # fmt: skip
def revoke_token(call: Call[None, None]) -> TokenResponse:
    return TokenResponse.model_validate(people.revoke_token(call.context, call.actor, call.path["token"]))


# ------------------------------------------------------------------- deputies


def _deputy(view: DeputyView) -> DeputyResponse:
    return DeputyResponse.model_validate({**view.row._asdict(), "id": view.id, "in_force": view.in_force})


@operations("GET", "/deputies", "List deputies, past ones included", roles=EVERYONE, answer=DeputyList)
def list_deputies(call: Call[None, None]) -> DeputyList:
    return DeputyList(items=[_deputy(one) for one in deputies.list_deputies(call.context)])


@operations(
    "POST", "/deputies", "Name a deputy for some days", roles=EVERYONE, body=DeputyRequest, answer=DeputyResponse,
    status=201, creates=True, own=True,
)  # fmt: skip
def name_deputy(call: Call[None, DeputyRequest]) -> DeputyResponse:
    a = call.body
    named = Deputy(a.person or call.actor.name, a.deputy, a.start_on, a.end_on)
    return _deputy(deputies.name_deputy(call.context, call.actor, named, a.reason))


@operations(
    "DELETE", "/deputies/<deputy>", "End a deputy's term early", roles=EVERYONE, answer=DeputyResponse, own=True
)
def end_deputy(call: Call[None, None]) -> DeputyResponse:
    return _deputy(deputies.end_deputy(call.context, call.actor, call.path["deputy"]))
