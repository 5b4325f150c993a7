"""People on the wire: sign-in, roles, tokens."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment

Role = Literal["viewer", "technician", "approver", "administrator"]


TokenRole = Literal["viewer", "technician", "approver", "administrator", "reporter"]


News = Literal["request", "decision", "question", "comment", "transfer", "due"]


class SignInRequest(RequestModel):
    """A name and password to sign in with."""

    name: str = Field(max_length=100)
    password: str = Field(max_length=200)
    code: str = Field("", max_length=10, description="Of the authenticator, where a second factor is set")


class CodeRequest(RequestModel):
    """A code that confirms a second factor."""

    code: str = Field(max_length=10, description="The six digits that the authenticator shows")


class CurrentCodeRequest(RequestModel):
    """A code of the second factor that is set now, which is to be replaced or removed."""

    code: str = Field("", max_length=10, description="Required if a second factor is set: the six digits shown now")


class SecondFactorResponse(ApiModel):
    """What an authenticator needs. It is shown once, and holds once its first code has come."""

    address: str = Field(description="otpauth:// address, to be shown as a QR code or typed in")


class SubjectRequest(RequestModel):
    """Ties a person to their account at the OpenID Connect provider."""

    subject: str = Field(min_length=1, max_length=255, description="The provider's claim 'sub' of this person")


class SignInResponse(ApiModel):
    """Somebody who signed in or failed to."""

    id: int
    at: Moment
    name: str = Field(description="As it was given")
    address: str
    way: str = Field(description="password, code, old password or provider")
    outcome: Literal["signed-in", "failed", "throttled", "refused"]


class SignInPage(ApiModel):
    """A page of sign-ins, newest first."""

    items: list[SignInResponse]
    next: str | None


class WaysResponse(ApiModel):
    """How one can sign in here."""

    password: bool
    provider: str = Field(description="Issuer of the OpenID Connect provider; empty if there is none")


class PersonResponse(ApiModel):
    """A person, their roles, and how they are notified."""

    name: str
    version: int
    display: str
    role: Role
    sites: dict[str, Role] = Field(description="Site to the greater role that the person has there")
    origin: str = Field(description="How they sign in: password or oidc")
    email: str
    news: list[News]
    active: bool
    owns: list[str] = Field([], description="Exceptions that they answer for")


class SessionResponse(ApiModel):
    """Who is signed in, and the clock and rules that the console needs."""

    name: str
    display: str
    role: Role
    sites: dict[str, Role]
    token_roles: list[TokenRole] = Field(description="Roles of tokens that they may issue")
    may: list[str] = Field(description="Changing operations that they may call")
    may_at: dict[str, list[str]] = Field(description="Site to what they may call there in a greater role")
    acts_for: list[str] = Field(description="The people in whose place they may act today")
    in_place_of: str = Field(description="In whose place this call is made; empty for one's own")
    today: date
    risk_version: int
    risk_statement: str
    most_days: int
    self_approval: bool
    required: list[str] = Field(description="What a request must have beside reason, owner and dates")


class DeputyRequest(RequestModel):
    """Somebody who acts for a person while that person is away."""

    person: str = Field("", description="Who is away; oneself if left out")
    deputy: str
    start_on: date
    end_on: date
    reason: str = Field(max_length=1000)


class DeputyResponse(ApiModel):
    """A deputy as named."""

    id: str
    person: str
    deputy: str
    start_on: date
    end_on: date
    reason: str
    by: str
    at: Moment
    ended_at: Moment | None
    in_force: bool


class DeputyList(ApiModel):
    """Deputies, the last named first; ended ones included."""

    items: list[DeputyResponse]


class PersonRequest(RequestModel):
    """A person to add."""

    name: str
    display: str = Field("", max_length=100)
    role: Role
    password: str = Field(max_length=200)


class PersonChangeRequest(RequestModel):
    """What is left out stays as it is."""

    display: str | None = Field(None, max_length=100)
    role: Role | None = None
    sites: dict[str, Role] | None = None
    email: str | None = Field(None, max_length=254)
    news: list[News] | None = None
    active: bool | None = None


class OwnChangeRequest(RequestModel):
    """What a person changes of themselves."""

    email: str | None = Field(None, max_length=254)
    news: list[News] | None = None


class PasswordRequest(RequestModel):
    """A new password."""

    old: str = Field("", max_length=200, description="Needed for one's own")
    new: str = Field(max_length=200)


class PersonList(ApiModel):
    """Everybody, by name."""

    items: list[PersonResponse]


class MeResponse(PersonResponse):
    """The caller's own account."""

    has_calendar: bool


class TokenRequest(RequestModel):
    """A token to issue."""

    name: str = Field(min_length=1, max_length=100)
    role: TokenRole
    days: int = Field(90, ge=1, le=730)
    device: str = Field("", max_length=64, description="For a reporter: the only device whose readings it may post")
    session: bool = Field(False, description="For one's own command line: it may manage one's tokens and profile too")


class TokenResponse(ApiModel):
    """A token; its secret is shown once."""

    id: str
    name: str
    person: str
    role: TokenRole
    device: str
    session: bool
    issued_at: Moment
    expires_on: date
    revoked_at: Moment | None
    last_used_at: Moment | None
    secret: str | None = Field(None, description="Shown once, when it is issued")


class TokenList(ApiModel):
    """Tokens, revoked ones included."""

    items: list[TokenResponse]
