"""Nobody does what they may not: keys, tokens, providers, sign-in."""

from __future__ import annotations

import json
import re
import threading
import time
from collections.abc import Callable
from datetime import datetime
from typing import Any

import httpx
import pyotp
import pytest
from flask import Flask

from doorstone.demo.seed import PASSWORD
from doorstone.service.app import api_document, create_app
from doorstone.store import people as people_store
from doorstone.work.attempts import NewAttempt, record_attempt
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.context.passwords import digest_of, weakness
from doorstone.work.ledger import entries as ledger
from doorstone.work.notifications import webhooks
from doorstone.work.people import people
from doorstone.work.people.people import PersonChange
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.updates import NewObservation, record_observation
from tests.asking import ADMIN, PETRA, line

ROLES = ("viewer", "technician", "approver", "administrator")
NAMES = {"viewer": "odile", "technician": "petra", "approver": "anselm", "administrator": "wilhelmina"}
WILHELMINA = ADMIN
SEEN = {"seen_on": "2027-01-18", "update_class": "security", "result": "arrived"}


@pytest.fixture
def app(demo: Context) -> Flask:
    return create_app(demo, b"k" * 32)


def call(app: Flask, secret: str, method: str, path: str, body: Any = None, **headers: str) -> httpx.Response:
    held = {"Authorization": f"Bearer {secret}"} if secret else {}
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        return client.request(method, path, json=body, headers=held | headers)


def secret_of(context: Context, role: str, **more: Any) -> str:
    holder = "technician" if role == "reporter" else role
    return people.issue_token(context, Actor(NAMES[holder], holder, "t"), "t", role, 9, **more).secret or ""


# --------------------------------------------------------------- an actor is only narrowed


@pytest.fixture
def principals(demo: Context) -> dict[str, str]:
    """Secrets of every kind of caller."""
    found = {role: secret_of(demo, role) for role in ROLES} | {"nobody": ""}
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, PersonChange(sites={"Herbarium": "technician"}))
    found["technician at Herbarium"] = secret_of(demo, "viewer", session=True)
    found["reporter of nbt-047"] = secret_of(demo, "reporter", device="nbt-047")
    revoked = people.issue_token(demo, PETRA, "gone", "technician", 9)
    people.revoke_token(demo, PETRA, revoked.id)
    found["revoked"] = revoked.secret or ""
    expired = people.issue_token(demo, PETRA, "old", "technician", 1)
    with demo.database.write() as db:
        db.execute("UPDATE tokens SET expires_on = '2027-01-17' WHERE digest = ?", (digest_of(expired.secret or ""),))
    found["expired"] = expired.secret or ""
    return found


def test_a_key_changes_nothing_of_what_a_caller_may(app: Flask, principals: dict[str, str]) -> None:
    creating = [
        (method.upper(), path, operation["operationId"])
        for path, item in api_document()["paths"].items()
        for method, operation in item.items()
        if any(p.get("name") == "Idempotency-Key" for p in operation.get("parameters", []))
    ]
    assert len(creating) >= 10
    bodies = {
        "record_observation": {"device": "nbt-012", **SEEN},
        "import_readings": {"form": "ndjson", "text": line("nbt-012", {"memory.mib": 8192})},
    }  # fmt: skip
    for who, secret in principals.items():
        for method, path, name in creating:
            filled = re.sub(r"\{\w+\}", "nothing", path)
            plain = call(app, secret, method, filled, bodies.get(name, {}))
            keyed = call(app, secret, method, filled, bodies.get(name, {}), **{"Idempotency-Key": f"{who} {name}"})
            assert keyed.status_code == plain.status_code, (who, name)
            if plain.status_code in (401, 403):
                assert keyed.json()["detail"] == plain.json()["detail"], (who, name)


