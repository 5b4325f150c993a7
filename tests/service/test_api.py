"""The API over raw HTTP calls on the WSGI app: problems, ETags, keys, pages, the OpenAPI document."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import jsonschema
import pytest
from openapi_spec_validator import validate

from doorstone.demo.seed import sheet_text
from doorstone.service.app import api_document, create_app
from doorstone.store import ledger
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.people import people
from tests.asking import NOTICE, RISK

ROOT = Path(__file__).parent.parent.parent
ADMIN = Actor("wilhelmina", "administrator", "test")


@pytest.fixture
def http(demo: Context) -> Iterator[httpx.Client]:
    secret = people.issue_token(demo, ADMIN, "test", "administrator", 9).secret
    transport = httpx.WSGITransport(app=create_app(demo, b"k" * 32), raise_app_exceptions=False)
    headers = {"Authorization": f"Bearer {secret}"}
    with httpx.Client(transport=transport, base_url="http://doorstone.test/api/v1", headers=headers) as client:
        yield client


def entries(context: Context) -> int:
    with context.database.read() as db:
        return ledger.last_seq(db)


REQUEST = {
    "release": "9.1",
    "requirements": ["security-chip", "processor-listed"],
    "devices": ["nbt-012"],
    "risk_acknowledged": RISK,
    "notice_acknowledged": NOTICE,
    "reason": "It works and is to be replaced.",
    "owner": "petra",
    "start_on": "2027-01-18",
    "expires_on": "2027-09-01",
    "review_on": "2027-05-01",
}


# ------------------------------------------------------------ the document


def test_the_document_is_valid_openapi() -> None:
    document = api_document()
    assert document["openapi"].startswith("3.1")
    validate(document)


def test_the_document_is_served_to_anybody(http: httpx.Client) -> None:
    del http.headers["Authorization"]
    assert http.get("/openapi.json").json() == api_document()


def test_answers_fit_the_document(http: httpx.Client) -> None:
    document = api_document()
    paths = [
        "/platforms", "/platforms/tarn", "/devices?platform=tarn", "/devices/nbt-012", "/devices/nbt-080/assessment",
        "/devices/nbt-012/overrides", "/devices/nbt-101/standing", "/devices/nbt-021/forecast", "/exceptions",
        "/exceptions/EX-0001", "/kits", "/kits/KT-0001", "/attempts", "/observations?device=nbt-101", "/people",
        "/overview?platform=tarn", "/forecast?platform=tarn", "/sorting?platform=tarn&release=9.1", "/ledger",
        "/ledger/check", "/session", "/tokens",
    ]  # fmt: skip
    by_path = {path.removeprefix("/api/v1"): item for path, item in document["paths"].items()}
    for path in paths:
        answer = http.get(path)
        assert answer.status_code == 200, path
        bare = path.partition("?")[0]
        template = next(
            t for t in by_path if "get" in by_path[t] and len(t.split("/")) == len(bare.split("/"))
            and all(a == b or a.startswith("{") for a, b in zip(t.split("/"), bare.split("/"), strict=True))
        )  # fmt: skip
        shape = by_path[template]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
        jsonschema.validate(answer.json(), {**shape, "components": document["components"]})


@pytest.mark.process
def test_the_consoles_types_are_those_of_the_document(tmp_path: Path) -> None:
    (tmp_path / "openapi.json").write_text(json.dumps(api_document(), indent=1))
    made = tmp_path / "schema.d.ts"
    tool = ROOT / "console" / "node_modules" / ".bin" / "openapi-typescript"
    subprocess.run([tool, tmp_path / "openapi.json", "-o", made], check=True, capture_output=True, cwd=ROOT / "console")
    held = (ROOT / "console" / "src" / "api" / "schema.d.ts").read_text()
    assert made.read_text() == held, "run 'make types'"


# --------------------------------------------------------------- problems


@pytest.mark.parametrize(
    ("method", "path", "more", "status", "slug"),
    [
        ("GET", "/nothing", {}, 404, "not-found"),
        ("PUT", "/people", {}, 405, "method-not-allowed"),
        ("GET", "/devices/gone", {}, 404, "missing"),
        ("GET", "/devices?platform=moon", {}, 404, "missing"),
        ("GET", "/devices", {}, 400, "bad-request"),
        ("GET", "/devices?platform=tarn&limit=0", {}, 400, "bad-request"),
        ("GET", "/devices?platform=tarn&colour=red", {}, 400, "bad-request"),
        ("GET", "/devices?platform=tarn&release=11", {}, 404, "missing"),
        ("POST", "/people", {"content": "{", "headers": {"Content-Type": "application/json"}}, 400, "bad-request"),
        ("POST", "/people", {"content": "name=x"}, 415, "media-type"),
        ("POST", "/people", {"json": {"name": "x"}}, 400, "bad-request"),
        ("POST", "/readings", {"json": {"form": "csv", "text": "device\n"}}, 422, "bad-input"),
        ("POST", "/exceptions/EX-0003/decision", {"json": {"move": "approve"}}, 428, "no-match"),
        (
            "POST",
            "/exceptions/EX-0003/decision",
            {"json": {"move": "approve"}, "headers": {"If-Match": "v1"}},
            400,
            "bad-request",
        ),
    ],
)
def test_every_error_is_a_problem_document(
    http: httpx.Client, method: str, path: str, more: dict[str, Any], status: int, slug: str
) -> None:
    answer = http.request(method, path, **more)
    problem = answer.json()
    assert (answer.status_code, problem["status"]) == (status, status)
    assert answer.headers["content-type"] == "application/problem+json"
    assert problem["type"] == f"urn:door-stone:problem:{slug}"
    assert problem["detail"]
    assert problem["instance"] == f"/api/v1{path.partition('?')[0]}"
    jsonschema.validate(problem, {"$ref": "#/components/schemas/Problem", "components": api_document()["components"]})


def test_a_405_says_what_is_allowed(http: httpx.Client) -> None:
    assert "GET" in http.put("/people").headers["allow"]


def test_a_crash_is_a_problem_document_too(http: httpx.Client, demo: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(type(demo.clock), "now", lambda _: 1 / 0)
    answer = http.get("/people")
    assert (answer.status_code, answer.json()["type"]) == (500, "urn:door-stone:problem:crash")
    assert "division" not in answer.text


def test_a_missing_thing_names_what_there_is(http: httpx.Client) -> None:
    problem = http.get("/devices?platform=tarn&release=11").json()
    assert problem["hint"] == "Use one of 8, 9.0, 9.1, 9.2, 9.3"


def test_a_bad_sheet_leaves_the_records_as_they_were(http: httpx.Client, demo: Context) -> None:
    text, lists = sheet_text()
    before = entries(demo)
    answer = http.post("/sheets", json={"text": text.replace('"cpu.arch"', '"cpu.arhc"'), "lists": lists})
    assert answer.status_code == 422
    entry = answer.json()["errors"][0]
    assert entry["detail"] == "Unknown fact 'cpu.arhc'"
    assert entry["pointer"].startswith("line 71, ")
    assert entries(demo) == before


def test_a_request_with_a_floor_names_device_and_reason(http: httpx.Client, demo: Context) -> None:
    before = entries(demo)
    asked = REQUEST | {"devices": ["nbt-012", "nbt-030"], "requirements": ["instruction-level", "security-chip"]}
    answer = http.post("/exceptions", json=asked)
    assert answer.status_code == 409
    places = {t["pointer"]: t["detail"] for t in answer.json()["errors"]}
    assert places["nbt-030, instruction-level"].startswith("Instruction level x86-64-v3 is a floor")
    assert entries(demo) == before


# ------------------------------------------------------ ETags, keys, pages


def test_an_unchanged_answer_is_not_sent_again(http: httpx.Client) -> None:
    first = http.get("/platforms")
    again = http.get("/platforms", headers={"If-None-Match": first.headers["etag"]})
    assert (again.status_code, again.content) == (304, b"")


def test_what_goes_stale_is_sent_again_though_its_version_stands(http: httpx.Client) -> None:
    first = http.get("/exceptions/EX-0002")
    facts = {"cpu.model": "Quern Q3-411"}
    line = {"device": "nbt-042", "source": "operator", "taken_at": "2027-01-17T10:00:00", "facts": facts}
    assert http.post("/readings", json={"form": "ndjson", "text": json.dumps(line)}).status_code == 201
    again = http.get("/exceptions/EX-0002", headers={"If-None-Match": first.headers["etag"]})
    assert (again.status_code, again.headers["etag"]) == (200, first.headers["etag"])
    assert list(again.json()["stale"]) == ["nbt-042"]


def test_a_stale_edit_is_refused_and_changes_nothing(http: httpx.Client, demo: Context) -> None:
    seen = http.get("/exceptions/EX-0003").headers["etag"]
    terms = {k: REQUEST[k] for k in ("reason", "owner", "start_on", "expires_on", "review_on")}
    assert seen == '"v1"'
    first = http.patch("/exceptions/EX-0003", json=terms | {"owner": "anselm"}, headers={"If-Match": seen})
    assert (first.status_code, first.headers["etag"]) == (200, '"v2"')
    before = entries(demo)
    second = http.patch("/exceptions/EX-0003", json=terms | {"owner": "odile"}, headers={"If-Match": seen})
    assert (second.status_code, second.json()["type"]) == (412, "urn:door-stone:problem:stale-edit")
    assert http.get("/exceptions/EX-0003").json()["owner"] == "anselm"
    assert entries(demo) == before


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("/exceptions", REQUEST),
        ("/kits", {"device": "nbt-021", "release": "9.1"}),
        (
            "/decisions",
            {"platform": "tarn", "requirement": "storage", "release": "9.1", "sort": "floor", "evidence": "trial",
             "note": "Tried on the bench."},
        ),
        (
            "/observations",
            {"device": "nbt-101", "seen_on": "2027-01-17", "update_class": "security", "result": "arrived"},
        ),
        (
            "/attempts",
            {"device": "nbt-021", "release": "9.1", "outcome": "abandoned", "started_at": "2027-01-17T08:00:00",
             "ended_at": "2027-01-17T09:00:00"},
        ),
        (
            "/readings",
            {"form": "ndjson", "text": '{"device": "x1", "source": "file", "taken_at": "2027-01-17", '
             '"facts": {"cpu.cores": 4}}'},
        ),
    ],
)  # fmt: skip
def test_the_same_key_makes_a_thing_once(http: httpx.Client, demo: Context, path: str, body: dict[str, Any]) -> None:
    key = {"Idempotency-Key": "one"}
    first = http.post(path, json=body, headers=key)
    assert first.status_code == 201, first.text
    before = entries(demo)
    again = http.post(path, json=body, headers=key)
    assert (again.status_code, again.json()) == (201, first.json())
    assert entries(demo) == before
    different = body | {"device": "nbt-033"} if "device" in body else body | {"text": "x"} if "text" in body else None
    if different is not None:
        other = http.post(path, json=different, headers=key)
        assert other.json()["type"] == "urn:door-stone:problem:reused-key"


def test_pages_are_linked(http: httpx.Client) -> None:
    answer = http.get("/devices?platform=tarn&limit=100")
    assert (answer.json()["total"], len(answer.json()["items"])) == (180, 100)
    following = http.get("http://doorstone.test" + answer.links["next"]["url"])
    assert len(following.json()["items"]) == 80
    assert "next" not in following.links
    seen = [item["id"] for page in (answer, following) for item in page.json()["items"]]
    assert len(set(seen)) == 180


def test_the_ledger_pages_to_its_first_entry(http: httpx.Client, demo: Context) -> None:
    url, seen = "/api/v1/ledger?limit=10", []
    while url:
        answer = http.get("http://doorstone.test" + url)
        seen += [item["seq"] for item in answer.json()["items"]]
        url = answer.links.get("next", {}).get("url", "")
    assert seen == list(range(entries(demo), 0, -1))


def test_a_kit_downloads_as_a_zip(http: httpx.Client) -> None:
    answer = http.get("/kits/KT-0003/archive")
    assert answer.headers["content-type"] == "application/zip"
    assert answer.headers["content-disposition"] == 'attachment; filename="KT-0003.zip"'
    assert answer.content[:2] == b"PK"


def test_the_sheet_comes_back_as_it_was_loaded(http: httpx.Client) -> None:
    assert http.get("/platforms/tarn/sheet").text == sheet_text()[0]
    assert http.get("/sheet-schema").json()["title"] == "Door Stone platform sheet"


def test_health_needs_nobody(http: httpx.Client) -> None:
    del http.headers["Authorization"]
    assert http.get("http://doorstone.test/healthz").json() == {"status": "ok"}
    assert http.get("http://doorstone.test/readyz").json()["today"] == "2027-01-18"
