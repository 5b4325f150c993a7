"""The whole job, over real parts: the stand-in machine, the service, the command line, the kit's own scripts."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from doorstone_standins import assessor, machine, update_service
from doorstone_standins.machine import Machine
from tests.core.kits.test_files import tree
from tests.running import Run, Running, command_of

CHECKS = ["processor-listed", "security-chip"]


@pytest.fixture
def outside(tmp_path: Path) -> Machine:
    """A machine on release 8 with an old chip and a processor that left the list."""
    return machine.create(tmp_path / "machines" / "standin-1", name="standin-1")


@pytest.fixture
def updates(outside: Machine) -> Iterator[str]:
    server = update_service.make_server(outside.folder.parent)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


@pytest.fixture
def run(service: Running, tmp_path: Path) -> Run:
    at_home = command_of(service, tmp_path / "home")
    return lambda by, *words: at_home(*words, by=by, COLUMNS="140")


def as_json(done: subprocess.CompletedProcess[str]) -> Any:
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def set_up(kit: Path | None, target: Machine) -> tuple[int, dict[str, Any]]:
    """Run set-up as a technician would: bare, or through the kit's own starter."""
    program = [sys.executable, "-m", "doorstone_standins.main", "set-up", "--machine", str(target.folder)]
    if kit is None:
        done = subprocess.run([*program, "--release", "9.1"], capture_output=True, text=True, timeout=60)
    else:
        starter = target.folder / "set-up-on-media"
        starter.write_text(f'#!/bin/sh\nexec {" ".join(program)} "$@"\n')
        starter.chmod(0o755)
        environment = os.environ | {"SET_UP": str(starter)}
        done = subprocess.run(["sh", kit / "set-up"], capture_output=True, text=True, env=environment, timeout=60)
    return done.returncode, json.loads(done.stdout)


def sh(script: Path, root: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["sh", str(script), str(root)], capture_output=True, text=True, timeout=60)


@pytest.mark.process
def test_the_whole_job_from_refused_to_forecast(run: Run, outside: Machine, updates: str, tmp_path: Path) -> None:
    before = tree(outside.root)

    # Set-up refuses the machine.
    code, said = set_up(None, outside)
    assert (code, sorted(said["checks"])) == (10, CHECKS)

    # Its readings are imported by the command line, and it is sorted.
    report = tmp_path / "report.ndjson"
    report.write_text(assessor.report(outside, "2027-01-17T08:00:00"))
    assert as_json(run("petra", "reading", "import", report, "--format", "json"))["added"] == 1
    shown = as_json(run("petra", "device", "show", "standin-1", "--format", "json"))
    assert shown["detail"]["device"]["state"] == "needs-exception"
    marks = {f["requirement"]["id"]: f["mark"] for f in shown["assessment"]["findings"] if f["mark"] != "met"}
    assert marks == dict.fromkeys(CHECKS, "installer-check")

    # A request that includes a floor is refused with the device and the reason.
    ask = [
        "exception",
        "request",
        "-r",
        "9.1",
        "--reason",
        "The bench needs it until autumn.",
        "--expires",
        "2027-09-30",
    ]
    ask += ["--acknowledge-risk", "-q", "security-chip", "-q", "processor-listed", "-d", "standin-1"]
    refused = run("petra", *ask, "-d", "nbt-030", "-q", "instruction-level")
    assert refused.returncode == 3
    assert "nbt-030, instruction-level: Instruction level x86-64-v3 is a floor" in " ".join(refused.stderr.split())

    # The technician asks, may not approve; the approver approves.
    asked = as_json(run("petra", *ask, "--format", "json"))
    assert asked["state"] == "requested"
    assert run("petra", "exception", "approve", asked["id"]).returncode == 6
    assert run("petra", "kit", "make", "standin-1").returncode == 3
    assert as_json(run("anselm", "exception", "approve", asked["id"], "--format", "json"))["state"] == "approved"

    # The kit is made, downloaded, and applied to the machine's own file tree.
    kit_id = as_json(run("petra", "kit", "make", "standin-1", "--format", "json"))["id"]
    assert run("petra", "kit", "download", kit_id, "--into", tmp_path / "kits").returncode == 0
    kit = tmp_path / "kits" / kit_id
    assert sh(kit / "apply", outside.root).returncode == 0
    verified = sh(kit / "verify", outside.root)
    assert (verified.returncode, json.loads(verified.stdout)["ok"]) == (0, True)

    # With one setting removed set-up refuses again, and verify names the missing one.
    held = outside.root / "etc/tarn/settings.d/60-doorstone.ini"
    text = held.read_text()
    held.write_text("".join(line for line in text.splitlines(True) if not line.startswith("accept")))
    code, said = set_up(kit, outside)
    assert (code, sorted(said["checks"])) == (10, CHECKS)
    missing = sh(kit / "verify", outside.root)
    assert missing.returncode == 1
    assert [(s["name"], s["state"]) for s in json.loads(missing.stdout)["settings"]] == [("accept", "missing")]

    # Applied again, set-up lets it through.
    assert sh(kit / "apply", outside.root).returncode == 0
    assert set_up(kit, outside)[0] == 0
    assert outside.truth["release"] == "9.1"

    # The attempts are recorded; the device now runs 9.1.
    record = ["attempt", "record", "standin-1", "--kit", kit_id, "--started", "2027-01-18T07:00"]
    first = ["--outcome", "refused", "--refused-by", "security-chip", "--ended", "2027-01-18T07:20"]
    assert run("petra", *record, *first).returncode == 0
    done = as_json(run("petra", *record, "--outcome", "completed", "--ended", "2027-01-18T08:10", "--format", "json"))
    assert (done["number"], done["unmet"]) == (2, CHECKS)

    # The update service withholds the next release while security updates arrive.
    offers = httpx.get(f"{updates}/offers/standin-1?on=2027-04-20").json()
    assert (offers["release"]["reason"], offers["security"]["result"]) == ("unsupported", "arrived")
    for kind in ("security", "release"):
        seen = offers[kind]
        words = ["observe", "record", "standin-1", "--class", kind, "--result", seen["result"], "--on", "2027-01-18"]
        words += ["--source", "update-service", *(["--reason", seen["reason"]] if "reason" in seen else [])]
        assert run("petra", *words).returncode == 0

    # Standing and forecast say exactly that, with the runway.
    standing = as_json(run("petra", "observe", "standing", "standin-1", "--format", "json"))
    by_class = {c["update_class"]: (c["expected"], c["compared"]) for c in standing["classes"]}
    assert standing["release"] == "9.1"
    assert by_class["security"] == ("unpromised", "as-expected")
    assert by_class["release"] == ("withheld", "as-expected")
    ahead = as_json(run("petra", "forecast", "standin-1", "--format", "json"))["forecast"]
    assert (ahead["release"], ahead["technical"]["runway"], ahead["approved"]["runway"]) == (
        "9.1",
        "2027-11-30",
        "2027-09-30",
    )
    assert "compat-drop-in ended at release 9.2" in ahead["technical"]["ended_by"]
    assert ahead["approved"]["ended_by"] == f"exception {asked['id']} lapses on 2027-09-30"

    # Undo leaves the file tree byte for byte as it was.
    assert sh(kit / "undo", outside.root).returncode == 0
    assert tree(outside.root) == before

    # The ledger tells the story and holds.
    assert run("petra", "ledger", "verify").returncode == 0