def test_with_a_key_a_site_stays_a_site_and_a_device_a_device(app: Flask, principals: dict[str, str]) -> None:
    for device, status in (("nbt-047", 201), ("nbt-012", 403)):  # Herbarium, Glasshouse
        answer = call(
            app, principals["technician at Herbarium"], "POST", "/api/v1/observations",
            {"device": device, **SEEN}, **{"Idempotency-Key": f"seen {device}"},
        )  # fmt: skip
        assert answer.status_code == status, device
    other = {"form": "ndjson", "text": line("nbt-012", {"memory.mib": 8192})}
    refused = call(
        app, principals["reporter of nbt-047"], "POST", "/api/v1/readings", other, **{"Idempotency-Key": "one"}
    )
    assert refused.status_code == 422


def test_a_site_role_corrects_no_record_of_another_site(app: Flask, demo: Context, principals: dict[str, str]) -> None:
    at = datetime(2027, 1, 18, 8)
    glasshouse = NewAttempt("nbt-012", "", "9.1", "in-place", "everything", "completed", (), "", "", "", at, at)
    wrong = record_attempt(demo, PETRA, glasshouse).id
    seen = record_observation(
        demo, PETRA, NewObservation("nbt-012", at.date(), "security", "arrived", "", "operator", "")
    )
    here = principals["technician at Herbarium"]
    times = {"started_at": "2027-01-18T08:00:00", "ended_at": "2027-01-18T08:30:00"}
    attempt = {"device": "nbt-047", "outcome": "abandoned", **times, "corrects": wrong.lower(), "runs": "8"}
    observation = {"device": "nbt-047", **SEEN, "corrects": f"OB-{seen.id:04d}"}
    row = {"form": "json", "text": json.dumps([attempt])}
    for path, body in (
        ("attempts", attempt), ("attempts/batch", {"items": [attempt]}), ("records/attempts", row),
        ("observations", observation), ("observations/batch", {"items": [observation]}),
    ):  # fmt: skip
        answer = call(app, here, "POST", f"/api/v1/{path}", body)
        assert (answer.status_code, "at Glasshouse you are a viewer" in answer.text) == (403, True), path
    assert snapshot(demo).device("nbt-012").running_release == "9.1"
    mine = {"device": "nbt-047", "outcome": "abandoned", **times}
    assert call(app, here, "POST", "/api/v1/attempts", mine).status_code == 201


# -------------------------------------------------------------------- tokens never widen


@pytest.mark.parametrize(
    ("issued", "becomes", "acts_as"),
    [
        ("technician", "viewer", "viewer"),
        ("technician", "approver", "viewer"),  # what a technician and an approver have in common
        ("technician", "administrator", "technician"),
        ("viewer", "administrator", "viewer"),
        ("reporter", "viewer", ""),
        ("reporter", "approver", ""),
        ("reporter", "administrator", "reporter"),
    ],
)
def test_a_token_is_what_it_was_issued_for_and_what_its_person_may(
    demo: Context, issued: str, becomes: str, acts_as: str
) -> None:
    secret = people.issue_token(demo, PETRA, "t", issued, 9).secret or ""
    version = people.get_person(demo, "petra").version
    people.change_person(demo, ADMIN, "petra", version, PersonChange(role=becomes))
    held = people.who_holds(demo, secret)
    assert held is not None
    assert (held.role, held.sites, held.session) == (acts_as, {}, False)


def test_a_reporter_whose_person_was_demoted_reads_nothing(app: Flask, demo: Context) -> None:
    secret = secret_of(demo, "reporter")
    version = people.get_person(demo, "petra").version
    people.change_person(demo, ADMIN, "petra", version, PersonChange(role="viewer"))
    for path in ("/ledger", "/people", "/devices?platform=tarn", "/session"):
        assert call(app, secret, "GET", f"/api/v1{path}").status_code == 403, path


