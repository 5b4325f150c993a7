"""History that ends: what nothing rests on is forgotten, and what is current or was decided on stays."""

from __future__ import annotations

import random
from datetime import date, timedelta
from typing import Any

from doorstone.core.readings.history import PastReading, Retention, thinned
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import ReadingRow
from doorstone.work.context.context import Context
from doorstone.work.devices.views import device_readings
from doorstone.work.operations.doctor import look_over
from doorstone.work.readings.history import thin_history
from tests.asking import granted, line, on, read
from tests.build import CHIPLESS, GOOD

TODAY = date(2027, 1, 18)


def counted(context: Context) -> bool:
    """Whether every content that only readings hold says how many do."""
    with context.database.read() as db:
        return not db.execute(
            "SELECT 1 FROM reading_contents AS c WHERE merged = 0"
            " AND readings <> (SELECT COUNT(*) FROM readings AS r WHERE r.content = c.id)"
        ).fetchall()


def past(day: str, source: str = "collector", *, changed: bool = False) -> PastReading:
    return PastReading(source, f"2027-01-{day}T08:00:00", 1, changed)


def forgotten(held: list[PastReading], current: list[tuple[str, str]], decided: list[str], of: Retention) -> list[str]:
    return sorted(one.taken_at[8:10] for one in thinned(held, current, decided, of, TODAY).forget)


def test_a_reading_goes_after_its_days_and_not_on_the_last_of_them() -> None:
    held = [past("01"), past("02", changed=True), past("08"), past("09"), past("18")]
    assert forgotten(held, [], [], Retention(15, 10)) == ["01", "02"]
    assert forgotten(held, [], [], Retention(16, 10)) == ["01"]
    assert forgotten(held, [], [], Retention(16, 9)) == ["01", "08"]


def test_what_is_current_and_the_last_of_each_source_before_a_decision_stay() -> None:
    held = [past("01"), past("02"), past("03"), past("02", "file"), past("04", "file")]
    kept_for = ["2027-01-02T09:00:00"]
    assert forgotten(held, [("collector", "2027-01-03T08:00:00")], kept_for, Retention(1, 1)) == ["01", "04"]


def test_what_moved_no_answer_becomes_quiet_beside_the_last_that_did() -> None:
    held = [
        PastReading("collector", "2027-01-08T08:00:00", 70, changed=False),  # nothing before it to be told apart from
        PastReading("collector", "2027-01-09T08:00:00", 71, changed=True),
        PastReading("collector", "2027-01-10T08:00:00", 72, changed=False),
        PastReading("file", "2027-01-11T08:00:00", 73, changed=True),
        PastReading("collector", "2027-01-12T08:00:00", 71, changed=False, quiet=True),
        PastReading("collector", "2027-01-13T08:00:00", 74, changed=False),
        PastReading("collector", "2027-01-14T08:00:00", 75, changed=False),  # an approval rests on it
        PastReading("collector", "2027-01-15T08:00:00", 76, changed=False),  # current
    ]
    found = thinned(held, [("collector", "2027-01-15T08:00:00")], ["2027-01-14T09:00:00"], Retention(365, 30), TODAY)
    assert found.forget == ()
    assert [(one.content, base) for one, base in found.quieten] == [(72, 71), (74, 71)]
    never = [PastReading("file", f"2027-01-{day}T08:00:00", int(day), changed=False) for day in ("12", "11", "13")]
    assert [(one.content, base) for one, base in thinned(never, [], [], Retention(365, 30), TODAY).quieten] == [
        (12, 11), (13, 11),
    ]  # fmt: skip
    later = thinned(held, [], [], Retention(365, 5), date(2027, 1, 18))
    assert [one.taken_at[8:10] for one in later.forget] == ["08", "10", "12"]


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
    assert counted(context)
    last = on(context, "2028-03-10")
    thin_history(last)
    assert readings_of(last, "d1") == ["2027-01-17"]


