"""The plans of the statements behind the pages: none of them walks through a table that grows with the fleet."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest

from doorstone.store.devices import Filter
from doorstone.work import after, attempts, devices, exceptions, fleet, forecast, kits
from doorstone.work.desk import Desk

GROWING = {"devices", "readings", "device_facts", "device_verdicts", "followups", "observations", "ledger"}
GROWING |= {"attempts", "kits", "verifications"}


def statements(desk: Desk, page: Callable[[Desk], object]) -> list[str]:
    """What a page asks of the database, with its parameters put in; asked twice, so that nothing is made anew."""
    page(desk)
    heard: list[str] = []
    with desk.database.read() as db:
        db.set_trace_callback(heard.append)
    try:
        page(desk)
    finally:
        with desk.database.read() as db:
            db.set_trace_callback(None)
    return [text for text in heard if text.lstrip().upper().startswith(("SELECT", "WITH"))]


PAGES: dict[str, Callable[[Desk], object]] = {
    "overview": lambda desk: forecast.overview(desk, "tarn", "9.1"),
    "first page of devices": lambda desk: devices.list_devices(desk, "tarn", "9.1", Filter(), "", 50),
    "a later page": lambda desk: devices.list_devices(desk, "tarn", "9.1", Filter(), "nbt-100", 50),
    "one device": lambda desk: devices.get_device(desk, "nbt-012", "9.1"),
    "its forecast": lambda desk: forecast.device_forecast(desk, "nbt-012", "9.1"),
    "its follow-ups": lambda desk: after.device_followups(desk, "nbt-101"),
    "its observations": lambda desk: attempts.list_observations(desk, "nbt-101"),
    "its attempts": lambda desk: attempts.list_attempts(desk, "nbt-101"),
    "its kits": lambda desk: kits.list_kits(desk, "nbt-101"),
    "the fleet by site": lambda desk: fleet.fleet_view(desk, "tarn", "9.1", by="site"),
    "the fleet's forecast": lambda desk: forecast.fleet_forecast(desk, "tarn", "9.1"),
    "one exception": lambda desk: exceptions.get_exception(desk, "EX-0005"),
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


def _table(text: str, name: str) -> str:
    """The table behind a name of the plan, which may be an alias."""
    found = re.search(rf"\b(\w+) AS {name}\b", text)
    return found[1] if found else name
