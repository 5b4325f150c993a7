"""The check-up: each concern by hand, and the level of the whole."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.operations import Level, Vitals, check_up, worst
from doorstone.core.readings.history import Retention

AT = datetime(2027, 1, 18, 9)
WELL = Vitals(
    at=AT, schema_version=18, newest_schema_version=18, ledger_day=date(2027, 1, 17), records_bytes=40 * 2**20,
    free_bytes=3 * 2**30, devices=200, in_service=196, classes=94, readings=400, old_readings=3, contents=300,
    values=336, oldest_reading=date(2026, 9, 1), entries=103, waiting_deliveries=1,
    oldest_waiting=AT - timedelta(hours=2),
    given_up_deliveries=0, open_imports=0, failed_imports=0, last_round=AT - timedelta(seconds=20),
)  # fmt: skip


def levels(**changes: Any) -> dict[str, str]:
    return {check.name: check.level.value for check in check_up(replace(WELL, **changes), Retention(), 30)}


def test_a_service_that_does_well_says_what_it_holds() -> None:
    checks = check_up(WELL, Retention(365, 30), 30)
    assert {check.level for check in checks} == {Level.OK}
    assert worst(checks) is Level.OK
    words = {check.name: check.words for check in checks}
    assert words["records"].startswith("196 of 200 devices in service, 94 classes; 400 readings")
    assert words["disk"] == "40.0 MiB of records, 3.0 GiB free"
    assert "kept for 365 days if they moved an answer, else for 30; 3 older ones stay" in words["history"]
    assert words["rounds"] == "The last round ended 20 s ago; one is due every 30 s"


@pytest.mark.parametrize(
    ("changes", "name", "level"),
    [
        ({"free_bytes": 79 * 2**20, "records_bytes": 2**20}, "disk", "wrong"),
        ({"free_bytes": 300 * 2**20, "records_bytes": 200 * 2**20}, "disk", "look"),
        ({"schema_version": 17}, "schema", "wrong"),
        ({"ledger_day": date(2027, 1, 19)}, "clock", "wrong"),
        ({"failed_imports": 2}, "imports", "look"),
        ({"oldest_waiting": AT - timedelta(hours=25)}, "deliveries", "look"),
        ({"given_up_deliveries": 1}, "deliveries", "look"),
        ({"last_round": AT - timedelta(minutes=7)}, "rounds", "look"),
        ({"failed_round": "OSError: disk full"}, "rounds", "wrong"),
        ({"faults": ("ledger entry 7 was altered",)}, "whole", "wrong"),
        ({"faults": ()}, "whole", "ok"),
    ],
)
def test_what_is_not_well_is_named_with_what_to_do(changes: dict[str, Any], name: str, level: str) -> None:
    found = levels(**changes)
    assert found[name] == level
    assert {other for other in found if found[other] != "ok"} == ({name} if level != "ok" else set())
    checks = check_up(replace(WELL, **changes), Retention(), 30)
    assert worst(checks).value == level
    assert all(check.hint for check in checks if check.level is not Level.OK)


def test_without_rounds_nothing_is_said_of_them() -> None:
    assert "rounds" not in levels(last_round=None)
