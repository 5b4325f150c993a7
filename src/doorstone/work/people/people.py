"""People: who may sign in, in which role and where, and the bearer tokens of programs."""

from __future__ import annotations

import hmac
import re
import secrets
import sqlite3
import time
from collections.abc import Mapping
from datetime import date, datetime, timedelta

import pyotp
from msgspec import Struct, field
from msgspec.structs import replace

from doorstone.core.people import REPORTER, ROLES, both, covers
from doorstone.store import people as store
from doorstone.store.devices.profiles import Stamp
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.people import PersonRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, StaleEditError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.context.passwords import digest_of, weakness

RESERVED = frozenset(
    {"doorstone", "local", "import", "system", "nobody", "everybody", "scheduler", "root", "anonymous"}
)
"""Names that the service itself writes into the ledger, or that would be taken for it."""
NEWS = ("request", "decision", "question", "comment", "transfer", "due")
"""What a person can get by mail."""
_USED_EVERY = timedelta(minutes=5)


class Person(Struct, frozen=True):
    """`sites` maps site -> the greater role that the person has there."""

    name: str
    display: str
    role: str
    session_epoch: int = 1
    version: int = 1
    sites: Mapping[str, str] = field(default_factory=dict)
    origin: str = "password"
    email: str = ""
    news: tuple[str, ...] = ()
    active: bool = True
    has_calendar: bool = False


class PersonChange(Struct, frozen=True):
    """What to change of a person; None leaves it as it is."""

    display: str | None = None
    role: str | None = None
    sites: Mapping[str, str] | None = None
    email: str | None = None
    news: tuple[str, ...] | None = None
    active: bool | None = None


class Token(Struct, frozen=True):
    """A token as it is listed. `secret` is shown once, when it is issued."""

    id: str
    name: str
    person: str
    role: str
    device: str
    session: bool
    issued_at: str
    expires_on: date
    revoked_at: str | None
    last_used_at: str | None
    secret: str | None = None


# -------------------------------------------------------------------- people


def add_person(
    context: Context, actor: Actor, name: str, display: str, role: str, password: str | None, *, first: bool = False
) -> Person:
    """Add a person who can sign in. Without a password they come through the sign-in of another service.

    With `first` it is refused once an administrator is there. Raises `BadInputError`, or `RefusedError`.
    """
    if not re.fullmatch(r"[a-z][a-z0-9.-]{1,39}", name):
        raise BadInputError(f"{name!r} is not a name to sign in with", "Use 2 to 40 small letters, digits, dot, dash")
    if name in RESERVED:
        raise BadInputError(f"{name!r} is not a name for a person", "Choose another one; the service uses this itself")
    _check_role(role)
    hashed = _hash(context, password, name, display) if password is not None else ""
    origin = "password" if password is not None else "oidc"
    with context.database.write() as db:
        if first and any(p.active and p.role == "administrator" for p in store.every(db)):
            raise RefusedError("There is an administrator already", "Sign in as one and add people there")
        try:
            store.add(db, name, display or name, role, hashed, context.now(), origin)
        except sqlite3.IntegrityError as error:
            raise RefusedError(f"{name!r} is taken", "Choose another name") from error
        record(context, db, actor, "person added", "person", name, {"display": display, "role": role}, creates=True)
    return get_person(context, name)


def _check_role(role: str) -> None:
    if role not in ROLES:
        raise BadInputError(f"{role!r} is not a role", f"Use one of {', '.join(ROLES)}")


def _hash(context: Context, password: str, *names: str) -> str:
    if not 10 <= len(password) <= 200:
        raise BadInputError("The password is too short or too long", "Use 10 to 200 characters")
    if why := weakness(password, *names):
        raise BadInputError(f"This password is easily guessed. {why}", "Use several words that do not belong together")
    return context.passwords.hash(password)


