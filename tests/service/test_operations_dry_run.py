"""Every writing call can be rehearsed: all its checks are made, it says what would happen, and nothing is kept."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

import httpx
import pytest

from doorstone.client import BadInputError, Client, StaleEditError
from doorstone.core.devices.filter import DeviceFilter
from doorstone.demo.seed import sheet_text
from doorstone.service.app import create_app
from doorstone.service.resources import OPERATIONS
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError
from doorstone.work.devices import views
from doorstone.work.exceptions.uncovered import list_uncovered
from doorstone.work.forecast import forecasts
from doorstone.work.people import people
from tests.running import Run, data

WRITING = [one for one in OPERATIONS if one.method != "GET" and one.roles]


def state(context: Context) -> str:
    """A digest of every row of every table."""
    with context.database.read() as db:
        tables = [r[0] for r in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name")]
        rows = [[tuple(row) for row in db.execute(f"SELECT * FROM {table}")] for table in tables]  # noqa: S608
    return hashlib.sha256(repr(rows).encode()).hexdigest()


@pytest.fixture
def call(demo: Context) -> Callable[..., httpx.Response]:
    app = create_app(demo, b"k" * 32)
    who = Actor("wilhelmina", "administrator", "test")
    secret = people.issue_token(demo, who, "test", "administrator", 30, session=True).secret
    client = httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test/api/v1")

    def ask(method: str, path: str, **more: Any) -> httpx.Response:
        headers = {"Authorization": f"Bearer {secret}", **more.pop("headers", {})}
        return client.request(method, path, headers=headers, **more)

    return ask


def test_every_writing_operation_takes_a_dry_run_or_refuses_it(call: Callable[..., httpx.Response]) -> None:
    none = {one.name for one in WRITING if not one.rehearsed}
    assert none == {"sign_out", "send_import_file"}  # the first writes no record, the second's import is begun dry
    assert call("DELETE", "/session", params={"dry_run": "true"}).status_code == 400


def test_a_rehearsed_cancelling_leaves_the_import_waiting(call: Callable[..., httpx.Response]) -> None:
    name = call("POST", "/imports", json={"form": "ndjson", "name": "late.ndjson"}).json()["id"]
    rehearsed = call("DELETE", f"/imports/{name}", params={"dry_run": "true"})
    assert (rehearsed.status_code, rehearsed.json()["state"]) == (200, "cancelled")
    assert call("GET", f"/imports/{name}").json()["state"] == "waiting"


CALLS: list[tuple[str, str, dict[str, Any], int]] = [
    ("PUT", "/selections/gate", {"json": {"platform": "tarn", "where": {"site": "Visitor Gate"}}}, 200),
    ("POST", "/devices/nbt-102/fixes", {"json": {"title": "Fit 8 GiB", "outcome": "failed", "note": "It broke."}}, 200),
    ("PATCH", "/devices/nbt-101", {"json": {"site": "Herbarium", "note": "It was moved there."}}, 200),
    ("POST", "/exceptions/EX-0001/comments", {"json": {"text": "Seen.", "question": False}}, 200),
    ("POST", "/people", {"json": {"name": "ines", "role": "viewer", "password": "quiet-harbour-stones"}}, 200),
    ("POST", "/webhooks", {"json": {"url": "https://told.northmere.example/in", "kinds": []}}, 200),
    ("POST", "/kits", {"json": {"device": "nbt-102", "release": "9.1"}}, 200),
    ("POST", "/tokens", {"json": {"name": "t", "role": "viewer", "days": 3}}, 200),
]


@pytest.mark.parametrize(("method", "path", "more", "expected"), CALLS, ids=[c[1] for c in CALLS])
def test_a_dry_run_answers_what_would_be_made_and_keeps_nothing(
    demo: Context, call: Callable[..., httpx.Response], method: str, path: str, more: dict[str, Any], expected: int
) -> None:
    before = state(demo)
    answer = call(method, path, params={"dry_run": "true"}, headers={"Idempotency-Key": "once"}, **more)
    if answer.status_code >= 400:  # refused as the real one is, in the same words
        assert answer.json() == call(method, path, **more).json()
    else:
        assert answer.status_code == expected, answer.text
    assert state(demo) == before
    if answer.status_code < 400:
        real = call(method, path, headers={"Idempotency-Key": "once"}, **more)
        assert real.status_code in (200, 201)
        assert real.json().keys() == answer.json().keys()
        assert real.json().get("id") == answer.json().get("id")
        assert state(demo) != before


def pages(context: Context) -> list[Any]:
    """What pages answer that rest on what is kept between calls."""
    found: list[Any] = [forecasts.overview(context, "tarn", release) for release in ("9.1", "9.2")]
    found += [
        views.list_devices(context, "tarn", "9.1", DeviceFilter(state=state), "", 200) for state in ("", "excepted")
    ]
    found += [views.get_device(context, name, "9.1") for name in ("nbt-101", "nbt-102", "nbt-012")]
    return [*found, forecasts.device_forecast(context, "nbt-102", "9.1"), list_uncovered(context, "tarn")]


def test_nothing_that_a_dry_run_has_seen_is_remembered(demo: Context, call: Callable[..., httpx.Response]) -> None:
    """Each changes how devices are settled or sorted; afterwards pages answer as in a service just started."""
    text, lists = sheet_text()
    assert "memory.mib" in text
    sheet = {"name": "tarn.toml", "text": text.replace("at_least = 6144", "at_least = 8192"), "lists": lists}
    contested = call("GET", "/disputes", params={"platform": "tarn"}).json()["items"][0]
    tried: list[tuple[str, str, dict[str, Any]]] = [
        ("POST", "/sheets", sheet),
        ("POST", "/devices/nbt-073/fixes", {"title": "Switch Secure Boot on in firmware set-up", "outcome": "done"}),
        ("PATCH", "/devices/nbt-101", {"site": "Herbarium", "note": "It was moved there."}),
        ("POST", "/settlements", {"device": contested["device"], "kind": contested["kind"],
                                  "subject": contested["subject"], "value": contested["sides"][-1]["value"],
                                  "reason": "Looked at in firmware set-up."}),
        ("POST", "/decisions", {"platform": "tarn", "requirement": "security-chip", "release": "9.1",
                                "scope": "release", "target": "", "sort": "floor", "evidence": "trial",
                                "note": "It did not start."}),
    ]  # fmt: skip
    pages(demo)
    done = 0
    for method, path, body in tried:
        answer = call(method, path, params={"dry_run": "true"}, json=body)
        done += answer.status_code < 300
        assert pages(demo) == pages(Context(demo.database, demo.clock, demo.policy)), path
    assert done == len(tried)


def test_a_dry_run_refuses_what_the_real_one_refuses(as_role: Callable[[str], Client], demo: Context) -> None:
    approver = as_role("approver")
    approver.dry_run = True
    version, before = approver.exception("EX-0001").version, state(demo)
    with pytest.raises(BadInputError, match="takes a reason"):
        approver.decide_exception("EX-0001", "revoke", version)
    ended = approver.decide_exception("EX-0001", "revoke", version, "It is no longer needed.")
    assert ended.state == "revoked"
    with pytest.raises(StaleEditError):
        approver.decide_exception("EX-0001", "close", version + 90, "Done.")
    assert approver.exception("EX-0001").state == "approved"
    assert state(demo) == before


def test_other_words_than_true_and_false_are_refused(call: Callable[..., httpx.Response]) -> None:
    answer = call("PUT", "/selections/gate", params={"dry_run": "yes"}, json={"platform": "tarn", "where": {}})
    assert (answer.status_code, answer.json()["detail"]) == (400, "'yes' is no value of dry_run")


def test_every_writing_command_takes_it_and_says_so(run: Run) -> None:
    done = run("exception", "revoke", "EX-0001", "--note", "It is no longer needed.", "--yes", "-n", by="anselm")
    assert done.returncode == 0, done.stderr
    assert "Nothing was changed; it was a dry run." in done.stderr
    assert data(run("exception", "show", "EX-0001", "--format", "json", by="anselm"))["state"] == "approved"
    made = run("kit", "make", "nbt-102", "--dry-run", by="petra")
    assert "Next:" not in made.stderr
    again = run("selection", "save", "Gate", "--site", "Visitor Gate", "-n", by="petra")
    assert "dry run" in again.stderr
    assert "Gate" not in run("selection", "list", by="petra").stdout


def test_what_only_asks_can_write_nothing_and_lets_pages_by(
    call: Callable[..., httpx.Response], demo: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen: list[tuple[bool, int]] = []

    def note(context: Context, *_: object) -> None:
        seen.append((context.database.reads_only, context.write_priority.writers))
        raise MissingError("Seen", "Go on")

    monkeypatch.setattr("doorstone.work.forecast.budgets.budget_plan", note)
    for asked in ({}, {"dry_run": "true"}):
        assert call("POST", "/plan", json={"platform": "tarn", "budget": "5"}, params=asked).status_code == 404
    assert seen == [(True, 0), (True, 0)]
    asking = {one.name for one in OPERATIONS if one.asks}
    assert {"sheet_impact", "match_list", "what_if", "what_if_fleet", "media_plan", "kit_cases"} < asking