def test_a_quiet_reading_says_what_it_said_in_full(context: Context) -> None:
    chance = random.Random(7)
    for ago in range(20, 0, -1):
        at = (TODAY - timedelta(days=ago)).isoformat()
        facts = {**GOOD, "disk.free_gib": chance.randrange(20, 25), "os.pending_updates": chance.randrange(3)}
        if ago == 12:
            facts["tpm.state"] = "off"  # it moves answers, and back
        if ago == 9:
            del facts["os.pending_updates"]  # other facts: it cannot be told apart from one before
        for device in ("d1", "d2"):
            read(context, line(device, facts, at=f"{at}T0{chance.randrange(10)}:10:0{chance.randrange(10)}"))
        read(context, line("d1", {"disk.free_gib": 5 + ago}, at=f"{at}T12:00:00", source="file", texts=["No chip."]))
    with context.database.read() as db:
        before = {device: device_store.readings(db, device, 100) for device in ("d1", "d2")}
        records = device_store.records(db, ["d1", "d2"])
    assert [len(held) for held in before.values()] == [40, 20]
    assert thin_history(context) == 0
    with context.database.read() as db:
        assert {device: device_store.readings(db, device, 100) for device in ("d1", "d2")} == before
        assert device_store.records(db, ["d1", "d2"]) == records
        full = db.execute("SELECT COUNT(*) FROM readings").fetchone()[0]
        small = db.execute("SELECT COUNT(*) FROM quiet_readings").fetchone()[0]
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    assert (full + small, small > 40) == (60, True)
    paged: list[ReadingRow] = []
    cursor: str | None = ""
    while cursor is not None:
        page = device_readings(context, "d1", cursor, 7)
        assert len(page.readings) <= 7
        paged, cursor = paged + page.readings, page.next
    assert paged == before["d1"]
    assert look_over(context).vitals.readings == 60
    read(context, line("d1", GOOD, at=before["d1"][0].taken_at, source="file"))  # the same reading comes again
    assert thin_history(context) == 0
    later = on(context, "2027-06-18")
    assert thin_history(later) > 40
    with context.database.read() as db:
        assert db.execute("SELECT COUNT(*) FROM quiet_readings").fetchone()[0] == 0
        last = device_store.readings(db, "d2", 100)
    assert last == [one for one in before["d2"] if one in last]
    assert counted(context)


def test_a_content_counts_its_readings_whatever_comes_again(context: Context) -> None:
    """The same reading twice, another in its place, one content on two devices: what nothing holds goes."""
    first, second, third = ({**GOOD, "disk.free_gib": free} for free in (31, 32, 33))
    day = "2027-01-0{}T08:00:00".format
    for facts, device, at in (
        (first, "d1", 1), (first, "d1", 1), (first, "d2", 1), (second, "d1", 2), (third, "d1", 2), (second, "d1", 1),
        (first, "d2", 2), (third, "d2", 3), (third, "d1", 3), (second, "d1", 3), (GOOD, "d1", 4), (GOOD, "d2", 4),
    ):  # fmt: skip
        read(context, line(device, facts, at=day(at)))
        assert counted(context)
    thin_history(on(context, "2029-03-10"))
    assert (readings_of(context, "d1"), readings_of(context, "d2")) == (["2027-01-04"], ["2027-01-04"])
    assert counted(context)
    with context.database.read() as db:
        assert db.execute("SELECT COUNT(*) FROM reading_contents").fetchone()[0] == 1


def test_no_number_of_a_content_is_given_out_twice(context: Context) -> None:
    """Caches hold contents by their number."""
    read(context, line("d1", GOOD, at="2027-01-10T08:00:00"))
    read(context, line("d1", {**GOOD, "disk.free_gib": 31}, at="2027-01-11T08:00:00"))  # the newest content
    read(context, line("d1", GOOD, at="2027-01-12T08:00:00"))  # the first content again
    with context.database.read() as db:
        newest = db.execute("SELECT MAX(id) FROM reading_contents").fetchone()[0]
    thin_history(context)
    read(context, line("d1", {**GOOD, "disk.free_gib": 77}, at="2027-01-13T08:00:00"))
    with context.database.read() as db:
        assert db.execute("SELECT MAX(id) FROM reading_contents").fetchone()[0] == newest + 1
        assert device_store.readings(db, "d1")[0].facts["disk.free_gib"] == 77


def test_room_of_forgotten_readings_goes_back_to_the_disk(context: Context) -> None:
    with context.database.write() as db:
        db.execute("CREATE TABLE ballast (body BLOB)")
        db.execute("INSERT INTO ballast VALUES (zeroblob(1000000))")
    with context.database.write() as db:
        db.execute("DROP TABLE ballast")

    def pages(name: str) -> int:
        with context.database.read() as db:
            return int(db.execute(f"PRAGMA {name}").fetchone()[0])

    before, free = pages("page_count"), pages("freelist_count")
    assert free > 240  # a million bytes in pages of 4,096
    thin_history(context)
    assert pages("freelist_count") == 0
    assert pages("page_count") <= before - 240