def change_person(context: Context, actor: Actor, name: str, version: int, change: PersonChange) -> Person:
    """Change a person. Whoever is made inactive is signed out, and their tokens end.

    Raises `StaleEditError` if somebody was faster, `RefusedError` for the last administrator.
    """
    for role in [change.role, *(change.sites or {}).values()]:
        if role is not None:
            _check_role(role)
    if change.email and not re.fullmatch(r"[^@\s<>]{1,64}@[^@\s<>]{1,190}", change.email):
        raise BadInputError(f"{change.email!r} is not a mail address", "Write it as name@example.org")
    if unknown := [kind for kind in change.news or () if kind not in NEWS]:
        raise BadInputError(f"{unknown[0]!r} is not news that can be had", f"Use some of {', '.join(NEWS)}")
    with context.database.write() as db:
        row = _need(db, name)
        if row.version != version:
            detail = f"{name} was changed in the meantime: you saw version {version}, it is at version {row.version}"
            raise StaleEditError(detail, "Load it again, look at what changed, and repeat your edit")
        new = replace(
            row,
            display=change.display or row.display,
            role=change.role or row.role,
            sites=row.sites if change.sites is None else {s: r for s, r in change.sites.items() if s},
            email=row.email if change.email is None else change.email,
            news=row.news if change.news is None else tuple(sorted(set(change.news))),
            active=row.active if change.active is None else change.active,
        )
        if row.active and not new.active:
            new = replace(new, session_epoch=row.session_epoch + 1)
            store.revoke_tokens_of(db, name, context.now())
        others = [p for p in store.every(db) if p.active and p.role == "administrator" and p.name != name]
        if row.active and row.role == "administrator" and not others and (not new.active or new.role != row.role):
            raise RefusedError(f"{name} is the last administrator", "Make somebody else one first")
        store.change(db, new)
        before, after = _as_recorded(row), _as_recorded(new)
        changed = {key: value for key, value in after.items() if value != before[key]}
        if "email" in changed:  # everybody reads the ledger
            changed["email"] = "changed" if new.email else "removed"
        record(context, db, actor, "person changed", "person", name, changed)
    return _person(replace(new, version=version + 1))


def _as_recorded(row: PersonRow) -> dict[str, object]:
    return {
        "display": row.display,
        "role": row.role,
        "sites": dict(row.sites),
        "email": row.email,
        "news": list(row.news),
        "active": row.active,
    }


def set_password(context: Context, actor: Actor, name: str, old: str | None, new: str) -> None:
    """Set a password; one's own takes the old one. Every session of the person ends."""
    hashed = _hash(context, new, name)
    if actor.name == name and actor.via != "local" and check_password(context, name, old or "") is None:
        raise BadInputError("The old password does not fit", "Check it and try again")
    with context.database.write() as db:
        row = _need(db, name)
        if row.origin != "password":
            raise RefusedError(f"{name} signs in through another service", "Change the password there")
        store.set_password(db, name, hashed)
        record(context, db, actor, "password set", "person", name, {})


def _need(db: sqlite3.Connection, name: str) -> PersonRow:
    row = store.get(db, name)
    if row is None:
        raise MissingError(f"There is no person {name!r}", "See who there is with 'doorstone person list'")
    return row


def get_person(context: Context, name: str, stamp: Stamp | None = None) -> Person:
    """One person. Raises `MissingError`, also for an inactive person. `stamp`: the context's, if the caller has it."""

    def look() -> store.PersonRow:
        with context.database.read() as db:
            return _need(db, name)

    row = context.cached(("person", name), (stamp or context.stamp()).people, look)
    if not row.active:
        raise MissingError(f"{name!r} may no longer sign in", "See who may with 'doorstone person list'")
    return _person(row)


def list_people(context: Context, *, gone: bool = False) -> list[Person]:
    """Those who may sign in; with `gone`, also those who no longer may."""
    with context.database.read() as db:
        return [_person(row) for row in store.every(db) if row.active or gone]


def owned_exceptions(context: Context, name: str) -> list[str]:
    """The exceptions that a person answers for today."""
    with context.database.read() as db:
        return [id_of("EX", number) for number in exception_store.owned_by(db, name)]


def _person(row: PersonRow) -> Person:
    return Person(
        row.name, row.display, row.role, row.session_epoch, row.version, row.sites, row.origin, row.email, row.news,
        row.active, row.has_calendar,
    )  # fmt: skip


