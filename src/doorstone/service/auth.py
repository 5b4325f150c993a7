"""Authentication and access: who calls, and whether the operation's roles allow it. Decided here and nowhere else."""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import Any
from urllib.parse import urlsplit

from flask import Flask, Request, current_app, request, session
from flask.sessions import SecureCookieSession, SecureCookieSessionInterface
from itsdangerous import URLSafeTimedSerializer
from msgspec.structs import replace

from doorstone.core.people import both, rank
from doorstone.service.auth_settings import AuthSettings
from doorstone.service.operations import DEPUTY_HEADER, EVERYONE, Call, Operation
from doorstone.service.problems import ServiceProblemError
from doorstone.store.devices.profiles import Stamp
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError
from doorstone.work.devices import views as devices
from doorstone.work.people import deputies, people
from doorstone.work.people.people import Person

CONSOLE_HEADER = "X-Doorstone-Console"
SESSIONS = {"1": "console", "client": "command line"}
"""What calls with a session say of themselves, and how the ledger names it."""
_SEEN_EVERY = 30.0


def auth_settings() -> AuthSettings:
    settings: AuthSettings = current_app.extensions["doorstone.auth_settings"]
    return settings


class SessionCookies(SecureCookieSessionInterface):
    """Sessions in signed cookies, as Flask's own; what signs them is made once, and only cookies are looked into."""

    def __init__(self) -> None:
        self._signing: URLSafeTimedSerializer | None = None

    def open_session(self, app: Flask, request: Request) -> SecureCookieSession | None:
        return super().open_session(app, request) if "HTTP_COOKIE" in request.environ else self.session_class()

    def get_signing_serializer(self, app: Flask) -> URLSafeTimedSerializer | None:
        if self._signing is None:
            self._signing = super().get_signing_serializer(app)
        return self._signing


def sign_in(person: Person) -> None:
    """Start a console session: a signed cookie with the name, the session epoch, and since when."""
    now = time.time()
    session.clear()
    session.permanent = True
    session.update({"name": person.name, "epoch": person.session_epoch, "since": now, "seen": now})


def authenticate(context: Context, stamp: Stamp) -> Actor | None:
    """The caller behind a bearer token or a session. Raises for a bad token or a forged call: neither is ignored.

    `stamp` says how far the records have come, read for this call.
    """
    header = request.headers.get("Authorization", "")
    if header:
        kind, _, secret = header.partition(" ")
        actor = people.who_holds(context, secret.strip(), stamp) if kind.lower() == "bearer" else None
        if actor is None:
            raise ServiceProblemError(
                401, "bad-token", "The token is unknown, expired or revoked", "Issue a new one: doorstone token issue"
            )
        return _in_place(context, actor)
    found = _from_session(context, stamp)
    return _in_place(context, found) if found is not None else None


def _in_place(context: Context, actor: Actor) -> Actor:
    """The actor as deputy of the person that the call names, in that person's role; a token stays in its own bounds."""
    name = request.headers.get(DEPUTY_HEADER, "").strip()
    if not name:
        return actor
    if name not in deputies.acts_for(context, actor.name):
        detail = f"{actor.name} is not the deputy of {name} today"
        raise ServiceProblemError(403, "deputy", detail, f"{name} or an administrator names a deputy")
    person = people.get_person(context, name)
    role = person.role if actor.session else both(actor.role, person.role)
    return replace(actor, role=role, sites=person.sites if actor.session else {}, in_place_of=name)


def _from_session(context: Context, stamp: Stamp) -> Actor | None:
    name = session.get("name")
    if not isinstance(name, str) or not _still_open():
        return None
    try:
        person = people.get_person(context, name, stamp)
    except MissingError:
        return None
    if person.session_epoch != session.get("epoch"):
        return None
    if request.method not in ("GET", "HEAD"):
        check_console_call()
    via = SESSIONS.get(request.headers.get(CONSOLE_HEADER, ""), "console")
    return Actor(person.name, person.role, via, sites=person.sites, session=True)


