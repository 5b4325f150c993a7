"""Facts of a device that decide rules: who may change them, and what a change makes of approvals."""

from __future__ import annotations

import pytest

from doorstone.service.app import create_app
from doorstone.work.context.context import Context, Policy
from doorstone.work.devices import changes
from doorstone.work.devices import views as devices
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.ledger import entries as ledger
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from tests.asking import ADMIN, ANSELM, PETRA, asked, granted, line, read
from tests.build import CHIPLESS, GOOD
from tests.service.test_people import ROLES, call, secret_of

WILHELMINA = ADMIN


def about(context: Context, device: str) -> tuple[str, str, bool]:
    found = devices.get_device(context, device).device
    return found.site, found.role, found.critical


@pytest.mark.parametrize(
    ("said", "place"), [({"critical": "no"}, "critical"), ({"site": "Seed Vault"}, "site"), ({"role": "bench"}, "role")]
)
def test_an_import_does_not_change_what_rules_rest_on_unless_the_importer_may(
    context: Context, said: dict[str, str], place: str
) -> None:
    read(context, line("d1", GOOD, critical="yes", role="log"))
    assert about(context, "d1") == ("Herbarium", "log", True)
    again = line("d1", GOOD, at="2027-01-16T08:00:00", **({"role": "log", "critical": "yes"} | said))
    done = import_job.import_readings(context, PETRA, again, ImportOptions("ndjson"))
    assert (done.row.state, done.row.readings, done.row.rejected) == ("done", 1, 0)
    assert about(context, "d1") == ("Herbarium", "log", True)
    (note,) = import_job.import_problems(context, done.id)
    assert (note.line, note.place) == (1, place)
    assert "keeps it" in note.message
    import_job.import_readings(context, ADMIN, again, ImportOptions("ndjson"))
    assert about(context, "d1") != ("Herbarium", "log", True)


def test_a_change_of_what_rules_rest_on_is_in_the_ledger_and_makes_approvals_stale(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    name = granted(context, "d1", "d2")
    changes.change_device(
        context, ANSELM, "d1", changes.DeviceChange(critical=True), "The vault's log is written here."
    )
    assert about(context, "d1")[2] is True
    assert exceptions.get_exception(context, name).stale == {"d1": ["critical was no, is yes"]}
    (entry,) = ledger.list_entries(context, limit=1)
    assert (entry.action, entry.body["is"], entry.body["stale"]) == ("device changed", {"critical": True}, [name])
    decisions.decide(context, ANSELM, name, "confirm", "Looked at again.", None)
    assert exceptions.get_exception(context, name).stale == {}


def test_who_may_change_a_device_is_who_may_decide_there(demo: Context) -> None:
    app = create_app(demo, b"k" * 32)
    change = {"role": "test bench", "note": "Moved to the bench."}
    statuses = {role: call(app, secret_of(demo, role), "PATCH", "/api/v1/devices/nbt-012", change).status_code
                for role in ROLES}  # fmt: skip
    assert statuses == {
        "viewer": 403,
        "technician": 403,
        "approver": 200,
        "administrator": 422,
    }  # no change the 2nd time


def test_a_device_that_becomes_critical_takes_two_and_what_was_said_before_falls_away(context: Context) -> None:
    context.policy = Policy(two_approvers="critical")
    read(context, line("d1", CHIPLESS))
    name = exceptions.request(context, PETRA, asked("d1")).id
    changes.change_device(context, ADMIN, "d1", changes.DeviceChange(critical=True), "It is critical after all.")
    assert decisions.decide(context, ANSELM, name, "approve", "", None).state == "requested"
    assert decisions.decide(context, WILHELMINA, name, "approve", "", None).state == "approved"


def test_readings_come_in_pages_and_a_strange_cursor_is_refused(context: Context) -> None:
    for day in (14, 15, 16):
        read(context, line("d1", {**GOOD, "disk.free_gib": day}, at=f"2027-01-{day}T08:00:00"))
    app, token = create_app(context, b"k" * 32), secret_of(context, "viewer")
    first = call(app, token, "GET", "/api/v1/devices/d1/readings?limit=2")
    assert [one["taken_at"] for one in first.json()["items"]] == ["2027-01-16T08:00:00Z", "2027-01-15T08:00:00Z"]
    last = call(app, token, "GET", f"/api/v1/devices/d1/readings?limit=2&cursor={first.json()['next']}")
    assert [(one["facts"]["disk.free_gib"], one["source"]) for one in last.json()["items"]] == [(14, "collector")]
    assert last.json()["next"] is None
    strange = call(app, token, "GET", "/api/v1/devices/d1/readings?cursor=2027")
    assert (strange.status_code, strange.json()["hint"]) == (422, "Give `next` of the page before, as it came")
    assert call(app, token, "GET", "/api/v1/devices/d9/readings").status_code == 404
