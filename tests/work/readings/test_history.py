"""History that ends: what nothing rests on is forgotten, and what is current or was decided on stays."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from doorstone.core.readings.history import PastReading, Retention, forgotten
from doorstone.store.devices import devices as device_store
from doorstone.work.context.context import Context
from doorstone.work.readings.history import thin_history
from tests.asking import granted, line, on, read
from tests.build import CHIPLESS, GOOD

TODAY = date(2027, 1, 18)


def past(day: str, source: str = "collector", *, changed: bool = False) -> PastReading:
    return PastReading(source, f"2027-01-{day}T08:00:00", 1, changed)


def days(found: list[PastReading]) -> list[str]:
    return sorted(one.taken_at[8:10] for one in found)


def test_a_reading_goes_after_its_days_and_not_on_the_last_of_them() -> None:
    held = [past("01"), past("02", changed=True), past("08"), past("09"), past("18")]
    assert days(forgotten(held, [], [], Retention(15, 10), TODAY)) == ["01", "02"]
    assert days(forgotten(held, [], [], Retention(16, 10), TODAY)) == ["01"]
    assert days(forgotten(held, [], [], Retention(16, 9), TODAY)) == ["01", "08"]


def test_what_is_current_and_the_last_of_each_source_before_a_decision_stay() -> None:
    held = [past("01"), past("02"), past("03"), past("02", "file"), past("04", "file")]
    kept_for = ["2027-01-02T09:00:00"]
    assert days(forgotten(held, [("collector", "2027-01-03T08:00:00")], kept_for, Retention(1, 1), TODAY)) == [
        "01",
        "04",
    ]


def readings_of(context: Context, device: str) -> list[str]:
    with context.database.read() as db:
        return sorted(one.taken_at[:10] for one in device_store.readings(db, device))


def test_a_year_of_daily_readings_is_thinned_and_the_device_stays_what_it_is(context: Context) -> None:
    def daily(facts: dict[str, Any], device: str, days_ago: range) -> None:
        for ago in days_ago:
            at = (TODAY - timedelta(days=ago)).isoformat() + "T08:00:00"
            read(context, line(device, {**facts, "disk.free_gib": 20 + ago % 60}, at=at))

    daily(dict(CHIPLESS), "d1", range(60, 0, -1))
    daily(dict(GOOD), "d2", range(60, 40, -1))
    granted(context, "d1")  # it rests on the reading of the day before
    later = on(context, "2027-03-10")
    with context.database.read() as db:
        before = device_store.records(db, ["d1", "d2"])
        contents = db.execute("SELECT COUNT(*) FROM reading_contents").fetchone()[0]
    assert thin_history(later, 1) + thin_history(later, 1) == 58 + 18  # the first moved an answer and stays for a year
    assert readings_of(later, "d1") == ["2026-11-19", "2027-01-17"]
    assert readings_of(later, "d2") == ["2026-11-19", "2026-12-08"]
    assert thin_history(later) == 0  # the turn is over
    assert thin_history(later) == 0  # and begins anew
    with context.database.read() as db:
        assert device_store.records(db, ["d1", "d2"]) == before
        assert db.execute("SELECT COUNT(*) FROM reading_contents").fetchone()[0] == contents - 76
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    last = on(context, "2028-03-10")
    thin_history(last)
    assert readings_of(last, "d1") == ["2027-01-17"]
