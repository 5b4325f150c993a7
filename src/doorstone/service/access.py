"""Access: who calls, and whether the operation's roles let them. The one place where that is decided."""

from __future__ import annotations

from urllib.parse import urlsplit

from flask import request, session

from doorstone.service.operations import Operation
from doorstone.service.problems import ServiceProblemError
from doorstone.work import people
from doorstone.work.desk import Actor, Desk
from doorstone.work.errors import MissingError
from doorstone.work.people import Person

CONSOLE_HEADER = "X-Doorstone-Console"


def sign_in(person: Person) -> None:
    """Start a console session: a signed cookie with the name and the session epoch."""
    session.clear()
    session.permanent = True
    session["name"] = person.name
    session["epoch"] = person.session_epoch


def who(desk: Desk) -> Actor | None:
    """The caller behind a bearer token or a session. A bad token or a forged call is refused, not ignored."""
    header = request.headers.get("Authorization", "")
    if header:
        kind, _, secret = header.partition(" ")
        actor = people.who_holds(desk, secret.strip()) if kind.lower() == "bearer" else None
        if actor is None:
            raise ServiceProblemError(
                401, "bad-token", "The token is unknown, expired or revoked", "Issue a new one: doorstone token issue"
            )
        return actor
    return _from_session(desk)


def _from_session(desk: Desk) -> Actor | None:
    name = session.get("name")
    if not isinstance(name, str):
        return None
    try:
        person = people.get_person(desk, name)
    except MissingError:
        return None
    if person.session_epoch != session.get("epoch"):
        return None
    if request.method not in ("GET", "HEAD"):
        check_console_call()
    return Actor(person.name, person.role, "console")


def check_console_call() -> None:
    """A changing call with a session must come from the console itself: own header, own origin."""
    origin = request.headers.get("Origin")
    foreign = origin is not None and urlsplit(origin).netloc != request.host
    if request.headers.get(CONSOLE_HEADER) != "1" or foreign:
        detail = "A call with a session must come from the console"
        raise ServiceProblemError(403, "foreign-call", detail, "Programs use a bearer token")


def allow(operation: Operation, actor: Actor | None) -> None:
    """Raise unless the operation is public or the actor's role is among its roles."""
    if not operation.roles:
        return
    if actor is None:
        raise ServiceProblemError(401, "not-signed-in", "Nobody is signed in", "Sign in, or send a bearer token")
    if actor.role not in operation.roles:
        needed = " or ".join(sorted(operation.roles))
        detail = f"{operation.summary}: a {actor.role} may not, it takes the role {needed}"
        raise ServiceProblemError(403, "role", detail, f"Ask somebody with the role {needed}")
