"""The demo's year: the records as they stand, opened on five later days, each worked out by hand from their terms."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import date, datetime
from pathlib import Path

import httpx
import pytest

from doorstone.client.client import Client
from doorstone.demo import start
from doorstone.service import scheduler
from doorstone.service.app import create_app
from doorstone.store.database import Database
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.people import people
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import after_exception
from tests.conftest import PASSWORDS

D = date.fromisoformat
MARCH, JULY, SEPTEMBER, NOVEMBER, DECEMBER = "2027-03-02", "2027-07-02", "2027-09-05", "2027-11-01", "2027-12-31"
Open = Callable[[str], Client]

WAITING = ["answer-waits EX-0007 2027-01-24"]  # asked back on 17 January, a week to answer
BOTH_WAIT = [*WAITING, "request-waits EX-0003 2027-01-23", "request-waits EX-0006 2027-01-23"]
REVIEWS = ["review EX-0002 2027-07-01", "review EX-0005 2027-07-01", "review EX-0009 2027-07-01"]
ATTEST = ["condition EX-0001 2027-04-15"]  # attested on 15 January, every 90 days
DUE = {
    MARCH: [*BOTH_WAIT, "review EX-0001 2027-03-01"],  # 15 April is more than 30 days ahead
    JULY: [*BOTH_WAIT, *ATTEST, *REVIEWS, "review EX-0001 2027-03-01"],
    SEPTEMBER: [*BOTH_WAIT, *ATTEST, *REVIEWS],
    NOVEMBER: [*BOTH_WAIT, *ATTEST, *REVIEWS],
    DECEMBER: [
        *BOTH_WAIT, *ATTEST, *REVIEWS,
        "lapse EX-0002 2027-12-31", "lapse EX-0005 2027-12-31", "lapse EX-0009 2027-12-31",
    ],
}  # fmt: skip


@pytest.fixture
def open_on(demo_data: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Open]:
    """A technician's client on the demo as it stands on a day, after one round of the scheduler."""
    opened: list[tuple[Client, Context]] = []
    monkeypatch.setattr(scheduler, "exclude_lasting_objects", lambda: None)  # it goes through all that tests hold

    def open_on(day: str) -> Client:
        clock = FixedClock(datetime.fromisoformat(f"{day}T09:00:00"))
        context = Context(Database(demo_data / "doorstone.db"), clock, passwords=PASSWORDS)
        scheduler.Scheduler(context, lambda *_: "", None).once()
        token = people.issue_token(context, Actor("petra", "technician", "test"), "test", "technician", 30).secret
        app = create_app(context, b"k" * 32)
        client = Client("http://doorstone.test", token, transport=httpx.WSGITransport(app=app))
        opened.append((client, context))
        return client

    yield open_on
    for client, context in opened:
        client.close()
        context.database.close()


@pytest.mark.parametrize("day", DUE)
def test_what_is_due_on_exceptions(open_on: Open, day: str) -> None:
    found = [f"{item.kind} {item.object} {item.on}" for item in open_on(day).due() if item.object.startswith("EX-")]
    every_day = [f"owner-left EX-0002 {day}", "second-look EX-0005 2027-01-17"]
    assert sorted(found) == sorted([*DUE[day], *every_day])


@pytest.mark.parametrize(
    ("day", "release", "states"),
    [
        # EX-0001 covers nbt-101 and nbt-102 at 9.1; EX-0002 covers three up to 9.2.
        (MARCH, "9.1", {"excepted": 5, "needs-exception": 80, "floored": 19}),
        # 9.2 is published on 16 March, and EX-0001 does not reach it.
        (JULY, "9.2", {"excepted": 3, "needs-exception": 82, "floored": 19}),
        (SEPTEMBER, "9.2", {"excepted": 3, "needs-exception": 82, "floored": 19}),
        (NOVEMBER, "9.2", {"excepted": 3, "needs-exception": 82, "floored": 19}),
        # 9.3 is published on 14 December, makes the security chip a floor, and no exception reaches it.
        (DECEMBER, "9.3", {"excepted": 0, "needs-exception": 58, "floored": 46}),
    ],
)
def test_the_overview(open_on: Open, day: str, release: str, states: dict[str, int]) -> None:
    found = open_on(day).overview("tarn")
    counts = {state: found.roll_up.states.get(state, 0) for state in states}
    assert (found.release, counts) == (release, states)
    assert sum(found.roll_up.states.values()) == found.roll_up.devices == 180
    assert found.uncovered == (6 if day < "2027-09-02" else 8)


