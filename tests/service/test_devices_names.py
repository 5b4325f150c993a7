"""Ids in any case, spellings that name one device, and values of filters that nothing on record has."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from doorstone.client import Client, MissingError
from doorstone.work.context.context import Context
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import granted, line, read
from tests.build import CHIPLESS, GOOD
from tests.running import Run

As = Callable[[str], Client]


def test_spellings_that_differ_in_case_and_spaces_are_one_device(context: Context) -> None:
    read(context, line("GH-PC-010", GOOD), line("lower-1", GOOD))
    read(context, line("gh-pc-010", {**GOOD, "memory.mib": 4096}, at="2027-01-16T08:00:00"), line(" Lower-1 ", GOOD))
    assert [row.id for row in snapshot(context).rows(["GH-PC-010", "gh-pc-010", "lower-1", "Lower-1"])] == [
        "GH-PC-010", "lower-1",
    ]  # fmt: skip
    assert snapshot(context).view("GH-PC-010").value("memory.mib") == 4096


def test_two_new_spellings_in_one_file_are_one_device_by_the_first(context: Context) -> None:
    read(context, line("A-1", GOOD), line("a-1", {**GOOD, "memory.mib": 4096}, at="2027-01-16T08:00:00"))
    assert [row.id for row in snapshot(context).rows(["A-1", "a-1"])] == ["A-1"]
    assert snapshot(context).view("A-1").value("memory.mib") == 4096


def test_ids_are_matched_in_any_case(as_role: As) -> None:
    client = as_role("technician")
    assert client.device("NBT-001").device.id == "nbt-001"
    assert client.exception("ex-0003").id == "EX-0003"
    assert client.kit("kt-0001").kit.id == "KT-0001"
    assert {one.id for one in client.exceptions(device="NBT-012")} == {
        one.id for one in client.exceptions(device="nbt-012")
    }
    assert [one.id for one in client.kits(device="NBT-101")] == [one.id for one in client.kits(device="nbt-101")]


@pytest.mark.parametrize(
    ("path", "says", "near"),
    [
        ("/exceptions?device=nbt-0123", "Device 'nbt-0123' does not exist", "Did you mean nbt-01"),
        ("/exceptions?state=aproved", "'aproved' is not a state of an exception", "Did you mean approved?"),
        ("/exceptions?owner=petre", "There is no person 'petre'", "Did you mean petra?"),
        ("/uncovered?device=nosuch", "Device 'nosuch' does not exist", "doorstone device list"),
        ("/uncovered?site=Herbarum", "No device has the site 'Herbarum'", "Did you mean Herbarium?"),
        ("/devices?platform=tarn&site=Herbarum", "No device has the site 'Herbarum'", "Did you mean Herbarium?"),
        ("/devices?platform=tarn&model=Fallow", "No device has the model 'Fallow'", "Fallow"),
        ("/devices?platform=tarn&role=nosuch", "No device has the role 'nosuch'", "Use one of"),
        ("/devices?platform=tarn&state=clearr", "'clearr' is not a state", "clear"),
        ("/attempts?device=nosuch", "Device 'nosuch' does not exist", "doorstone device list"),
        ("/kits?device=nosuch", "Device 'nosuch' does not exist", "doorstone device list"),
        ("/observations?device=nosuch", "Device 'nosuch' does not exist", "doorstone device list"),
        ("/disputes?platform=tarn&device=nosuch", "Device 'nosuch' does not exist", "doorstone device list"),
        ("/ledger?object=EX-9999", "The ledger has no entry about 'EX-9999'", "doorstone ledger list"),
        ("/media?platform=tarm", "There is no platform 'tarm'", "Did you mean tarn?"),
        ("/lives?life=retierd", "is not a lifecycle", "Did you mean retired?"),
        ("/fleet?platform=tarn&site=Nowhere", "No device has the site 'Nowhere'", "Use one of"),
        ("/evidence?site=Herbarium&site=Nowhere", "No device has the site 'Nowhere'", "Use one of"),
    ],
)
def test_an_unknown_value_of_a_filter_is_refused_with_what_is_near(
    as_role: As, path: str, says: str, near: str
) -> None:
    answer = as_role("viewer")._http.get(f"/api/v1{path}")
    assert answer.status_code in (404, 422)
    assert says in answer.json()["detail"]
    assert near in answer.json()["hint"]


def test_a_parameter_that_is_given_twice_is_refused(as_role: As) -> None:
    answer = as_role("viewer")._http.get("/api/v1/devices?platform=tarn&site=Herbarium&site=Glasshouse")
    assert (answer.status_code, answer.json()["detail"]) == (400, "The parameter site is given 2 times")


def test_a_pack_of_several_sites_and_of_everything(as_role: As) -> None:
    client = as_role("viewer")
    one, two, every = (
        len(client.evidence(sites=["Herbarium"])), len(client.evidence(sites=["Herbarium", "Glasshouse"])),
        len(client.evidence(everything=True)),
    )  # fmt: skip
    assert one < two < every
    with pytest.raises(MissingError, match="No device has the site 'Nowhere'"):
        client.evidence(sites=["Herbarium", "Nowhere"])


def test_one_key_for_two_addresses_is_refused(as_role: As) -> None:
    client = as_role("technician")
    body, headers = (
        {"title": "Switch the security chip on in firmware set-up", "outcome": "done"},
        {"Idempotency-Key": "k"},
    )
    first = client._http.post("/api/v1/devices/nbt-003/fixes", json=body, headers=headers)
    again = client._http.post("/api/v1/devices/nbt-003/fixes", json=body, headers=headers)
    other = client._http.post("/api/v1/devices/nbt-006/fixes", json=body, headers=headers)
    assert first.status_code == 201, first.text
    assert again.json() == first.json()
    assert other.status_code == 422
    assert "was used for another call" in other.text


@pytest.mark.process
def test_the_command_line_refuses_an_option_that_is_given_twice(look: Run) -> None:
    done = look("device", "list", "--site", "Herbarium", "--site", "Glasshouse")
    assert done.returncode == 2
    assert "--site" in done.stderr
    assert "given 2 times" in done.stderr


def test_excepted_devices_are_named_as_on_record(context: Context) -> None:
    read(context, line("D1", CHIPLESS))
    assert granted(context, "D1") == "EX-0001"