OWN = [
    ("POST", "/tokens", {"name": "x", "role": "viewer", "days": 9}),
    ("DELETE", "/tokens/TK-0001", None),
    ("DELETE", "/session", None),
    ("PATCH", "/me", {"email": "me@elsewhere.example"}),
    ("PUT", "/me/password", {"old": PASSWORD, "new": "several words of mine"}),
    ("POST", "/me/calendar", None),
    ("DELETE", "/me/calendar", None),
    ("POST", "/me/second-factor", None),
    ("DELETE", "/me/second-factor", None),
]


@pytest.mark.parametrize(("method", "path", "body"), OWN)
@pytest.mark.parametrize("role", ["viewer", "administrator"])
def test_a_programs_token_manages_neither_tokens_nor_profile(
    app: Flask, demo: Context, role: str, method: str, path: str, body: Any
) -> None:
    before = demo.stamp().ledger
    secret = secret_of(demo, role)
    answer = call(app, secret, method, f"/api/v1{path}", body, **{"If-Match": '"v1"'})
    assert (answer.status_code, answer.json()["type"]) == (403, "urn:door-stone:problem:session")
    assert demo.stamp().ledger == before + 1  # the token's own entry


def test_a_programs_token_does_not_reach_the_sites_of_its_person(demo: Context) -> None:
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, PersonChange(sites={"Herbarium": "approver"}))
    plain, own = (people.who_holds(demo, secret_of(demo, "viewer", session=kind)) for kind in (False, True))
    assert plain is not None
    assert own is not None
    assert (plain.sites, own.sites) == ({}, {"Herbarium": "approver"})
    with pytest.raises(BadInputError, match="one's own role"):
        people.issue_token(demo, ADMIN, "t", "viewer", 9, session=True)


# ---------------------------------------------------------------------------- sign-in


@pytest.fixture
def browse(app: Flask) -> Callable[..., httpx.Response]:
    headers = {"X-Doorstone-Console": "1"}

    def post(name: str, password: str, code: str = "") -> httpx.Response:
        with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://d.test", headers=headers) as client:
            return client.post("/api/v1/session", json={"name": name, "password": password, "code": code})

    return post


