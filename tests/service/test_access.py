"""Every operation of the OpenAPI document with every role, and what keeps a session the console's own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from flask import Flask

from doorstone.demo.seed import PASSWORD
from doorstone.service.app import api_document, create_app
from doorstone.service.resources import OPERATIONS
from doorstone.work import people
from doorstone.work.desk import Actor, Desk

ROLES = ["viewer", "technician", "approver", "administrator"]
NAMES = dict(zip(ROLES, ["odile", "petra", "anselm", "wilhelmina"], strict=True))
WRITES = {
    "technician": {
        "import_readings", "request_exception", "edit_exception", "withdraw_exception", "make_kit", "record_attempt",
        "record_observation", "issue_token", "sign_out",
    },
    "approver": {"decide_exception", "issue_token", "sign_out"},
    "viewer": {"issue_token", "sign_out"},
}  # fmt: skip


def operations() -> Iterator[tuple[str, str, dict[str, Any]]]:
    for path, item in api_document()["paths"].items():
        for method, operation in item.items():
            yield method.upper(), path, operation


@pytest.fixture
def app(demo: Desk) -> Flask:
    return create_app(demo, b"k" * 32)


def token(desk: Desk, role: str) -> dict[str, str]:
    secret = people.issue_token(desk, Actor(NAMES[role], role, "test"), "test", role, 9).secret
    return {"Authorization": f"Bearer {secret}"}


def call(app: Flask, method: str, path: str, headers: dict[str, str]) -> httpx.Response:
    filled = re.sub(r"\{(\w+)\}", "nothing", path)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        return client.request(method, filled, headers=headers)


def test_the_document_knows_every_operation() -> None:
    assert {o["operationId"] for _, _, o in operations()} == {o.name for o in OPERATIONS}
    assert len(OPERATIONS) == len({o.name for o in OPERATIONS})


@pytest.mark.parametrize("role", [*ROLES, "nobody"])
def test_every_operation_with_every_role(app: Flask, demo: Desk, role: str) -> None:
    headers = {} if role == "nobody" else token(demo, role)
    for method, path, operation in operations():
        status = call(app, method, path, headers).status_code
        allowed = operation.get("x-roles")
        if allowed is None:
            assert status not in (401,) or operation["operationId"] == "sign_in"
        elif role == "nobody":
            assert status == 401, (method, path)
        else:
            assert (status == 403) is (role not in allowed), (method, path, status)


@pytest.mark.parametrize("role", ROLES)
def test_who_may_write_what(role: str) -> None:
    writing = {o["operationId"] for method, _, o in operations() if method != "GET" and role in o.get("x-roles", [])}
    if role == "administrator":
        assert writing >= {"load_sheet", "decide", "add_person", "revoke_token", *WRITES["technician"]}
    else:
        assert writing == WRITES[role]


@pytest.mark.parametrize("secret", ["ds_made_up", "", "Basic abc"])
def test_a_bad_token_is_refused_even_where_a_session_would_do(app: Flask, secret: str) -> None:
    answer = call(app, "GET", "/api/v1/people", {"Authorization": f"Bearer {secret}"})
    assert answer.status_code == 401
    assert answer.json()["type"] == "urn:door-stone:problem:bad-token"


# ----------------------------------------------------------------- sessions


@pytest.fixture
def browser(app: Flask) -> Iterator[httpx.Client]:
    headers = {"X-Doorstone-Console": "1"}
    with httpx.Client(
        transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test", headers=headers
    ) as client:
        yield client


def sign_in(client: httpx.Client, name: str = "petra", password: str = PASSWORD) -> httpx.Response:
    return client.post("/api/v1/session", json={"name": name, "password": password})


def test_signing_in_sets_a_strict_signed_cookie(browser: httpx.Client) -> None:
    answer = sign_in(browser)
    assert answer.status_code == 200
    assert answer.json()["role"] == "technician"
    cookie = answer.headers["set-cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    assert PASSWORD not in cookie
    assert browser.get("/api/v1/session").json()["name"] == "petra"


@pytest.mark.parametrize(("name", "password"), [("petra", "wrong"), ("nobody", PASSWORD), ("", "")])
def test_a_wrong_sign_in_is_refused_alike(browser: httpx.Client, name: str, password: str) -> None:
    answer = sign_in(browser, name, password)
    assert (answer.status_code, answer.json()["detail"]) == (401, "Name and password do not fit")


def test_a_forged_cookie_is_nobody(browser: httpx.Client) -> None:
    browser.cookies.set("doorstone", "eyJuYW1lIjoid2lsaGVsbWluYSJ9.aaaa.bbbb")
    assert browser.get("/api/v1/session").status_code == 401


def test_a_session_is_only_for_the_console(browser: httpx.Client) -> None:
    sign_in(browser)
    asked = {"name": "x", "role": "viewer", "days": 9}
    del browser.headers["X-Doorstone-Console"]
    assert browser.post("/api/v1/tokens", json=asked).json()["type"] == "urn:door-stone:problem:foreign-call"
    headers = {"X-Doorstone-Console": "1", "Origin": "http://elsewhere.test"}
    assert browser.post("/api/v1/tokens", json=asked, headers=headers).status_code == 403
    headers["Origin"] = "http://doorstone.test"
    assert browser.post("/api/v1/tokens", json=asked, headers=headers).status_code == 201
    assert browser.get("/api/v1/people").status_code == 200


def test_signing_out_ends_every_session_of_the_person(app: Flask, browser: httpx.Client) -> None:
    sign_in(browser)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as other:
        other.headers["X-Doorstone-Console"] = "1"
        sign_in(other)
        assert browser.delete("/api/v1/session").status_code == 204
        assert other.get("/api/v1/session").status_code == 401
    assert browser.get("/api/v1/session").status_code == 401


def test_headers_are_safe_by_default(browser: httpx.Client) -> None:
    for path in ("/", "/devices", "/api/v1/openapi.json", "/api/v1/nothing"):
        headers = browser.get(path).headers
        assert "script-src 'self'" in headers["content-security-policy"]
        assert "unsafe" not in headers["content-security-policy"]
        assert headers["x-content-type-options"] == "nosniff"
        assert headers["x-frame-options"] == "DENY"
