"""A thousand devices from files: excepted, approved, kitted, attempted, followed up; every count agrees."""

from __future__ import annotations

import csv
import io
import json
import random
from collections import Counter
from collections.abc import Iterator
from datetime import date

import httpx
import pytest

from doorstone.api.devices import DeviceFilter, SelectionRequest
from doorstone.api.exceptions import ExceptionRequest
from doorstone.api.kits import KitBatchRequest
from doorstone.client import Client
from doorstone.service.app import create_app
from doorstone.work.context.actor import Actor
from doorstone.work.context.context import Context
from doorstone.work.people import people
from tests.asking import ADMIN, RISK, ROLES
from tests.build import CHIPLESS, GOOD

DEVICES = 1_000
FLOORED = {**GOOD, "cpu.features": ["avx"]}
KINDS = {"clear": GOOD, "chip": CHIPLESS, "disk": {**GOOD, "disk.system_gib": 29}, "floored": FLOORED}
SHARES = [("clear", 200), ("chip", 540), ("disk", 200), ("floored", 60)]
SITES = ("Herbarium", "Glasshouse", "Seed Vault")


def fleet() -> dict[str, str]:
    """Device -> its kind; the order is drawn, so that no file is sorted by it."""
    kinds = [kind for kind, number in SHARES for _ in range(number)]
    random.Random(17).shuffle(kinds)
    return {f"m-{at:04d}": kind for at, kind in enumerate(kinds)}


def readings(of: dict[str, str], release: str = "8", day: str = "2027-01-17") -> str:
    drawn, lines = random.Random(release), []
    for at, (device, kind) in enumerate(of.items()):
        facts = {**KINDS[kind], "machine.serial": f"S{at:06d}", "disk.free_gib": round(drawn.uniform(60, 200), 1),
                 "memory.mib": 8192 - drawn.randrange(120), "os.release": release}  # fmt: skip
        about = {"site": SITES[at % 3], "source": "collector", "taken_at": f"{day}T{at % 24:02d}:10:00"}
        lines.append(json.dumps({"device": device, **about, "facts": facts}))
    return "\n".join(lines) + "\n"


def table(head: str, rows: Iterator[tuple[str, ...]]) -> str:
    text = io.StringIO()
    csv.writer(text).writerows([head.split(), *rows])
    return text.getvalue()


@pytest.fixture
def clients(context: Context) -> Iterator[dict[str, Client]]:
    app = create_app(context, b"k" * 32)
    made = {}
    for name, role in ROLES.items():
        token = people.issue_token(context, Actor(name, role, "test"), "test", role, 30, session=True).secret
        made[name] = Client("http://doorstone.test", token, transport=httpx.WSGITransport(app=app))
    yield made
    for one in made.values():
        one.close()


def states(client: Client, release: str = "9.1") -> dict[str, int]:
    """State -> devices, as every page, call and export counts them."""
    fleet_view = client.fleet("tarn", release=release)
    by_fleet = {state: number for state, number in fleet_view.states.items() if number}
    listed = Counter(device.state.value for device in client.devices("tarn", release=release, limit=500))
    assert dict(listed) == by_fleet
    overview = client.overview("tarn", release)
    by_site: Counter[str] = Counter()
    for site in overview.sites:
        by_site.update({state: number for state, number in site.states.items() if number})
    assert dict(by_site) == by_fleet
    assert sum(overview.running.values()) == fleet_view.devices == sum(by_fleet.values())
    assert (
        sum(group.devices for group in client.fleet("tarn", release=release, by="model").groups) == fleet_view.devices
    )
    assert sum(client.fleet_forecast("tarn", release).courses.values()) == fleet_view.devices
    assert overview.uncovered == len(client.uncovered(platform="tarn"))
    return by_fleet