# ------------------------------------------------------------------- signing in


def check_password(context: Context, name: str, password: str) -> Person | None:
    """The person, if name and password fit. Takes as long for an unknown name as for a known one."""
    with context.database.read() as db:
        row = store.get(db, name)
    fits = context.passwords.fits(row.password_hash if row else "", password)
    return _person(row) if row and row.active and fits else None


# -------------------------------------------------------------- second factor


def begin_second_factor(context: Context, actor: Actor, code: str = "") -> str:
    """A new secret for an authenticator, as an address to be shown as a QR code; it waits for a first code.

    To replace a second factor takes a `code` of the one that is set. Raises `BadInputError`.
    """
    secret = pyotp.random_base32()
    with context.database.write() as db:
        row = _need(db, actor.name)
        if row.origin != "password":
            raise RefusedError("You sign in through another service", "Set up a second factor there")
        _use_current_code(context, db, row, code)
        store.ask_second_factor(db, actor.name, context.database.vault.seal(secret))
        record(context, db, actor, "second factor begun", "person", actor.name, {})
    return str(pyotp.TOTP(secret).provisioning_uri(name=actor.name, issuer_name="Door Stone"))


def confirm_second_factor(context: Context, actor: Actor, code: str) -> None:
    """Turn the second factor on: sign-ins need a code from now on. Raises `BadInputError` if this code does not fit."""
    with context.database.write() as db:
        row = _need(db, actor.name)
        asked = context.database.vault.open(row.second_factor_asked) if row.second_factor_asked else ""
        if not asked or not _use_code(db, actor.name, asked, code):
            raise BadInputError("The code does not fit", "Give the six digits that the authenticator shows now")
        store.keep_second_factor(db, actor.name, row.second_factor_asked)
        record(context, db, actor, "second factor set", "person", actor.name, {})


def drop_second_factor(context: Context, actor: Actor, name: str) -> None:
    """Turn the second factor off: a sign-in needs the password only."""
    with context.database.write() as db:
        _need(db, name)
        store.keep_second_factor(db, name, "")
        record(context, db, actor, "second factor removed", "person", name, {})


def drop_own_second_factor(context: Context, actor: Actor, code: str) -> None:
    """Turn one's own second factor off, with a code of it. Raises `BadInputError`."""
    with context.database.write() as db:
        _use_current_code(context, db, _need(db, actor.name), code)
        drop_second_factor(context, actor, actor.name)


def _use_current_code(context: Context, db: sqlite3.Connection, row: PersonRow, code: str) -> None:
    """Raise `BadInputError` unless the code fits the second factor that the person has, if they have one."""
    if row.second_factor and not _use_code(db, row.name, context.database.vault.open(row.second_factor), code):
        raise BadInputError("The code does not fit", "Give the code that your authenticator shows now")