def _still_open() -> bool:
    """Whether the session is neither too old nor left alone for too long; notes that it was used."""
    settings, now = auth_settings(), time.time()
    since, seen = session.get("since", 0.0), session.get("seen", 0.0)
    if now - since > settings.session.total_seconds() or now - seen > settings.idle.total_seconds():
        session.clear()
        return False
    if now - seen > _SEEN_EVERY:
        session["seen"] = now
    return True


def check_console_call() -> None:
    """A changing call with a session must come from the console itself: own header, own origin."""
    origin = request.headers.get("Origin")
    foreign = origin is not None and urlsplit(origin).netloc != request.host
    if request.headers.get(CONSOLE_HEADER) not in SESSIONS or foreign:
        detail = "A call with a session must come from the console"
        raise ServiceProblemError(403, "foreign-call", detail, "Programs use a bearer token")


def require_role(operation: Operation, actor: Actor | None) -> None:
    """Raise unless the operation is public or a role of the actor is among its roles.

    A person's own things (tokens, profile, sessions) need a session, not a token for programs. A role at some sites
    only counts where the operation can say which devices it touches.
    """
    if not operation.roles:
        return
    if actor is None:
        raise ServiceProblemError(401, "not-signed-in", "Nobody is signed in", "Sign in, or send a bearer token")
    if (operation.own or operation.personal) and actor.in_place_of:
        detail = f"{operation.summary}: not possible on behalf of another person"
        hint = f"Do it in your own name, without {DEPUTY_HEADER}, or ask {actor.in_place_of}"
        raise ServiceProblemError(403, "deputy", detail, hint)
    if operation.own and not actor.session:
        detail = f"{operation.summary}: a token for programs may not"
        hint = "Sign in, in the console or with 'doorstone sign-in'"
        raise ServiceProblemError(403, "session", detail, hint)
    here = operation.affected_devices is not None and any(role in operation.roles for role in actor.sites.values())
    if actor.role not in operation.roles and not here:
        words = f"a {actor.role} may not" if actor.role else "the token's owner has no longer the role that it is for"
        raise _role(operation, f"{words}, it takes the role")


def at_sites(operation: Operation, call: Call[Any, Any]) -> Call[Any, Any]:
    """The call with its caller in the role that they have at the sites of the devices that it touches.

    Raises unless that role is among the operation's at every one of them.
    """
    actor = call.caller
    if actor is None or operation.affected_devices is None or not actor.sites:
        return call
    held = _held_at(call, actor, operation.affected_devices(call))
    for site, role in held.items():
        if role not in operation.roles:
            raise _role(operation, f"at {site or 'no site'} you are a {role}, it takes the role")
    return replace(call, caller=replace(actor, role=min(held.values(), key=rank)))


def role_at(call: Call[Any, Any], names: Iterable[str]) -> str:
    """The role in which the caller acts on these devices: the least of the roles held at their sites."""
    actor = call.actor
    return min(_held_at(call, actor, names).values(), key=rank) if actor.sites else actor.role


def _held_at(call: Call[Any, Any], actor: Actor, names: Iterable[str]) -> dict[str, str]:
    """Site of these devices -> the role of the actor there."""
    sites = devices.sites_of(call.context, names)
    return {site: _greater(actor.role, actor.sites.get(site, actor.role)) for site in sites} or {"": actor.role}


def allowed_operations(operations: Iterable[Operation], role: str, *, at_site: bool = False) -> list[str]:
    """The names of the operations that a role may call and not everybody may.

    Operations that change something, and reads for some roles only; `at_site`: those that act on devices of a site.
    """
    return [
        one.name
        for one in operations
        if role in one.roles
        and (one.method != "GET" or one.roles != EVERYONE)
        and (one.affected_devices is not None or not at_site)
    ]


def _greater(one: str, other: str) -> str:
    return other if rank(other) >= rank(one) else one


def _role(operation: Operation, words: str) -> ServiceProblemError:
    needed = " or ".join(sorted(operation.roles))
    detail = f"{operation.summary}: {words} {needed}"
    return ServiceProblemError(403, "role", detail, f"Ask somebody with the role {needed}")
