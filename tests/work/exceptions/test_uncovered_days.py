"""Since when a device runs without permission, day by day beside a plain model that only remembers yesterday.

The model sees, at the end of each day, which devices the product lists as uncovered. A device that was not listed on
the day before began its run today; the product has to find the same day from the history that it keeps.
"""

from __future__ import annotations

import time
from datetime import date, timedelta
from random import Random
from typing import Any

import pytest

from doorstone.core.exceptions.run import Began
from doorstone.demo.seed import sheet_text
from doorstone.work.context.context import Context
from doorstone.work.due.due_list import due_list
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.uncovered import list_uncovered
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.settling import roll
from tests.asking import ADMIN, ANSELM, PETRA, D, asked, line, on, read
from tests.build import CHIPLESS, GOOD

STARTS = D("2027-01-18")
DEVICES = [f"d{n}" for n in range(5)]
FACTS: list[dict[str, Any]] = [
    {**GOOD, "os.release": "9.1"},
    {**CHIPLESS, "os.release": "9.1"},
    {**GOOD, "os.release": "9.1", "disk.system_gib": 29},
    {**GOOD, "os.release": "9.1", "disk.system_gib": 31},
    {**CHIPLESS, "os.release": "8"},
]
SHEETS = [("", ""), ('fact = "disk.system_gib", at_least = 60', 'fact = "disk.system_gib", at_least = 20')]


def sheet(number: int) -> tuple[str, dict[str, str]]:
    text, lists = sheet_text()
    return text.replace(*SHEETS[number]) if number else text, lists


def play(context: Context, days: int, seed: int) -> int:
    """Play so many days with this seed; returns how many dates were compared."""
    random, since, compared, loaded = Random(seed), dict[str, date](), 0, 0
    for n in range(days):
        day = STARTS + timedelta(days=n)
        today = on(context, day.isoformat())
        roll(today)
        for device in DEVICES:
            if n == 0 or random.random() < 0.12:
                read(today, line(device, random.choice(FACTS), at=f"{day}T08:00:00"))
        if random.random() < 0.05:
            loaded = 1 - loaded
            revisions.load_sheet(today, ADMIN, *sheet(loaded), "tarn.toml")
        if random.random() < 0.2:
            change_exceptions(today, random, day)
        found = {one.row.id: one.found for one in list_uncovered(today)}
        since = {device: since.get(device, day) for device in found}
        for device, one in found.items():
            assert (one.since, one.exact) == (since[device], True), f"seed {seed}, {day}, {device}: {one}"
            compared += 1
        due = [item for item in due_list(today) if item.kind == "uncovered"]
        assert min((item.on for item in due), default=None) == min(since.values(), default=None)
    return compared


def change_exceptions(today: Context, random: Random, day: date) -> None:
    open_ = [e for e in exceptions.list_exceptions(today) if e.state == "approved"]
    if open_ and random.random() < 0.3:
        decisions.decide(today, ANSELM, random.choice(open_).id, "revoke", "No longer needed.", None)
        return
    uncovered = [one for one in list_uncovered(today) if not one.found.waiting]
    if not uncovered:
        return
    one = random.choice(uncovered)
    ends = day + timedelta(days=random.randint(3, 40))
    terms = {
        "conditions": (),
        "start_on": day,
        "expires_on": ends,
        "review_on": ends,
        "reason": f"For {day}, {seed_of(random)}.",
    }
    try:
        name = exceptions.request(today, PETRA, asked(one.row.id, requirements=one.found.requirements, **terms)).id
    except Exception:
        return  # it cannot be excepted as it is read today
    decisions.decide(today, ANSELM, name, "approve", "", None)


def seed_of(random: Random) -> int:
    return random.randrange(10**6)


