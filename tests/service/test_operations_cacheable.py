"""Answers that are made once while the records stand still, and scripts that come compressed."""

from __future__ import annotations

import gzip
import re
from importlib import resources

import pytest
from flask.testing import FlaskClient

from doorstone.service.app import create_app
from doorstone.service.operations import EVERYONE
from doorstone.service.resources import OPERATIONS
from doorstone.work import sorting
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.people import people
from tests.asking import ADMIN, line, read
from tests.build import CHIPLESS, GOOD

OVERVIEW = "/api/v1/overview?platform=tarn&release=9.1"


@pytest.fixture
def web(context: Context) -> FlaskClient:
    """A client of the service, as an administrator."""
    token = people.issue_token(context, ADMIN, "test", "administrator", 30).secret
    client = create_app(context, b"k" * 32).test_client()
    client.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {token}"
    return client


def test_an_answer_changes_with_the_records_and_at_once(web: FlaskClient, context: Context) -> None:
    read(context, line("d1", GOOD))
    first = web.get(OVERVIEW)
    again = web.get(OVERVIEW)
    assert (first.json, first.headers["ETag"]) == (again.json, again.headers["ETag"])
    assert web.get(OVERVIEW, headers={"If-None-Match": first.headers["ETag"]}).status_code == 304
    read(context, line("d2", CHIPLESS))
    after = web.get(OVERVIEW, headers={"If-None-Match": first.headers["ETag"]})
    assert after.status_code == 200
    assert after.json is not None
    assert (after.json["states"] if "states" in after.json else after.json["roll_up"]["states"])["needs-exception"] == 1


def test_a_decision_reaches_the_list_and_the_device_with_the_next_call(web: FlaskClient, context: Context) -> None:
    read(context, line("d1", CHIPLESS))

    def states() -> tuple[str, str]:
        listed = web.get("/api/v1/devices?platform=tarn&release=9.1").json
        one = web.get("/api/v1/devices/d1?release=9.1").json
        assert listed is not None
        assert one is not None
        return listed["items"][0]["state"], one["device"]["state"]

    assert states() == ("needs-exception", "needs-exception")
    sorting.decide(
        context, ADMIN, "tarn", "security-chip", "9.1", "release", "", "floor", "trial", "It stops at start."
    )
    assert states() == ("floored", "floored")


def test_who_may_not_is_refused_though_the_answer_is_known(web: FlaskClient, context: Context) -> None:
    read(context, line("d1", GOOD))
    assert web.get(OVERVIEW).status_code == 200
    narrow = people.issue_token(context, Actor("petra", "technician", "test"), "narrow", "reporter", 30).secret
    assert web.get(OVERVIEW, headers={"Authorization": f"Bearer {narrow}"}).status_code == 403
    assert web.get(OVERVIEW, headers={"Authorization": "Bearer ds_wrong"}).status_code == 401


@pytest.mark.parametrize(
    ("wrong", "code"),
    [("platform=none", 404), ("platform=tarn&release=7", 404), ("platform=tarn&colour=green", 400), ("", 400)],
)
def test_a_wrong_question_is_refused_each_time(web: FlaskClient, wrong: str, code: int) -> None:
    assert [web.get(f"/api/v1/overview?{wrong}").status_code for _ in range(2)] == [code, code]


def test_only_answers_that_are_the_same_for_everybody_are_kept() -> None:
    kept = [operation for operation in OPERATIONS if operation.cacheable]
    assert {operation.name for operation in kept} == {
        "overview", "list_devices", "get_device", "list_uncovered", "fleet_view", "compare_fleet", "fix_round",
        "fleet_forecast", "budget_paper",
    }  # fmt: skip
    assert all(o.method == "GET" and o.roles == EVERYONE and o.affected_devices is None for o in kept)


def test_of_answers_that_grow_with_the_fleet_the_last_one_is_kept(web: FlaskClient, context: Context) -> None:
    sites = ("Herbarium", "Gate", "Library")
    read(context, *(line(f"d-{site}".lower(), CHIPLESS, site=site) for site in sites))
    for site in sites:
        assert web.get(f"/api/v1/fixes?platform=tarn&site={site}").status_code == 200
        assert web.get(f"/api/v1/devices?platform=tarn&site={site}").status_code == 200
    kept = [key[1] for key in context.cache._entries if key[0] == "answer"]
    assert (kept.count("fix_round"), kept.count("list_devices")) == (1, 3)


def test_scripts_come_compressed_to_whom_takes_them_so(web: FlaskClient) -> None:
    page = (resources.files("doorstone.service") / "pages" / "index.html").read_text("utf-8")
    found = re.search(r'src="(/assets/[^"]+\.js)"', page)
    assert found is not None
    plain = web.get(found[1], headers={"Accept-Encoding": "identity"})
    small = web.get(found[1], headers={"Accept-Encoding": "gzip, br"})
    assert "Content-Encoding" not in plain.headers
    assert (small.headers["Content-Encoding"], small.headers["Vary"]) == ("gzip", "Accept-Encoding")
    assert gzip.decompress(small.data) == plain.data
    assert len(small.data) < len(plain.data) / 2
    none = web.get(found[1], headers={"Accept-Encoding": "gzip;q=0"})
    assert none.data == plain.data
