"""The stand-ins behave as the outside world does, and agree with the demo sheet without sharing a line with it."""

from __future__ import annotations

import json
import threading
from datetime import date
from pathlib import Path
from typing import Any

import httpx
import pytest

from doorstone.core.facts import BUILT_IN, FactValue
from doorstone.core.sorting.assessment import assess
from doorstone.formats.readings import read_text
from doorstone_standins import assessor, machine, setup_program, update_service
from doorstone_standins.machine import Machine
from tests.build import tarn, view

READY: dict[str, Any] = {"chip": {"version": "2.0", "on": True}, "processor": "Quern Q5-740"}


def made(tmp_path: Path, **differences: Any) -> Machine:
    return machine.create(tmp_path / "standin-1", **(READY | differences))


def set_up(target: Machine, *words: str, release: str = "9.1") -> tuple[int, list[str]]:
    code, said = setup_program.run(["--machine", str(target.folder), "--release", release, *words])
    return code, said["checks"]


def read(target: Machine) -> dict[str, FactValue]:
    parsed = read_text(assessor.report(target, "2027-01-17T08:00:00"), "ndjson", tarn().specs)
    assert parsed.problems == ()
    return dict(parsed.records[0].reading.facts)


def test_the_assessors_report_is_read_without_a_problem(tmp_path: Path) -> None:
    facts = read(made(tmp_path))
    assert facts["memory.mib"] == 8096
    assert facts["tpm.state"] == "on"
    assert set(facts) <= set(BUILT_IN) | {"memory.max_mib", "account.online"}


def test_set_up_lets_a_good_machine_through_and_knows_when_it_is_done(tmp_path: Path) -> None:
    target = made(tmp_path)
    assert set_up(target) == (0, [])
    assert target.truth["release"] == "9.1"
    assert set_up(target) == (10, [])


def test_a_floor_fails_only_after_the_restart(tmp_path: Path) -> None:
    target = made(tmp_path, instructions=["sse4_2"])
    assert set_up(target) == (11, ["instruction-level"])
    assert target.truth["release"] == "8"


@pytest.mark.parametrize(
    ("differences", "check"),
    [
        ({"chip": None}, "security-chip"),
        ({"chip": {"version": "2.0", "on": False}}, "security-chip"),
        ({"processor": "Quern Q3-410"}, "processor-listed"),
        ({"firmware": "legacy"}, "firmware-uefi"),
        ({"signed_loading": "off"}, "secure-boot"),
        ({"memory_mb": 4096}, "memory-set-up"),
        ({"disk_gb": 29}, "storage"),
        ({"vulkan": "1.1"}, "graphics-level"),
        ({"account": False}, "online-account"),
    ],
)
def test_set_up_and_the_sheet_refuse_the_same(tmp_path: Path, differences: dict[str, Any], check: str) -> None:
    target = made(tmp_path, **differences)
    assert set_up(target) == (10, [check])
    found = assess(tarn(), "9.1", view(read(target)))
    assert [f.requirement.id for f in found.unmet()] == [check]


def put(target: Machine, folder: str, text: str) -> None:
    place = target.root / folder
    place.mkdir(parents=True, exist_ok=True)
    (place / "60-test.ini").write_text(text)


def test_each_setting_works_only_where_and_as_long_as_it_does(tmp_path: Path) -> None:
    target = made(tmp_path, chip=None)
    assert set_up(target)[0] == 10
    put(target, "etc/tarn/settings.d", "[setup/compat]\naccept = security-chip\n")
    assert setup_program.waived(target, "9.1", "clean", [], None) == set()
    assert setup_program.waived(target, "9.2", "in-place", [], None) == set()
    put(target, "etc/tarn/settings.d", "[setup/compat]\nacept = security-chip\n")
    assert set_up(target)[0] == 10
    put(target, "etc/tarn/settings.d", "[setup/compat]\naccept = security-chip\n")
    assert set_up(target)[0] == 0


def test_situation_13_a_setting_inside_set_up_is_lost_by_a_restart(tmp_path: Path) -> None:
    target = made(tmp_path, memory_mb=4096)
    put(target, "run/tarn-set-up/settings.d", "[profile]\nmemory = small\n")
    target.restart()
    assert set_up(target) == (10, ["memory-set-up"])
    put(target, "run/tarn-set-up/settings.d", "[profile]\nmemory = small\n")
    assert set_up(target) == (0, [])


# ----------------------------------------------------------- update service


def test_the_update_service_withholds_phases_and_offers(tmp_path: Path) -> None:
    target = made(tmp_path, release="9.1")
    on = date.fromisoformat
    assert update_service.offers(target, on("2027-01-20"))["release"] == {"result": "not-offered", "reason": "unknown"}
    assert update_service.offers(target, on("2027-03-16"))["release"]["reason"] == "phased"
    assert update_service.offers(target, on("2027-06-16"))["release"] == {"result": "offered", "detail": "9.2"}
    target.change(chip=None)
    assert update_service.offers(target, on("2027-06-16"))["release"]["reason"] == "unsupported"
    assert update_service.offers(target, on("2027-06-16"))["security"] == {"result": "arrived"}
    assert update_service.offers(target, on("2027-12-01"))["security"]["result"] == "not-offered"


def test_the_update_service_answers_over_http(tmp_path: Path) -> None:
    made(tmp_path)
    server = update_service.make_server(tmp_path)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    try:
        address = f"http://127.0.0.1:{server.server_address[1]}"
        good = httpx.get(f"{address}/offers/standin-1?on=2027-01-20")
        assert good.json()["machine"] == "standin-1"
        for path in ("/offers/gone?on=2027-01-20", "/offers/../x?on=2027-01-20", "/offers/standin-1"):
            assert httpx.get(f"{address}{path}").status_code == 404
    finally:
        server.shutdown()


def test_set_up_is_a_program_that_says_how_it_went(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    target = made(tmp_path, chip=None)
    assert setup_program.main(["--machine", str(target.folder), "--release", "9.1"]) == 10
    assert json.loads(capsys.readouterr().out)["checks"] == ["security-chip"]
    assert setup_program.main(["--machine", str(target.folder), "--release", "11"]) == 2