@pytest.mark.long
def test_every_date_is_that_of_a_model_that_remembers_yesterday(context: Context) -> None:
    assert play(context, 60, time.time_ns() // 1000 % 10**6) > 30


@pytest.mark.parametrize(
    ("happens", "began", "first"),
    [
        ("reading", Began.READING, "2027-06-10"),
        ("sheet", Began.SHEET, "2027-06-10"),
        ("lapse", Began.LAPSED, "2027-06-10"),
        ("revocation", Began.REVOKED, "2027-06-10"),
        ("staleness", Began.STALE, "2027-06-10"),
        ("upgrade", Began.UPGRADE, "2027-06-10"),
    ],
)
def test_what_began_a_run_and_on_which_day(context: Context, happens: str, began: Began, first: str) -> None:
    small = {**GOOD, "os.release": "9.1", "disk.system_gib": 29}
    fine = {**GOOD, "os.release": "8" if happens == "upgrade" else "9.1", "disk.system_gib": 61}
    excepted = happens in ("lapse", "revocation", "staleness")
    read(context, line("d1", small if excepted else fine, at="2027-01-10T08:00:00"))
    if excepted:
        last = D("2027-06-09") if happens == "lapse" else D("2027-09-30")
        ends = {"expires_on": last, "review_on": D("2027-05-01")}
        name = exceptions.request(context, PETRA, asked("d1", requirements=("storage",), conditions=(), **ends)).id
        decisions.decide(context, ANSELM, name, "approve", "", None)
    day = on(context, "2027-06-10")
    if happens in ("reading", "upgrade"):
        read(day, line("d1", small, at="2027-06-10T08:00:00"))
    elif happens == "sheet":
        text, lists = sheet_text()
        other = text.replace('fact = "disk.system_gib", at_least = 60', 'fact = "disk.system_gib", at_least = 100')
        revisions.load_sheet(day, ADMIN, other, lists, "tarn.toml")
    elif happens == "revocation":
        decisions.decide(day, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    elif happens == "staleness":
        read(day, line("d1", {**small, "disk.system_gib": 40}, at="2027-06-10T08:00:00"))
    later = on(context, "2027-08-01")
    roll(later)
    (one,) = list_uncovered(later)
    assert (one.found.began, one.found.since, one.found.exact) == (began, D(first), True)


def test_another_exception_that_goes_stale_loses_no_days(context: Context) -> None:
    """The chip is uncovered from January on; that an approval for the disk goes stale in May changes nothing of it."""
    both = {**CHIPLESS, "os.release": "9.1", "disk.system_gib": 29}
    read(context, line("d1", both, at="2027-01-10T08:00:00"))
    name = exceptions.request(context, PETRA, asked("d1", requirements=("storage",), conditions=())).id
    decisions.decide(context, ANSELM, name, "approve", "", None)
    may = on(context, "2027-05-02")
    read(may, line("d1", {**both, "disk.system_gib": 40}, at="2027-05-02T08:00:00"))
    (one,) = list_uncovered(may)
    assert (one.found.since, one.found.began) == (D("2027-01-10"), Began.READING)
    (item,) = [item for item in due_list(may) if item.kind == "second-look"]
    assert item.on == D("2027-05-02")


@pytest.mark.parametrize("then", ["lapses", "is revoked", "is left behind"])
def test_an_approval_that_went_stale_first_and_then_ended_did_not_permit_in_between(
    context: Context, then: str
) -> None:
    small = {**GOOD, "os.release": "9.1", "disk.system_gib": 29}
    read(context, line("d1", small, at="2027-01-10T08:00:00"))
    ends = {"expires_on": D("2027-06-09") if then == "lapses" else D("2027-09-30"), "review_on": D("2027-05-01")}
    name = exceptions.request(context, PETRA, asked("d1", requirements=("storage",), conditions=(), **ends)).id
    decisions.decide(context, ANSELM, name, "approve", "", None)
    bigger = {**small, "disk.system_gib": 40}
    read(on(context, "2027-04-10"), line("d1", bigger, at="2027-04-10T08:00:00"))
    day = on(context, "2027-06-10")
    if then == "is revoked":
        decisions.decide(day, ANSELM, name, "revoke", "The site is closed.", None)
    elif then == "is left behind":
        read(day, line("d1", {**bigger, "os.release": "9.2"}, at="2027-06-10T08:00:00"))
    later = on(context, "2027-08-01")
    roll(later)
    (one,) = list_uncovered(later)
    assert (one.found.began, one.found.since, one.found.exact) == (Began.STALE, D("2027-04-10"), True)


def test_a_history_that_was_reduced_says_at_least(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, "os.release": "9.1"}, at="2027-01-10T08:00:00"))
    later = on(context, "2027-03-01")
    read(later, line("d1", {**CHIPLESS, "os.release": "9.1"}, at="2027-03-01T08:00:00"))
    with context.database.write() as db:
        db.execute("DELETE FROM readings WHERE taken_at < '2027-02-01'")
    (one,) = list_uncovered(later)
    assert (one.found.since, one.found.exact) == (D("2027-03-01"), False)
