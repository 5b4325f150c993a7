"""What exceptions permit, kept from change to change, is what a service that has just started finds out."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from datetime import date, timedelta
from typing import Any

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import Life, LifeChange
from doorstone.core.exceptions.life import shown
from doorstone.core.exceptions.requests import NewCondition
from doorstone.core.sorting.assessment import findings_of
from doorstone.store import attempts as attempt_store
from doorstone.store import kits as kit_store
from doorstone.store.devices import excepted_changes
from doorstone.work import sorting
from doorstone.work.attempts import NewAttempt, record_attempt
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import WorkError
from doorstone.work.devices import disputes, lives
from doorstone.work.devices.changes import DeviceChange, change_device
from doorstone.work.due.due_list import due_list
from doorstone.work.exceptions import activity, decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.lapse import lapse
from doorstone.work.exceptions.uncovered import list_uncovered, uncovered_page
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import UncoveredDevice, lacking_profiles
from tests.asking import ADMIN, ANSELM, PETRA, TERMS, asked, changed_sheet, granted, line, read
from tests.build import CHIPLESS

DEVICES = [f"d{number}" for number in range(6)]
RELEASES = ("9.1", "9.2")
ENCRYPTED = NewCondition(fact_condition={"fact": "disk.encrypted", "is": True})
ATTEMPT = {
    "kit": None, "platform": "tarn", "release": "9.1", "route": "in-place", "carry_over": "", "outcome": "completed",
    "refused_by": "", "seen": "", "media": "", "tool_version": "", "unmet": [], "started_at": "2027-01-18T08:00:00",
    "ended_at": "2027-01-18T08:00:00", "by": "petra", "notice_accepted": "", "mismatch": "",
}  # fmt: skip
OLD = {**CHIPLESS, "os.release": "9.1", "disk.encrypted": True}


def stands(context: Context) -> object:
    """What the excepted devices are, in plain values; doubts that are empty left out."""
    now = snapshot(context)
    platform = now.sheets["tarn"].platform
    held = now.held(DEVICES)
    doubted = {number: dict(now.doubts(number)) for number in range(1, 40) if now.doubts(number)}
    return (
        held,
        dict(now.in_force_by_device()),
        doubted,
        [dict(now.excepted(platform, release)) for release in RELEASES],
        [dict(now.raised(platform, release)) for release in RELEASES],
    )


ASKED = ("memory-set-up", "processor-listed", "security-chip", "storage")


def by_class(context: Context) -> object:
    return snapshot(context).shown(DEVICES, "9.1", ASKED)


def one_by_one(context: Context) -> object:
    """What an approval would rest on, each device settled by itself."""
    now = snapshot(context)
    platform = now.sheets["tarn"].platform
    views = {device: now.view(device) for device in DEVICES}
    decisions = now.decisions_for(platform)
    return {
        device: shown(findings_of(platform, "9.1", view, decisions, device, ASKED), view.values(), platform.specs)
        for device, view in views.items()
    }


def pages(context: Context, size: int) -> list[UncoveredDevice]:
    """The list of uncovered devices, page by page; every page says how many there are."""
    found: list[UncoveredDevice] = []
    totals, cursor = set(), ""
    while True:
        page = uncovered_page(context, cursor=cursor, limit=size)
        found += page.items
        totals.add(page.total)
        if page.next is None:
            assert totals == {len(found)} == {sum(page.sites.values())}
            return found
        cursor = page.next


def _steps(context: Context, draw: random.Random) -> dict[str, Callable[[], object]]:
    device = draw.choice(DEVICES)
    at = (context.moment() - timedelta(minutes=draw.randrange(1, 600))).isoformat()
    name = f"EX-{draw.randrange(1, 6):04}"
    chip = draw.choice(["1.2", "1.3", "2.0"])

    def sheet() -> None:
        asks = draw.choice(["1.4", "2.0"])
        revisions.load_sheet(
            context,
            ADMIN,
            *changed_sheet('"2.0" }, { fact = "tpm.state"', f'"{asks}" }}, {{ fact = "tpm.state"'),
            "tarn.toml",
        )

    def tomorrow() -> None:
        context.clock = FixedClock(context.moment() + timedelta(days=draw.choice([1, 1, 40])))
        lapse(context)

    def life() -> None:
        gone = draw.choice([Life.RETIRED, Life.IN_SERVICE, Life.SET_ASIDE])
        look = context.today() + timedelta(days=9) if gone is Life.SET_ASIDE else None
        lives.change_lives(context, PETRA, [device], LifeChange(gone, context.today(), "So it is.", look))

    def attempt() -> None:
        ended = context.moment() - timedelta(minutes=draw.randrange(1, 60))
        outcome = draw.choice(["completed", "failed"])
        route = ("9.1", "in-place", "everything", outcome, (), "", "", "")
        record_attempt(context, PETRA, NewAttempt(device, "", *route, ended, ended, notice_accepted=True))

    return {
        "attempt": attempt,
        "reading": lambda: read(context, line(device, {**OLD, "tpm.version": chip}, at)),
        "passing reading": lambda: read(
            context,
            line(device, OLD | {"disk.free_gib": draw.randrange(50), "disk.encrypted": draw.random() < 0.7}, at),
        ),
        "other memory": lambda: read(context, line(device, OLD | {"memory.mib": draw.choice([4096, 8192, 9000])}, at)),
        "another source": lambda: read(context, line(device, {"tpm.version": chip}, at, source="assessor")),
        "request": lambda: exceptions.request(context, PETRA, asked(device, draw.choice(DEVICES))),
        "request by a fact": lambda: exceptions.request(context, PETRA, asked(device, conditions=(ENCRYPTED,))),
        "approve": lambda: decisions.decide(context, ANSELM, name, "approve", "", None),
        "confirm": lambda: decisions.decide(context, ANSELM, name, "confirm", "Seen.", None),
        "revoke": lambda: decisions.decide(context, ANSELM, name, "revoke", "Closed.", None),
        "comment": lambda: activity.comment(context, PETRA, name, "Seen."),
        "settle": lambda: disputes.settle_dispute(context, PETRA, device, "fact", "tpm.version", chip, "Looked at it."),
        "critical": lambda: change_device(context, ADMIN, device, DeviceChange(critical=draw.random() < 0.5), "It is."),
        "site": lambda: change_device(
            context, ADMIN, device, DeviceChange(site=draw.choice(["Gate", "Herbarium"])), "It moved."
        ),
        "decision": lambda: sorting.decide(
            context, ADMIN, "tarn", "security-chip", "9.1", "model", "Fallow 310", "floor", "trial", "It stops."
        ),
        "withdraw": lambda: sorting.withdraw(context, ADMIN, f"SD-{draw.randrange(1, 4):04}", "It went on."),
        "life": life,
        "sheet": sheet,
        "tomorrow": tomorrow,
    }


@pytest.mark.parametrize("seed", range(3))
def test_what_is_kept_from_change_to_change_is_what_is_found_out_anew(context: Context, seed: int) -> None:
    draw = random.Random(seed)
    read(context, *(line(device, OLD) for device in DEVICES))
    for device in DEVICES[:4]:
        exceptions.request(context, PETRA, asked(device, conditions=draw.choice([TERMS.conditions, (ENCRYPTED,)])))
    for name in ("EX-0001", "EX-0002"):
        decisions.decide(context, ANSELM, name, "approve", "", None)
    seen = set()
    for _ in range(30):
        steps = _steps(context, draw)
        step = draw.choice([*steps, "reading", "passing reading", "approve", "request", "approve"])
        with suppress(WorkError):
            steps[step]()
            seen.add(step)
        anew = Context(context.database, context.clock, context.policy)
        assert stands(context) == stands(anew), step
        assert by_class(context) == one_by_one(anew), step
        every = list_uncovered(anew)
        assert pages(context, draw.choice([1, 2, 3, 50])) == every, step
        assert due_list(context) == due_list(anew), step
    assert len(seen) >= 8


def test_a_reading_is_looked_at_again_only_where_something_changed_that_an_exception_rests_on(context: Context) -> None:
    facts = {**OLD, "disk.encrypted": True}
    read(context, *(line(device, facts) for device in ("d1", "d2", "d3")))
    granted(context, "d1")
    granted(context, "d2", conditions=(ENCRYPTED,))
    assert dict(snapshot(context).doubts(1)) == dict(snapshot(context).doubts(2)) == {}

    def touched(hour: int, **changed: Any) -> list[str]:
        """The devices that are looked at again once all have been read with other facts."""
        with context.database.read() as db:
            before = context.stamp().readings
        read(context, *(line(d, facts | changed, f"2027-01-16T{hour:02}:00:00") for d in ("d1", "d2", "d3")))
        with context.database.read() as db:
            return sorted(excepted_changes.since(db, before))

    assert touched(1, **{"disk.free_gib": 7}) == ["d2"]  # by whose condition any fact may count
    assert touched(2, **{"disk.free_gib": 7, "memory.mib": 8000}) == ["d1", "d2"]  # the memory is one of the tests
    assert touched(3, **{"disk.free_gib": 9, "memory.mib": 8000}) == ["d2"]
    assert touched(4, **{"disk.encrypted": False}) == ["d1", "d2"]
    assert dict(snapshot(context).doubts(1)) == {}
    assert list(snapshot(context).doubts(2)) == ["d2"]


def test_a_settlement_that_moves_no_answer_puts_an_approval_in_doubt_all_the_same(context: Context) -> None:
    read(context, line("d1", OLD), line("d1", {"tpm.version": "1.1"}, source="assessor"))
    granted(context, "d1")

    def settled(version: str) -> tuple[int | None, object]:
        disputes.settle_dispute(context, PETRA, "d1", "fact", "tpm.version", version, "Looked at it.")
        now = snapshot(context)
        return now.device("d1").profile, dict(now.doubts(1))

    profile, doubts = settled("1.2")
    assert doubts == {}
    assert settled("1.1") == (profile, {"d1": ("security-chip: tpm.version was 1.2, is 1.1",)})


def test_an_attempt_on_the_release_that_a_device_runs_begins_no_new_run(context: Context) -> None:
    read(context, line("d1", OLD))
    platform = snapshot(context).sheets["tarn"].platform

    def since() -> list[tuple[date, date]]:
        """Of the list and of the due list."""
        now = snapshot(context)
        with context.database.read() as db:
            due = [one.devices.first for one in lacking_profiles(db, now, platform)[0]]
        return [(one.found.since, day) for one, day in zip(list_uncovered(context), due, strict=True)]

    assert since() == [(date(2027, 1, 15), date(2027, 1, 15))]
    context.clock = FixedClock(context.moment() + timedelta(days=7))
    ended = (context.moment() - timedelta(hours=1)).isoformat()
    with context.database.write() as db:
        attempt_store.add(db, {**ATTEMPT, "device": "d1", "started_at": ended, "ended_at": ended})
    assert since() == [(date(2027, 1, 15), date(2027, 1, 15))]


@pytest.mark.parametrize("name", ["tarn", "brindle"])
def test_the_forecasts_of_the_fleet_are_those_of_its_devices(demo: Context, name: str) -> None:
    with demo.database.write() as db:
        kit = next(one for one in kit_store.every(db, None) if one.platform == "tarn")
        attempt_store.add(db, {**ATTEMPT, "device": kit.devices[0], "kit": kit.id, "outcome": "refused"})
    now = snapshot(demo)
    platform = now.sheets[name].platform
    stand = now.find(platform, platform.releases[-1].id, DeviceFilter())
    alone = Counter(map(id, now.forecasts([row for row, _ in stand]).values()))  # each is kept: the same is one object
    together: Counter[int] = Counter()
    for ahead, devices in now.fleet_forecasts(platform):
        together[id(ahead)] += devices
    assert together == alone
    assert len(alone) > 5
    assert bool(now.experience(platform).refused()) is (name == "tarn")
    assert now.doubts(5)  # an approval that no longer stands