@pytest.mark.long
def test_a_thousand_devices_come_through_from_files(clients: dict[str, Client], context: Context) -> None:
    petra, anselm = clients["petra"], clients["anselm"]
    of = fleet()
    chips, disks = ([device for device, kind in of.items() if kind == word] for word in ("chip", "disk"))
    assert petra.import_readings(readings(of), "ndjson").devices == DEVICES
    assert states(petra) == {"clear": 200, "needs-exception": 740, "floored": 60}

    petra.save_selection(
        "all of them", SelectionRequest(platform="tarn", release="9.1", where=DeviceFilter(words="m-"))
    )
    asked = ExceptionRequest(
        release="9.1", requirements=[], selection="all of them", risk_acknowledged=RISK,
        notice_acknowledged=petra.risk("tarn", "9.1").notice, reason="They work and are to be replaced in 2028.",
        owner="petra", start_on=date(2027, 1, 18), expires_on=date(2027, 12, 31), review_on=date(2027, 7, 1),
    )  # fmt: skip
    made = petra.request_each(asked)
    assert [(len(one.devices), sorted(one.requirements)) for one in made.groups] == [
        (540, ["processor-listed", "security-chip"]), (200, ["storage"]),
    ]  # fmt: skip
    assert len({entry.pointer for entry in made.refused}) == 260
    assert states(petra) == {"clear": 200, "needs-exception": 740, "floored": 60}

    anselm.decide_exceptions({one.exception: 1 for one in made.groups}, "approve", "Replacement is planned.")
    assert states(petra) == {"clear": 200, "excepted": 740, "floored": 60}
    register = list(csv.DictReader(io.StringIO(petra.export_exceptions("csv").decode())))
    assert sum(len(row["devices"].split()) for row in register) == 740

    batch = petra.make_kits(KitBatchRequest(selection="all of them", release="9.1"))
    assert sorted(len(kit.devices) for kit in batch.made) == [40, 200, 200, 500]
    assert len({entry.pointer.split(",")[0] for entry in batch.refused}) == 60
    kit_of = {device: kit.id for kit in batch.made for device in kit.devices}

    failed = set(chips[:50])
    rows = (
        (device, kit, "refused" if device in failed else "completed", "2027-01-18T07:00", "2027-01-18T08:00",
         "security-chip" if device in failed else "")
        for device, kit in sorted(kit_of.items())
    )  # fmt: skip
    text = table("device kit outcome started_at ended_at refused_by", rows)
    tried = petra.record_file("attempts", text, "csv")
    assert (tried.recorded, len(petra.attempts())) == (940, 940)
    assert petra.overview("tarn", "9.1").running == {"8": 110, "9.1": 890}
    assert states(petra) == {"clear": 200, "excepted": 740, "floored": 60}
    rates = {rate.key: (rate.done, rate.tried) for rate in petra.attempt_rates("release", "tarn")}
    assert rates == {"tarn 9.1": (890, 940)}

    seen = table(
        "device seen_on update_class result", ((device, "2027-01-18", "security", "arrived") for device in disks)
    )
    assert petra.record_file("observations", seen, "csv").recorded == 200
    assert petra.record_file("observations", seen, "csv").known == 200
    steps = petra.follow_ups(chips[60]).steps
    first = steps[0]
    done = table("device step state", ((device, first.name, "done") for device in chips[50:]))
    assert petra.record_file("follow-ups", done, "csv").recorded == 490
    assert petra.follow_ups(chips[60]).steps[0].state == "done"

    gone = table("device life reason wiped_by", ((device, "retired", "It was too old.", "petra")
                                                 for device, kind in of.items() if kind == "floored"))  # fmt: skip
    assert petra.record_file("lives", gone, "csv").recorded == 60
    assert states(petra) == {"clear": 200, "excepted": 740}
    anselm.decide_exceptions(
        {made.groups[0].exception: petra.exception(made.groups[0].exception).version}, "revoke", "It ends."
    )
    assert states(petra) == {"clear": 200, "excepted": 200, "needs-exception": 540}
    assert petra.overview("tarn", "9.1").uncovered == 490
    due = [one for one in petra.due() if one.kind == "uncovered"]
    assert len(due) == 1
    assert "486 more" in due[0].words
    faults = petra.check_ledger().faults  # the four people of these tests came without an entry
    assert [fault for fault in faults if not fault.startswith("person ")] == []
    assert ADMIN.name not in {one.by for one in petra.attempts()}