def _use_code(db: sqlite3.Connection, name: str, secret: str, code: str) -> bool:
    """Whether a code fits, and was not used before: each counts once. Codes of half a minute ago and ahead fit too."""
    given, now = code.strip().replace(" ", ""), int(time.time())
    if not given.isascii():  # only ASCII texts are compared in constant time
        return False
    totp = pyotp.TOTP(secret)
    for step in (-1, 0, 1):
        if hmac.compare_digest(totp.generate_otp(now // totp.interval + step), given):
            return store.use_code(db, name, now // totp.interval + step)
    return False


def check_code(context: Context, name: str, code: str) -> bool:
    """Whether a code fits the person's second factor, and counts for the first time. True for a person without one."""
    with context.database.read() as db:
        row = _need(db, name)
    if not row.second_factor:
        return True
    with context.database.write() as db:
        return _use_code(db, name, context.database.vault.open(row.second_factor), code)


def end_sessions(context: Context, actor: Actor) -> None:
    """Sign the actor out everywhere."""
    with context.database.write() as db:
        store.end_sessions(db, actor.name)
        record(context, db, actor, "signed out", "person", actor.name, {})


class FederatedIdentity(Struct, frozen=True):
    """Somebody for whom a provider vouches: its `subject` never changes there, everything else may."""

    issuer: str
    subject: str
    name: str
    display: str
    email: str
    role: str


def sign_in_federated(context: Context, who: FederatedIdentity) -> Person:
    """The person who is bound to the provider's subject: added at the first sign-in, their role kept as it says.

    A name that somebody has already is never taken over. Raises `RefusedError`, `BadInputError`.
    """
    by = Actor("doorstone", "administrator", "oidc")
    if not who.subject:
        raise RefusedError("The provider does not say who you are", "Ask who runs it for the claim 'sub'")
    with context.database.write() as db:
        row = store.bound(db, who.issuer, who.subject)
        if row is None:
            if store.get(db, who.name) is not None:
                hint = "Have an administrator bind it to you: doorstone person change NAME --subject SUBJECT"
                raise RefusedError(f"{who.name!r} is somebody else here", hint)
            add_person(context, by, who.name, who.display, who.role, None)
            store.bind(db, who.name, who.issuer, who.subject)
            body = {"issuer": who.issuer, "subject": who.subject}
            record(context, db, by, "person bound", "person", who.name, body)
            row = _need(db, who.name)
        if not row.active:
            raise RefusedError(f"{row.name!r} may no longer sign in", "Ask an administrator")
        if (row.role, row.email) != (who.role, who.email):
            change_person(context, by, row.name, row.version, PersonChange(role=who.role, email=who.email))
    return get_person(context, row.name)


def bind_person(context: Context, actor: Actor, name: str, issuer: str, subject: str) -> Person:
    """Have somebody sign in as a provider's subject from now on, and no longer as another. Raises `RefusedError`."""
    if not 1 <= len(subject) <= 255 or not subject.isprintable():
        raise BadInputError("The subject cannot be used", "Give the provider's claim 'sub' of this person")
    with context.database.write() as db:
        row = _need(db, name)
        held = store.bound(db, issuer, subject)
        if held is not None and held.name != name:
            raise RefusedError(f"This subject is {held.name}", "Look at that person first")
        if row.origin == "password":
            raise RefusedError(f"{name} signs in with a password", "Add a person for the provider's sign-in instead")
        store.bind(db, name, issuer, subject)
        record(context, db, actor, "person bound", "person", name, {"issuer": issuer, "subject": subject})
    return get_person(context, name)


def note_sign_in(context: Context, name: str, address: str, way: str, outcome: str) -> None:
    """Keep who signed in or failed to, from where and how; `outcome` as in `SIGN_IN_OUTCOMES`."""
    with context.database.write() as db:
        store.add_sign_in(db, context.now(), name[:100], address, way, outcome)


def list_sign_ins(context: Context, before: int | None = None, limit: int = 100) -> list[store.SignInRow]:
    """Newest first, those numbered below `before`."""
    with context.database.read() as db:
        return store.sign_ins(db, before, limit)


# -------------------------------------------------------------------- tokens


def issue_token(
    context: Context, actor: Actor, name: str, role: str, days: int, device: str = "", *, session: bool = False
) -> Token:
    """Issue a bearer token, of the actor's role or a lesser one. Raises `RefusedError`.

    The role reporter may only post readings; with a `device`, only readings of that device. A token with `session` is
    for the person's own command line: it reaches the sites where they have a greater role, tokens and profile.
    """
    if session and role != actor.role:
        raise BadInputError("A command line acts in one's own role", f"Use the role {actor.role}")
    if role != REPORTER:
        _check_role(role)
    if not covers(actor.role, "technician" if role == REPORTER else role):
        raise RefusedError(f"A {actor.role} cannot issue a token of role {role!r}", f"Use {actor.role} or viewer")
    if device and role != REPORTER:
        raise BadInputError(
            "Only a reporter's token is for one device", "Use the role reporter, or leave the device out"
        )
    if not 1 <= days <= 730:
        raise BadInputError(f"A token cannot run for {days} days", "Choose 1 to 730 days")
    secret = "ds_" + secrets.token_urlsafe(32)
    expires = context.today() + timedelta(days=days)
    values: dict[str, str | int] = {
        "name": name,
        "person": actor.name,
        "role": role,
        "device": device,
        "session": int(session),
        "issued_at": context.now(),
        "expires_on": expires.isoformat(),
    }
    with context.database.write() as db:
        if object_made_before(db, actor) is not None:
            raise RefusedError("This call has issued a token before; its secret is shown once only", "Issue a new one")
        number = store.add_token(db, **values, digest=digest_of(secret))
        body: dict[str, object] = {
            "name": name,
            "role": role,
            "expires_on": expires.isoformat(),
            **({"device": device} if device else {}),
        }
        if session:
            body["session"] = True
        record(context, db, actor, "token issued", "token", id_of("TK", number), body, creates=True)
        row = store.token(db, number)
    assert row is not None
    return replace(_token(row), secret=secret)


def list_tokens(context: Context) -> list[Token]:
    with context.database.read() as db:
        rows = store.tokens(db)
    return [replace(_token(row), last_used_at=context.token_uses.get(row.id, row.last_used_at)) for row in rows]


def revoke_token(context: Context, actor: Actor, token: str) -> Token:
    """Revoke a token, one's own or as an administrator any; revoking twice changes nothing. Raises `MissingError`."""
    number = number_of("TK", token)
    with context.database.write() as db:
        row = store.token(db, number)
        if row is None:
            raise MissingError(f"There is no token {token!r}", "See them with 'doorstone token list'")
        if row.person != actor.name and actor.role != "administrator":
            raise RefusedError(f"{token} is {row.person}'s", "Ask them or an administrator to revoke it")
        if row.revoked_at is None:
            store.revoke_token(db, number, context.now())
            record(context, db, actor, "token revoked", "token", token, {})
        row = store.token(db, number)
    assert row is not None
    return _token(row)


def who_holds(context: Context, secret: str, stamp: Stamp | None = None) -> Actor | None:
    """The actor behind a bearer token, if it is known, not expired and not revoked, and its person still there.

    `stamp`: the context's, if the caller has just asked.

    A token never does more than it was issued for, nor more than its person may today.
    """
    digest = digest_of(secret)

    def look() -> tuple[store.TokenRow | None, store.PersonRow | None]:
        with context.database.read() as db:
            row = store.token_by_digest(db, digest)
            return row, store.get(db, row.person) if row else None

    stamp = stamp or context.stamp()
    row, person = context.cached(("token", digest), stamp.people, look)
    if row is None or row.revoked_at is not None or date.fromisoformat(row.expires_on) < _no_earlier(context, stamp):
        return None
    if person is None or not person.active:
        return None
    context.token_uses[row.id] = context.now()
    via = f"token {row.name}"
    if row.role == REPORTER:
        return Actor(row.person, REPORTER if covers(person.role, "technician") else "", via, device=row.device)
    sites = person.sites if row.session else {}
    return Actor(row.person, both(row.role, person.role), via, sites=sites, device=row.device, session=row.session)


def _no_earlier(context: Context, stamp: Stamp) -> date:
    """Today or, if the clock was set back, the latest day in the ledger: an expired token stays expired."""
    return max(context.today(), context.cached(("floor",), stamp.ledger, context.floor) or date.min)


def keep_token_uses(context: Context) -> None:
    """Write down when tokens were last used. The scheduler does so, as a call that only reads writes nothing."""
    uses = {number: context.token_uses.pop(number, "") for number in list(context.token_uses)}
    with context.database.read() as db:
        late = {row.id: row.last_used_at for row in store.tokens(db)}
    new = {n: at for n, at in uses.items() if n in late and _is_later(at, late[n])}
    if new:
        with context.database.write() as db:
            for number, at in new.items():
                store.token_used(db, number, at)


def _is_later(at: str, kept: str | None) -> bool:
    return kept is None or datetime.fromisoformat(at) - datetime.fromisoformat(kept) >= _USED_EVERY


def _token(row: store.TokenRow) -> Token:
    expires = date.fromisoformat(row.expires_on)
    return Token(
        id_of("TK", row.id), row.name, row.person, row.role, row.device, row.session, row.issued_at, expires,
        row.revoked_at, row.last_used_at,
    )  # fmt: skip
