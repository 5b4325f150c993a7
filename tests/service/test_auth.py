"""Every operation of the OpenAPI document with every role, and what keeps a session the console's own."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any

import httpx
import pytest
from flask import Flask

from doorstone.demo.seed import PASSWORD
from doorstone.service.app import api_document, create_app
from doorstone.service.auth_settings import AuthSettings
from doorstone.service.resources import OPERATIONS
from doorstone.store.database import Database
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import RefusedError
from doorstone.work.people import people
from doorstone.work.people.people import PersonChange
from tests.asking import ADMIN

ROLES = ["viewer", "technician", "approver", "administrator"]
NAMES = dict(zip([*ROLES, "reporter"], ["odile", "petra", "anselm", "wilhelmina", "petra"], strict=True))
OWN = {
    "issue_token", "revoke_token", "sign_out", "what_if", "change_me", "change_my_password", "make_calendar",
    "revoke_calendar", "begin_second_factor", "confirm_second_factor", "drop_second_factor",
    "check_request", "kit_cases", "media_plan",
    "what_if_device", "what_if_fleet", "budget_plan", "budget_plan_csv", "name_deputy", "end_deputy", "compare_folder",
}  # fmt: skip
CARE = {
    "comment_exception", "attest_condition", "attach_evidence", "transfer_exception", "transfer_exceptions",
    "review_exception", "change_task",
}  # fmt: skip
WRITES = {
    "technician": OWN | CARE | {
        "import_readings", "begin_import", "send_import_file", "cancel_import", "request_each", "renew_exceptions",
        "request_exception",
        "edit_exception", "withdraw_exception", "make_kit", "make_kits", "record_attempt", "record_fix",
        "add_media", "verify_media", "withdraw_media", "record_attempts", "record_observations",
        "settle_followup", "add_verification",
        "record_observation", "settle_dispute", "save_selection", "delete_selection", "change_lives", "record_file",
        "request_folder",
    },
    "approver": OWN | CARE | {"decide_exception", "decide_exceptions", "change_device", "change_devices"},
    "viewer": OWN,
    "reporter": {"import_readings"},
}  # fmt: skip


@cache
def operations() -> list[tuple[str, str, dict[str, Any]]]:
    paths = api_document()["paths"]
    return [(method.upper(), path, one) for path, item in paths.items() for method, one in item.items()]


@pytest.fixture
def app(demo: Context) -> Flask:
    return create_app(demo, b"k" * 32)


def token(context: Context, role: str) -> dict[str, str]:
    holder = "technician" if role == "reporter" else role
    secret = people.issue_token(context, Actor(NAMES[role], holder, "test"), "test", role, 9).secret
    return {"Authorization": f"Bearer {secret}"}


def call(app: Flask, method: str, path: str, headers: dict[str, str]) -> httpx.Response:
    filled = re.sub(r"\{(\w+)\}", "nothing", path)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        return client.request(method, filled, headers=headers)


def test_the_document_knows_every_operation() -> None:
    assert {o["operationId"] for _, _, o in operations()} == {o.name for o in OPERATIONS}
    assert len(OPERATIONS) == len({o.name for o in OPERATIONS})


@pytest.mark.parametrize("role", [*ROLES, "reporter", "nobody"])
def test_every_operation_with_every_role(app: Flask, demo: Context, role: str) -> None:
    headers = {} if role == "nobody" else token(demo, role)
    for method, path, operation in operations():
        status = call(app, method, path, headers).status_code
        allowed = operation.get("x-roles")
        if allowed is None:
            assert status not in (401,) or operation["operationId"] == "sign_in"
        elif role == "nobody":
            assert status == 401, (method, path)
        else:
            may = role in allowed and not operation["x-session"]  # these tokens are for programs
            assert (status == 403) is not may, (method, path, status)


@pytest.mark.parametrize("role", [*ROLES, "reporter"])
def test_who_may_write_what(role: str) -> None:
    writing = {o["operationId"] for method, _, o in operations() if method != "GET" and role in o.get("x-roles", [])}
    if role == "administrator":
        assert writing >= {
            "load_sheet",
            "decide",
            "add_person",
            "change_person",
            "add_webhook",
            "change_risk",
            *WRITES["technician"],
        }
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


# --------------------------------------------------- people, sites, narrow tokens


def at(app: Flask, context: Context, name: str, role: str, **how: Any) -> Callable[..., httpx.Response]:
    """Calls with a token of a person."""
    own = "as_" not in how
    secret = people.issue_token(
        context, Actor(name, role, "test"), "t", how.pop("as_", role), 9, session=own, **how
    ).secret

    def call(method: str, path: str, body: Any = None, **headers: str) -> httpx.Response:
        with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test/api/v1") as client:
            return client.request(method, path, json=body, headers={"Authorization": f"Bearer {secret}", **headers})

    return call


def reading(device: str, source: str = "collector") -> dict[str, str]:
    line = {"device": device, "source": source, "taken_at": "2027-01-17T08:00:00", "facts": {"memory.mib": 8192}}
    return {"form": "ndjson", "text": json.dumps(line)}


def test_a_greater_role_at_one_site_counts_there_and_nowhere_else(app: Flask, demo: Context) -> None:
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, PersonChange(sites={"Herbarium": "technician"}))
    odile = at(app, demo, "odile", "viewer")
    seen = {"seen_on": "2027-01-18", "update_class": "security", "result": "arrived"}
    assert odile("POST", "/observations", {"device": "nbt-047", **seen}).status_code == 201  # Herbarium
    refused = odile("POST", "/observations", {"device": "nbt-012", **seen})  # Glasshouse
    assert refused.status_code == 403
    assert refused.json()["detail"] == (
        "Record an observation: at Glasshouse you are a viewer, it takes the role administrator or technician"
    )
    assert odile("POST", "/readings", reading("nbt-047")).status_code == 403  # it cannot say which devices it touches
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, PersonChange(sites={"Herbarium": "approver"}))
    etag = odile("GET", "/exceptions/EX-0005").headers["etag"]
    everywhere = odile(
        "POST", "/exceptions/EX-0005/decision", {"move": "confirm", "note": "Looked at."}, **{"If-Match": etag}
    )
    assert everywhere.status_code == 403  # the exception has devices at other sites


def test_a_token_that_may_only_post_readings(app: Flask, demo: Context) -> None:
    script = at(app, demo, "petra", "technician", as_="reporter", device="nbt-012")
    assert script("POST", "/readings", reading("nbt-012")).status_code == 201
    for method, path in (("GET", "/devices?platform=tarn"), ("GET", "/session"), ("POST", "/kits"), ("GET", "/me")):
        assert script(method, path, {} if method == "POST" else None).status_code == 403
    other = script("POST", "/readings", reading("nbt-021"))
    assert (other.status_code, other.json()["errors"][0]["detail"]) == (
        422,
        "This token may only post readings of nbt-012",
    )
    posing = script("POST", "/readings", reading("nbt-012", "operator"))
    assert posing.json()["errors"][0]["detail"] == "A token for readings cannot speak as operator"


def test_a_token_does_no_more_than_its_person_may_and_tells_when_it_was_used(app: Flask, demo: Context) -> None:
    hands = at(app, demo, "petra", "technician")
    script = at(app, demo, "petra", "technician", as_="reporter")
    assert hands("GET", "/session").json()["role"] == "technician"
    assert [t.last_used_at for t in people.list_tokens(demo)] == ["2027-01-18T09:00:00", None]
    version = people.get_person(demo, "petra").version
    changed = people.change_person(demo, ADMIN, "petra", version, PersonChange(role="viewer"))
    assert hands("GET", "/session").json()["role"] == "viewer"
    assert script("POST", "/readings", reading("nbt-012")).status_code == 403
    people.change_person(demo, ADMIN, "petra", changed.version, PersonChange(active=False))
    assert hands("GET", "/session").status_code == 401
    assert all(token.revoked_at for token in people.list_tokens(demo))


def test_ones_own_tokens_are_seen_and_revoked_by_oneself(app: Flask, demo: Context) -> None:
    petra, anselm = at(app, demo, "petra", "technician"), at(app, demo, "anselm", "approver")
    assert [t["person"] for t in petra("GET", "/tokens").json()["items"]] == ["petra"]
    assert petra("DELETE", "/tokens/TK-0002").status_code == 409
    assert anselm("DELETE", "/tokens/TK-0002").status_code == 200
    assert anselm("GET", "/session").status_code == 401


def test_the_last_administrator_stays_one(demo: Context) -> None:
    version = people.get_person(demo, "wilhelmina").version
    for change in (PersonChange(role="viewer"), PersonChange(active=False)):
        with pytest.raises(RefusedError, match="wilhelmina is the last administrator"):
            people.change_person(demo, ADMIN, "wilhelmina", version, change)


def test_the_first_administrator_is_made_once(tmp_path: Path) -> None:
    context = Context(Database(tmp_path / "doorstone.db"), FixedClock(datetime(2027, 1, 18, 9)))
    people.add_person(context, ADMIN, "first", "", "administrator", "long enough pw", first=True)
    with pytest.raises(RefusedError, match="There is an administrator already"):
        people.add_person(context, ADMIN, "second", "", "administrator", "long enough pw", first=True)


# ------------------------------------------------------- throttle, sessions that end


def test_after_five_wrong_passwords_the_right_one_waits_too(browser: httpx.Client) -> None:
    for _ in range(5):
        assert sign_in(browser, "petra", "wrong").status_code == 401
    answer = sign_in(browser, "petra")
    assert answer.status_code == 429
    assert 1 <= int(answer.headers["Retry-After"]) <= 300
    assert answer.json()["detail"] == "Too many tries for 'petra', or from here"
    assert sign_in(browser, "anselm").status_code == 200  # others are not shut out


def test_a_session_ends_when_it_is_old_or_left_alone(demo: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    app = create_app(demo, b"k" * 32, settings=AuthSettings(session=timedelta(hours=2), idle=timedelta(minutes=30)))
    headers = {"X-Doorstone-Console": "1"}
    now = time.time()
    monkeypatch.setattr("doorstone.service.auth.time.time", lambda: now)
    with httpx.Client(
        transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test", headers=headers
    ) as client:
        start = now
        sign_in(client)
        for minutes in (29, 58, 87, 116):
            now = start + minutes * 60
            assert client.get("/api/v1/session").status_code == 200, minutes
        now = start + 121 * 60
        assert client.get("/api/v1/session").status_code == 401
        sign_in(client)
        now += 31 * 60
        assert client.get("/api/v1/session").status_code == 401


def test_a_new_password_ends_every_session_and_takes_the_old_one(app: Flask, browser: httpx.Client) -> None:
    sign_in(browser)
    assert browser.put("/api/v1/me/password", json={"old": "guess", "new": "long enough pw"}).status_code == 422
    assert browser.put("/api/v1/me/password", json={"old": PASSWORD, "new": "long enough pw"}).status_code == 204
    assert browser.get("/api/v1/session").status_code == 401
    assert sign_in(browser, "petra", "long enough pw").status_code == 200


def test_mail_addresses_are_for_administrators_and_oneself(app: Flask, demo: Context) -> None:
    version = people.get_person(demo, "petra").version
    change = PersonChange(email="petra@northmere.example", news=("due",))
    people.change_person(demo, ADMIN, "petra", version, change)
    seen = {}
    for name, role in (("odile", "viewer"), ("wilhelmina", "administrator")):
        items = at(app, demo, name, role)("GET", "/people").json()["items"]
        seen[name] = next(p["email"] for p in items if p["name"] == "petra")
    assert seen == {"odile": "", "wilhelmina": "petra@northmere.example"}
    assert at(app, demo, "petra", "technician")("GET", "/me").json()["news"] == ["due"]