@pytest.mark.parametrize(
    ("day", "lapsed"),
    [(MARCH, 1), (JULY, 1), (SEPTEMBER, 2), (NOVEMBER, 2), (DECEMBER, 2)],
)
def test_the_register_and_who_runs_without_permission(open_on: Open, day: str, lapsed: int) -> None:
    client = open_on(day)
    found = [one.id for one in client.exceptions(state="lapsed")]
    assert found == ["EX-0008", "EX-0001"][:lapsed]
    since = {one.device: one.since for one in client.uncovered(platform="tarn")}
    never = dict.fromkeys(["nbt-023", "nbt-073", "nbt-123", "nbt-135", "nbt-173", "nbt-177"], D("2027-01-11"))
    ended = dict.fromkeys(["nbt-101", "nbt-102"], D("2027-09-02")) if lapsed == 2 else {}
    assert since == {**never, **ended}


@pytest.mark.parametrize(
    ("day", "ended"),
    [
        (MARCH, 129 + 11),  # releases 8 and 9.0 of edition desk ended on 28 February and 30 September
        (JULY, 129 + 11 + 3),  # and 9.0 of edition estate on 31 March
        (SEPTEMBER, 129 + 11 + 3 + 27),  # and 8 of edition estate on 31 August
        (NOVEMBER, 129 + 11 + 3 + 27),
        (DECEMBER, 129 + 11 + 3 + 27 + 9),  # and 9.1 of edition desk on 30 November
    ],
)
def test_servicing_and_forecasts(open_on: Open, day: str, ended: int) -> None:
    client = open_on(day)
    lines = [item.words for item in client.due(kind="servicing-ends") if item.words.startswith("tarn")]
    counts = [re.search(r"servicing ended with this day for (\d+) device", words) for words in lines]
    assert sum(int(count[1]) for count in counts if count) == ended
    fleet = client.fleet_forecast("tarn")
    assert (fleet.as_of, fleet.devices, fleet.months[0].month >= day[:7]) == (D(day), 180, True)
    by_exception = client.forecast("nbt-101").forecast.approved.runway
    assert by_exception == (D("2027-09-01") if day < "2027-09-02" else None)
    assert client.forecast("nbt-021").forecast.approved.runway == D("2027-12-31")  # EX-0002 reaches 9.2


@pytest.mark.parametrize(("day", "late"), [(JULY, []), (SEPTEMBER, ["EX-0003"]), (NOVEMBER, ["EX-0003", "EX-0006"])])
def test_a_request_that_nobody_decided_in_time_is_told_to_its_requester(
    open_on: Open, day: str, late: list[str]
) -> None:
    waits = open_on(day).due(kind="request-waits")
    assert [item.object for item in waits if "can no longer be approved" in item.words] == late


def test_a_condition_of_an_ended_exception_can_be_kept_while_a_device_runs_by_it(open_on: Open) -> None:
    client = open_on(SEPTEMBER)
    (line,) = client.due(kind="condition")
    assert line.words.startswith(
        "EX-0001 has ended (lapsed), yet 2 devices still run 9.1 by it: attest that “No guests'"
    )
    assert "attest" in client.exception("EX-0001").actions
    client.attest("EX-0001", 2, "Looked in again")
    assert client.due(kind="condition") == []  # the next is due 90 days later, on 4 December
    assert "attest" not in client.exception("EX-0008").actions  # nothing runs by it
    checks = [line.words for line in client.due(kind="check") if line.object in ("nbt-101", "nbt-102")]
    assert checks == [
        f"{device} runs 9.1 by an exception that has ended: see which updates arrive and what is offered"
        for device in ("nbt-102", "nbt-101")
    ]


def test_of_two_exceptions_that_ended_the_one_that_ended_last_is_named(demo_data: Path) -> None:
    database = Database(demo_data / "doorstone.db")
    with database.write() as db:  # EX-0008 would have run longer, and was revoked long before
        db.execute(
            "UPDATE exceptions SET state = 'revoked', ended_on = '2026-10-01', expires_on = '2027-12-31' WHERE id = 8"
        )
        db.execute("UPDATE exception_devices SET device = 'nbt-101' WHERE exception = 8")
    context = Context(database, FixedClock(datetime.fromisoformat(f"{SEPTEMBER}T09:00:00")), passwords=PASSWORDS)
    with context.one_call(), database.read() as db:
        found = after_exception(db, snapshot(context), exception_store.standing(db))
    assert {device: row.id for device, row in found.items()} == {"nbt-101": 1, "nbt-102": 1}
    database.close()


@pytest.mark.parametrize(("day", "why"), [("2027-01-17", "is before 2027-01-18"), ("soon", "`soon` is not a day")])
def test_the_demo_starts_on_no_day_that_it_cannot_show(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], day: str, why: str
) -> None:
    monkeypatch.setattr("sys.argv", ["start", "--data", str(tmp_path / "d"), "--port", "1", "--as-of", day])
    with pytest.raises(SystemExit, match="2"):
        start.main()
    assert why in capsys.readouterr().err
    assert not (tmp_path / "d").exists()
