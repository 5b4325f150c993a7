"""Signing in through an OpenID Connect provider: the authorisation code flow with PKCE, groups become a role.

The way there and back is kept in a signed cookie of its own, valid for ten minutes and for this one way only.
"""

from __future__ import annotations

import secrets
from typing import Any, cast

import httpx
import structlog
from flask import Flask, Response, redirect, request, session
from itsdangerous import BadSignature, URLSafeTimedSerializer

from doorstone.core.people import rank
from doorstone.service import auth
from doorstone.service.auth_settings import AuthSettings, OidcProvider
from doorstone.service.problems import ServiceProblemError
from doorstone.work.context.context import Context
from doorstone.work.context.errors import WorkError
from doorstone.work.people import people

COOKIE = "doorstone-way"
PATH = "/api/v1/session/provider"
MOST_SECONDS = 600
log = structlog.get_logger("doorstone.provider")


def bind_provider(app: Flask, context: Context, settings: AuthSettings) -> None:
    """Add the routes to the provider and back, if a provider is configured."""
    provider = settings.provider
    if provider is None:
        return
    way = URLSafeTimedSerializer(cast(bytes, app.config["SECRET_KEY"]), salt="doorstone-way")

    def begin() -> Response:
        """Redirect to the provider."""
        from authlib.integrations.httpx_client import OAuth2Client

        state = {
            "state": secrets.token_urlsafe(24),
            "nonce": secrets.token_urlsafe(24),
            "code": secrets.token_urlsafe(48),
        }
        client = OAuth2Client(
            provider.client_id,
            scope="openid profile email groups",
            redirect_uri=_back(settings),
            code_challenge_method="S256",
        )
        found = _metadata(provider)
        address, _ = client.create_authorization_url(
            found["authorization_endpoint"], state=state["state"], nonce=state["nonce"], code_verifier=state["code"]
        )
        response = cast(Response, redirect(address))
        response.set_cookie(
            COOKIE, way.dumps(state), MOST_SECONDS, path=PATH, httponly=True, secure=settings.https, samesite="Lax"
        )
        response.headers["Cache-Control"] = "no-store"
        return response

    def back() -> Response:
        """Receive a person from the provider, with a code."""
        try:
            state = way.loads(request.cookies.get(COOKIE, ""), max_age=MOST_SECONDS)
        except BadSignature as error:
            raise _no("The way back from the sign-in is unknown or too old", "Begin the sign-in again") from error
        if not secrets.compare_digest(request.args.get("state", ""), state["state"]):
            raise _no("The answer is not to the sign-in that was begun here", "Begin the sign-in again")
        if "error" in request.args:
            raise _no("The provider did not let you in", "Try again, or ask who runs it")
        try:
            claims = _claims(provider, settings, request.args.get("code", ""), state)
        except Exception as error:
            log.warning("sign-in", issuer=provider.issuer, why=type(error).__name__)
            raise _no("The provider's answer cannot be believed", "Try again; the service's log says more") from error
        person = _person(context, provider, claims)
        auth.sign_in(person)
        response = cast(Response, redirect("/"))
        response.delete_cookie(COOKIE, path=PATH)
        response.headers["Cache-Control"] = "no-store"
        return response

    app.add_url_rule(PATH, "begin_provider", begin)
    app.add_url_rule(f"{PATH}/back", "back_from_provider", back)


def _no(detail: str, hint: str) -> ServiceProblemError:
    session.clear()
    return ServiceProblemError(401, "provider", detail, hint)


def _back(settings: AuthSettings) -> str:
    base = settings.address.rstrip("/") or request.host_url.rstrip("/")
    return f"{base}{PATH}/back"


def _metadata(provider: OidcProvider) -> dict[str, Any]:
    address = f"{provider.issuer.rstrip('/')}/.well-known/openid-configuration"
    try:
        found: dict[str, Any] = httpx.get(address, timeout=10).raise_for_status().json()
    except (httpx.HTTPError, ValueError) as error:
        raise ServiceProblemError(
            401, "provider", f"{provider.issuer} does not answer", "Try again later, or sign in with a password"
        ) from error
    if found.get("issuer", "").rstrip("/") != provider.issuer.rstrip("/"):
        raise _no("The provider calls itself by another name", "Compare oidc_issuer with what it publishes")
    return found


def _claims(provider: OidcProvider, settings: AuthSettings, code: str, state: dict[str, str]) -> dict[str, Any]:
    """Trade the code for an ID token. Its claims are believed only if the signature and every claim fit."""
    from authlib.integrations.httpx_client import OAuth2Client
    from joserfc import jwt
    from joserfc.jwk import KeySet

    found = _metadata(provider)
    with OAuth2Client(
        provider.client_id,
        provider.client_secret or None,
        redirect_uri=_back(settings),
        token_endpoint_auth_method="client_secret_basic" if provider.client_secret else "none",
        timeout=10,
    ) as client:
        token = client.fetch_token(found["token_endpoint"], code=code, code_verifier=state["code"])
    keys = KeySet.import_key_set(httpx.get(found["jwks_uri"], timeout=10).raise_for_status().json())
    decoded = jwt.decode(token["id_token"], keys, algorithms=["RS256", "ES256", "PS256"])
    jwt.JWTClaimsRegistry(
        iss={"essential": True, "value": found["issuer"]},
        aud={"essential": True, "value": provider.client_id},
        exp={"essential": True},
        nonce={"essential": True, "value": state["nonce"]},
    ).validate(decoded.claims)
    party, audience = decoded.claims.get("azp"), decoded.claims.get("aud")
    if party not in (None, provider.client_id) or (isinstance(audience, list) and len(audience) > 1 and party is None):
        raise ValueError("the token was issued for another party")
    return dict(decoded.claims)


def _person(context: Context, provider: OidcProvider, claims: dict[str, Any]) -> people.Person:
    groups = claims.get(provider.groups_claim) or []
    roles = [provider.groups[group] for group in groups if isinstance(group, str) and group in provider.groups]
    name = str(claims.get(provider.name_claim, "")).lower().partition("@")[0]
    email = str(claims.get("email", ""))
    if provider.domains:
        domain = email.rpartition("@")[2].lower()
        if domain not in provider.domains or claims.get("email_verified") is not True:
            raise _no("Your mail address is of no domain that may sign in here", "Ask who runs the service")
    if not roles:
        raise _no(f"{name or 'You'} are in no group that has a role here", "Ask an administrator for one of its groups")
    who = people.FederatedIdentity(
        provider.issuer, str(claims.get("sub", "")), name, str(claims.get("name", "")), email,
        max(roles, key=rank),
    )  # fmt: skip
    address = request.remote_addr or ""
    try:
        person = people.sign_in_federated(context, who)
    except WorkError as error:
        people.note_sign_in(context, name, address, "provider", "refused")
        raise _no(error.detail, error.hint) from error
    people.note_sign_in(context, person.name, address, "provider", "signed-in")
    return person
