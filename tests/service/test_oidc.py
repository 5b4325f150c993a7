"""Signing in through an OpenID Connect provider, on loopback: who gets in, as what, and who does not."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from doorstone.service.app import create_app
from doorstone.service.auth_settings import AuthSettings, OidcProvider
from doorstone.work.context.context import Context
from doorstone.work.people import people
from doorstone_standins.identity_provider import IdentityProvider, running
from tests.asking import ADMIN

GROUPS = {"it-hands": "technician", "it-heads": "approver", "it-lead": "administrator"}
Browse = Callable[[], httpx.Response]


@pytest.fixture
def outside() -> Iterator[IdentityProvider]:
    provider = IdentityProvider(claims={"preferred_username": "mira", "name": "Mira Oduya", "groups": ["it-hands"]})
    with running(provider):
        yield provider


@pytest.fixture
def browser(context: Context, outside: IdentityProvider) -> Iterator[httpx.Client]:
    settings = AuthSettings(
        provider=OidcProvider(outside.address, outside.client_id, groups=GROUPS), address="http://doorstone.test"
    )
    app = create_app(context, b"k" * 32, settings=settings)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        yield client


def come(browser: httpx.Client, **changes: Any) -> httpx.Response:
    """The whole way: to the provider, to its answer, back with a code."""
    begun = browser.get("/api/v1/session/provider")
    assert begun.status_code == 302, begun.text
    back = httpx.get(begun.headers["location"]).headers["location"]
    for old, new in changes.items():
        back = back.replace(f"{old}=", f"{old}={new}")
    return browser.get(back.removeprefix("http://doorstone.test"))


def problem(response: httpx.Response) -> tuple[int, str]:
    return response.status_code, response.json()["detail"]


def test_somebody_new_gets_in_with_the_role_of_their_group(browser: httpx.Client, outside: IdentityProvider) -> None:
    assert browser.get("/api/v1/session/ways").json() == {"password": True, "provider": outside.address}
    done = come(browser)
    assert (done.status_code, done.headers["location"]) == (302, "/")
    me = browser.get("/api/v1/session").json()
    assert (me["name"], me["display"], me["role"]) == ("mira", "Mira Oduya", "technician")
    cookies = done.headers.get_list("set-cookie")
    assert any(c.startswith("doorstone=") and "HttpOnly" in c and "SameSite=Strict" in c for c in cookies)


def test_the_greatest_of_several_roles_counts_and_follows_the_groups(
    browser: httpx.Client, outside: IdentityProvider, context: Context
) -> None:
    outside.claims["groups"] = ["it-hands", "it-lead", "choir"]
    come(browser)
    assert browser.get("/api/v1/session").json()["role"] == "administrator"
    outside.claims["groups"] = ["it-heads"]
    come(browser)
    assert people.get_person(context, "mira").role == "approver"


def test_who_is_in_no_group_does_not_get_in(browser: httpx.Client, outside: IdentityProvider) -> None:
    outside.claims["groups"] = ["choir"]
    assert problem(come(browser)) == (401, "mira are in no group that has a role here")
    assert browser.get("/api/v1/session").status_code == 401


def test_a_name_with_a_password_here_is_not_taken_over(browser: httpx.Client, outside: IdentityProvider) -> None:
    outside.claims |= {"preferred_username": "wilhelmina", "groups": ["it-hands"]}
    assert problem(come(browser)) == (401, "'wilhelmina' is somebody else here")


def test_somebody_who_may_no_longer_sign_in_stays_out(browser: httpx.Client, context: Context) -> None:
    come(browser)
    version = people.get_person(context, "mira").version
    people.change_person(context, ADMIN, "mira", version, people.PersonChange(active=False))
    assert browser.get("/api/v1/session").status_code == 401
    assert problem(come(browser)) == (401, "'mira' may no longer sign in")


def test_a_person_is_a_subject_whatever_they_are_called(
    browser: httpx.Client, outside: IdentityProvider, context: Context
) -> None:
    come(browser)
    outside.claims |= {"sub": "subject of mira", "preferred_username": "mira.new@northmere.example"}
    come(browser)
    assert browser.get("/api/v1/session").json()["name"] == "mira"
    outside.claims |= {"sub": "somebody else", "preferred_username": "mira@other.example", "groups": ["it-lead"]}
    assert problem(come(browser)) == (401, "'mira' is somebody else here")
    assert people.get_person(context, "mira").role == "technician"


def test_an_administrator_binds_somebody_to_their_new_subject(
    browser: httpx.Client, outside: IdentityProvider, context: Context
) -> None:
    come(browser)
    outside.claims["sub"] = "renumbered"
    assert come(browser).status_code == 401
    people.bind_person(context, ADMIN, "mira", outside.address, "renumbered")
    come(browser)
    assert browser.get("/api/v1/session").json()["name"] == "mira"


@pytest.mark.parametrize(
    ("claims", "gets_in"),
    [
        ({"email": "mira@northmere.example", "email_verified": True}, True),
        ({"email": "mira@northmere.example"}, False),
        ({"email": "mira@northmere.example.evil.example", "email_verified": True}, False),
        ({}, False),
    ],
)
def test_only_verified_addresses_of_a_configured_domain_get_in(
    context: Context, outside: IdentityProvider, claims: dict[str, Any], gets_in: bool
) -> None:
    provider = OidcProvider(outside.address, outside.client_id, groups=GROUPS, domains=("northmere.example",))
    app = create_app(context, b"k" * 32, settings=AuthSettings(provider=provider, address="http://doorstone.test"))
    outside.claims |= claims
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        assert (come(client).status_code == 302) is gets_in


@pytest.mark.parametrize(
    "lie",
    [
        {"aud": "another"},
        {"nonce": "old"},
        {"iss": "https://elsewhere.example"},
        {"exp": 1_700_000_000},
        {"azp": "another"},
        {"aud": ["door-stone", "another"]},
    ],
)
def test_a_token_whose_claims_do_not_fit_is_not_believed(
    browser: httpx.Client, outside: IdentityProvider, lie: dict[str, Any]
) -> None:
    outside.lies = lie
    assert problem(come(browser)) == (401, "The provider's answer cannot be believed")


def test_a_token_signed_by_somebody_else_is_not_believed(browser: httpx.Client, outside: IdentityProvider) -> None:
    outside.forged = True
    assert problem(come(browser)) == (401, "The provider's answer cannot be believed")
    assert browser.get("/api/v1/session").status_code == 401


def test_an_answer_to_another_sign_in_is_refused(browser: httpx.Client) -> None:
    assert problem(come(browser, state="x")) == (401, "The answer is not to the sign-in that was begun here")
    browser.cookies.clear()
    answer = browser.get("/api/v1/session/provider/back?code=1&state=2")
    assert problem(answer) == (401, "The way back from the sign-in is unknown or too old")


def test_a_refusal_and_a_provider_that_is_gone_are_said(browser: httpx.Client, outside: IdentityProvider) -> None:
    outside.refuses = True
    assert problem(come(browser)) == (401, "The provider did not let you in")


def test_without_a_provider_there_is_no_way_to_one(context: Context) -> None:
    app = create_app(context, b"k" * 32)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        assert client.get("/api/v1/session/ways").json() == {"password": True, "provider": ""}
        assert client.get("/api/v1/session/provider").status_code == 404
