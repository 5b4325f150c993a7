"""The plans of the statements behind pages and imports: none walks through a table that grows with the fleet."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest

from doorstone.store.devices import Filter
from doorstone.work import after, attempts, devices, exceptions, fleet, forecast, kits, people
from doorstone.work.desk import Desk
from tests.asking import PETRA, line, read
from tests.build import CHIPLESS, GOOD

GROWING = {"devices", "readings", "device_texts", "followups", "observations", "ledger"}
GROWING |= {"attempts", "kits", "verifications"}


def statements(desk: Desk, page: Callable[[Desk], object]) -> list[str]:
    """What a page asks of the database, with its parameters put in, at a desk that remembers nothing."""
    fresh = Desk(desk.database, desk.clock, desk.policy)
    heard: list[str] = []
    desk.database.connection.set_trace_callback(heard.append)
    try:
        page(fresh)
    finally:
        desk.database.connection.set_trace_callback(None)
    words = ("SELECT", "WITH", "INSERT", "UPDATE", "DELETE")
    return [text for text in heard if text.lstrip().upper().startswith(words)]


def listed(**where: str) -> Callable[[Desk], object]:
    return lambda desk: devices.list_devices(desk, "tarn", "9.1", Filter(**where), "", 50)


PAGES: dict[str, Callable[[Desk], object]] = {
    "overview": lambda desk: forecast.overview(desk, "tarn", "9.1"),
    "first page of devices": listed(),
    "a later page": lambda desk: devices.list_devices(desk, "tarn", "9.1", Filter(), "nbt-100", 50),
    "a page of one state": listed(state="floored"),
    "a page of one site": listed(site="Herbarium"),
    "a page of a site, a role and a mark": listed(
        site="Herbarium", role="reading-room", requirement="security-chip", mark="installer-check"
    ),
    "one device": lambda desk: devices.get_device(desk, "nbt-012", "9.1"),
    "its forecast": lambda desk: forecast.device_forecast(desk, "nbt-012", "9.1"),
    "its follow-ups": lambda desk: after.device_followups(desk, "nbt-101"),
    "its observations": lambda desk: attempts.list_observations(desk, "nbt-101"),
    "its attempts": lambda desk: attempts.list_attempts(desk, "nbt-101"),
    "its kits": lambda desk: kits.list_kits(desk, "nbt-101"),
    "the fleet by site": lambda desk: fleet.fleet_view(desk, "tarn", "9.1", by="site"),
    "one exception": lambda desk: exceptions.get_exception(desk, "EX-0005"),
    "who holds a token": lambda desk: people.who_holds(desk, "ds_none"),
    "an import of new and known devices": lambda desk: read(
        desk, line("new-1", GOOD), line("nbt-012", CHIPLESS, "2027-01-18T08:00:00")
    ),
    "a token issued": lambda desk: people.issue_token(desk, PETRA, "plan", "technician", 30),
}


@pytest.mark.parametrize("name", PAGES)
def test_no_page_walks_through_what_grows_with_the_fleet(demo: Desk, name: str) -> None:
    asked = statements(demo, PAGES[name])
    assert asked
    with demo.database.read() as db:
        for text in asked:
            for row in db.execute(f"EXPLAIN QUERY PLAN {text}"):
                found = re.match(r"SCAN (\w+)", row["detail"])
                table = _table(text, found[1]) if found else ""
                assert table not in GROWING or "USING COVERING INDEX" in row["detail"], (row["detail"], text)


HOT = {
    "a page of one site": "SEARCH d USING INDEX devices_at_site (platform=? AND site=? AND id>?)",
    "a later page": "SEARCH d USING INDEX devices_listed (platform=? AND id>?)",
    "a page of one state": "SEARCH d USING INDEX devices_profile (profile=? AND id>?)",
    "one device": "SEARCH d USING PRIMARY KEY (id=?)",
    "an import of new and known devices": "SEARCH d USING PRIMARY KEY (id=?)",
}


@pytest.mark.parametrize("name", HOT)
def test_the_hot_statement_of_a_page_is_answered_from_its_index(demo: Desk, name: str) -> None:
    asked = statements(demo, PAGES[name])
    with demo.database.read() as db:
        details = [row["detail"] for text in asked for row in db.execute(f"EXPLAIN QUERY PLAN {text}")]
    assert HOT[name] in details


def _table(text: str, name: str) -> str:
    """The table behind a name of the plan, which may be an alias."""
    found = re.search(rf"\b(\w+) AS {name}\b", text)
    return found[1] if found else name