def test_of_sixty_guesses_at_once_five_are_looked_at(demo: Context, browse: Callable[..., httpx.Response]) -> None:
    codes: list[int] = []
    threads = [
        threading.Thread(target=lambda: codes.append(browse("petra", "wrong guess").status_code)) for _ in range(60)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sorted(codes) == [401] * 5 + [429] * 55


def test_one_address_guesses_at_sixty_accounts_and_no_more(browse: Callable[..., httpx.Response]) -> None:
    codes = [browse(f"name{number}", "wrong guess").status_code for number in range(62)]
    assert codes == [401] * 60 + [429] * 2


def test_a_sign_in_gives_the_tries_back(browse: Callable[..., httpx.Response]) -> None:
    for _ in range(3):
        assert [browse("petra", "wrong guess").status_code for _ in range(4)] == [401] * 4
        assert browse("petra", PASSWORD).status_code == 200


def test_sign_ins_and_failures_are_kept_with_the_name(
    app: Flask, demo: Context, browse: Callable[..., httpx.Response]
) -> None:
    browse("odile", "wrong guess")
    refused = browse("nobody-here", "wrong guess")
    assert refused.headers["WWW-Authenticate"] == 'Bearer realm="doorstone"'
    browse("odile", PASSWORD)
    page = call(app, secret_of(demo, "administrator"), "GET", "/api/v1/sign-ins").json()
    assert [(one["name"], one["outcome"]) for one in page["items"]] == [
        ("odile", "signed-in"), ("nobody-here", "failed"), ("odile", "failed"),
    ]  # fmt: skip
    assert call(app, secret_of(demo, "approver"), "GET", "/api/v1/sign-ins").status_code == 403


@pytest.mark.parametrize(
    "password",
    [
        "password12",
        "Password2027!",
        "1234567890",
        "qwertyuiop",
        "letmeinnow1",
        "aaaabbbbaaaa",
        "wilhelmina99",
        "DoorStone1",
    ],
)
def test_passwords_that_are_tried_first_are_refused(context: Context, password: str) -> None:
    with pytest.raises(BadInputError, match="easily guessed"):
        people.add_person(context, ADMIN, "new-one", "Wilhelmina Stroud", "viewer", password)


def test_other_passwords_are_taken() -> None:
    assert [weakness(word, "petra") for word in (PASSWORD, "kelp anvil tuesday", "gX7-pq2-Lm9-w")] == ["", "", ""]


def later(made: pyotp.TOTP) -> str:
    """The code of the next half minute, which fits already."""
    return made.at(int(time.time()) + 30)


def test_a_second_factor_is_asked_for_once_it_is_confirmed(
    app: Flask, demo: Context, browse: Callable[..., httpx.Response]
) -> None:
    own = secret_of(demo, "technician", session=True)
    address = call(app, own, "POST", "/api/v1/me/second-factor").json()["address"]
    made = pyotp.parse_uri(address)
    assert isinstance(made, pyotp.TOTP)
    assert browse("petra", PASSWORD).status_code == 200  # not confirmed yet
    for wrong in (
        "000000",
        "\u00bbA\u00d5",
        "\u0661\u0662\u0663\u0664\u0665\u0666",
    ):  # no digits, and digits of another script
        assert call(app, own, "PUT", "/api/v1/me/second-factor", {"code": wrong}).status_code == 422
    assert call(app, own, "PUT", "/api/v1/me/second-factor", {"code": made.now()}).status_code == 204
    without = browse("petra", PASSWORD)
    assert (without.status_code, without.json()["type"]) == (401, "urn:door-stone:problem:code")
    assert browse("petra", PASSWORD, "123456").status_code == 401
    assert browse("petra", PASSWORD, made.now()).status_code == 401  # used once, to confirm it
    assert browse("petra", PASSWORD, later(made)).status_code == 200
    assert browse("petra", PASSWORD, later(made)).status_code == 401
    for method in ("POST", "DELETE"):
        assert call(app, own, method, "/api/v1/me/second-factor", {"code": "000000"}).status_code == 422
        assert call(app, own, method, "/api/v1/me/second-factor").status_code == 422
    assert made.secret.encode() not in b"".join(
        f.read_bytes() for f in demo.database.path.parent.iterdir() if f.is_file()
    )
    assert (
        call(app, secret_of(demo, "administrator"), "DELETE", "/api/v1/people/petra/second-factor").status_code == 204
    )
    assert browse("petra", PASSWORD).status_code == 200


@pytest.mark.parametrize("name", ["doorstone", "local", "import", "system"])
def test_names_of_the_service_itself_are_reserved(context: Context, name: str) -> None:
    with pytest.raises(BadInputError, match="is not a name for a person"):
        people.add_person(context, ADMIN, name, "", "viewer", None)


# ------------------------------------------------------------------ what viewers see


def test_neither_mail_addresses_nor_addresses_of_hooks_are_in_the_ledger(demo: Context) -> None:
    version = people.get_person(demo, "petra").version
    people.change_person(demo, ADMIN, "petra", version, PersonChange(email="petra@northmere.example"))
    webhook = webhooks.add_webhook(demo, ADMIN, "https://webhooks.northmere.example/in/s3cret-path?key=s3cret", ())
    webhooks.remove_webhook(demo, ADMIN, webhook.id)
    told = json.dumps([dict(entry.body) for entry in ledger.walk(demo, 0, 10_000)])
    assert "petra@" not in told
    assert "s3cret" not in told
    assert "webhooks.northmere.example" in told


def test_secrets_are_sealed_in_the_records(demo: Context) -> None:
    webhook = webhooks.add_webhook(demo, ADMIN, "https://webhooks.northmere.example/in", ())
    with demo.database.read() as db:
        held = db.execute("SELECT secret FROM webhooks").fetchone()[0]
        assert people_store.get(db, "petra") is not None
    assert webhook.secret is not None
    assert webhook.secret not in held
    assert demo.database.vault.open(held) == webhook.secret
