"""The plans of the statements behind pages and imports: none walks through a table that grows with the fleet."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store.devices import profiles
from doorstone.work import attempts, fleet, followups
from doorstone.work.context.context import Context
from doorstone.work.devices import views as devices
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.forecast import forecasts
from doorstone.work.kits import kits
from doorstone.work.people import people
from doorstone.work.updates import list_observations
from tests.asking import PETRA, line, read
from tests.build import CHIPLESS, GOOD

GROWING = {"devices", "readings", "failure_messages", "followups", "observations", "ledger"}
GROWING |= {"attempts", "kits", "verifications"}


def statements(context: Context, page: Callable[[Context], object]) -> list[str]:
    """What a page asks of the database, with its parameters put in, at a context that remembers nothing."""
    fresh = Context(context.database, context.clock, context.policy)
    heard: list[str] = []
    context.database.connection.set_trace_callback(heard.append)
    try:
        page(fresh)
    finally:
        context.database.connection.set_trace_callback(None)
    words = ("SELECT", "WITH", "INSERT", "UPDATE", "DELETE")
    return [text for text in heard if text.lstrip().upper().startswith(words)]


def listed(**where: str) -> Callable[[Context], object]:
    return lambda context: devices.list_devices(context, "tarn", "9.1", DeviceFilter(**where), "", 50)


PAGES: dict[str, Callable[[Context], object]] = {
    "overview": lambda context: forecasts.overview(context, "tarn", "9.1"),
    "first page of devices": listed(),
    "a later page": lambda context: devices.list_devices(context, "tarn", "9.1", DeviceFilter(), "nbt-100", 50),
    "a page of one state": listed(state="floored"),
    "a page of one site": listed(site="Herbarium"),
    "a page of a site, a role and a mark": listed(
        site="Herbarium", role="reading-room", requirement="security-chip", mark="installer-check"
    ),
    "one device": lambda context: devices.get_device(context, "nbt-012", "9.1"),
    "its forecast": lambda context: forecasts.device_forecast(context, "nbt-012", "9.1"),
    "its follow-ups": lambda context: followups.device_followups(context, "nbt-101"),
    "its observations": lambda context: list_observations(context, "nbt-101"),
    "its attempts": lambda context: attempts.list_attempts(context, "nbt-101"),
    "its kits": lambda context: kits.list_kits(context, "nbt-101"),
    "the fleet by site": lambda context: fleet.fleet_view(context, "tarn", "9.1", by="site"),
    "one exception": lambda context: exceptions.get_exception(context, "EX-0005"),
    "who holds a token": lambda context: people.who_holds(context, "ds_none"),
    "an import of new and known devices": lambda context: read(
        context, line("new-1", GOOD), line("nbt-012", CHIPLESS, "2027-01-18T08:00:00")
    ),
    "what has aged out": lambda context: profiles.fallen(context.database.connection, "2027-04-01"),
    "a token issued": lambda context: people.issue_token(context, PETRA, "plan", "technician", 30),
}


@pytest.mark.parametrize("name", PAGES)
def test_no_page_walks_through_what_grows_with_the_fleet(demo: Context, name: str) -> None:
    asked = statements(demo, PAGES[name])
    assert asked
    with demo.database.read() as db:
        for text in asked:
            for row in db.execute(f"EXPLAIN QUERY PLAN {text}"):
                found = re.match(r"SCAN (\w+)", row["detail"])
                table = _table(text, found[1]) if found else ""
                assert table not in GROWING or "USING COVERING INDEX" in row["detail"], (row["detail"], text)


@pytest.mark.parametrize("name", PAGES)
def test_a_statement_on_listed_names_begins_with_the_list(demo: Context, name: str) -> None:
    few = {"pairs", "content_shapes", "fact_names"}  # pairs are of site and role
    asked = [text for text in statements(demo, PAGES[name]) if "json_each" in text]
    with demo.database.read() as db:
        for text in asked:
            steps: dict[int, list[str]] = {}
            for row in db.execute(f"EXPLAIN QUERY PLAN {text}"):
                if found := re.match(r"(?:SCAN|SEARCH) (\w+)(?: VIRTUAL TABLE)?", row["detail"]):
                    steps.setdefault(row["parent"], []).append(found[0])
            for loops in steps.values():
                late = [step for step in loops[1:] if step.endswith("VIRTUAL TABLE")]
                assert not late or _table(text, loops[0].split()[1]) in few, (loops, text)


HOT = {
    "a page of one site": "SEARCH d USING INDEX devices_at_site (platform=? AND site=? AND id>?)",
    "a later page": "SEARCH d USING INDEX devices_listed (platform=? AND id>?)",
    "a page of one state": "SEARCH d USING INDEX devices_profile (profile=? AND id>?)",
    "what has aged out": "SEARCH d USING INDEX devices_read (<expr>=? AND stands_until<?)",
    "one device": "SEARCH d USING PRIMARY KEY (id=?)",
    "an import of new and known devices": "SEARCH d USING PRIMARY KEY (id=?)",
}


@pytest.mark.parametrize("name", HOT)
def test_the_hot_statement_of_a_page_is_answered_from_its_index(demo: Context, name: str) -> None:
    asked = statements(demo, PAGES[name])
    with demo.database.read() as db:
        details = [row["detail"] for text in asked for row in db.execute(f"EXPLAIN QUERY PLAN {text}")]
    assert HOT[name] in details


def _table(text: str, name: str) -> str:
    """The table behind a name of the plan, which may be an alias."""
    found = re.search(rf"\b(\w+) AS {name}\b", text)
    return found[1] if found else name


def test_no_table_of_long_rows_compares_keys_by_reading_whole_rows(context: Context) -> None:
    long = {"exception_approvals": "shown", "ledger_changes": "change", "ledger": "body", "reading_contents": "more"}
    with context.database.read() as db:
        for table, column in long.items():
            (sql,) = db.execute("SELECT sql FROM sqlite_master WHERE name = ?", (table,)).fetchone()
            assert column in sql, table
            assert "WITHOUT ROWID" not in sql, table
