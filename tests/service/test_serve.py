"""The real process: configuration, graceful stop, no lost write on kill -9, a busy port."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import httpx
import pytest

from doorstone.client import Client
from doorstone.demo.seed import PASSWORD, seed_once
from doorstone.service.config import Config, open_context, session_key
from doorstone.work.ledger import entries as ledger
from tests.running import free_port, start_service, stop


def reading(number: int) -> str:
    return json.dumps(
        {"device": f"k{number}", "source": "file", "taken_at": "2027-01-17", "facts": {"os.platform": "tarn"}}
    )


def sign_in(address: str) -> Client:
    client = Client(address, tries=1)
    client.sign_in("petra", PASSWORD)
    return client


@pytest.mark.process
def test_no_answered_write_is_lost_on_kill_9(demo_data: Path) -> None:
    process, address = start_service(demo_data)
    answered = []
    with sign_in(address) as client:
        for number in range(12):
            client.import_readings(reading(number), "ndjson")
            answered.append(f"k{number}")
        process.send_signal(signal.SIGKILL)
        process.wait(60)
    process, address = start_service(demo_data)
    try:
        with sign_in(address) as client:
            held = {device.id for device in client.devices("tarn", words="k")}
            assert set(answered) <= held
            assert client.check_ledger().ok
    finally:
        assert stop(process) == 0


@pytest.mark.process
def test_a_stop_finishes_what_was_begun(demo_data: Path) -> None:
    process, address = start_service(demo_data)
    results: list[int] = []
    text = "\n".join(reading(number) for number in range(3000))
    with sign_in(address) as client:
        worker = threading.Thread(target=lambda: results.append(client.import_readings(text, "ndjson").readings))
        before, ends = len(client.imports()), time.monotonic() + 20
        worker.start()
        with sign_in(address) as other:
            while len(other.imports()) == before and time.monotonic() < ends:
                time.sleep(0.02)
        assert stop(process) == 0
        worker.join(120)
    assert results == [3000]
    context = open_context(Config(data=demo_data))
    assert ledger.list_entries(context, limit=1)[0].body["readings"] == 3000


@pytest.mark.process
def test_a_busy_port_is_said_with_the_way_out(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        words = ["serve", "--data", str(tmp_path / "data"), "--port", port]
        done = subprocess.run(
            [sys.executable, "-m", "doorstone.cli.main", *words], capture_output=True, text=True, timeout=60
        )
    assert done.returncode == 1
    assert "cannot be had" in done.stderr
    assert "Choose another with --port" in done.stderr


@pytest.mark.process
def test_the_demo_on_a_busy_port_says_how_to_choose_another(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = subprocess.run(
            [sys.executable, "-m", "doorstone.demo.start", "--data", str(tmp_path / "d"), "--port", str(port)],
            capture_output=True,
            text=True,
            timeout=60,
        )
    assert (done.returncode, done.stderr.strip()) == (
        1,
        f"Port {port} is busy. Choose another: make demo PORT={port + 1}",
    )
    assert not (tmp_path / "d").exists()


@pytest.mark.long
def test_the_demo_is_seeded_once_and_kept(tmp_path: Path) -> None:
    assert seed_once(tmp_path / "data") is True
    before = (tmp_path / "data" / "doorstone.db").stat().st_mtime_ns
    assert seed_once(tmp_path / "data") is False
    assert (tmp_path / "data" / "doorstone.db").stat().st_mtime_ns == before


def test_configuration_comes_from_file_then_variables_then_options(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "doorstone.toml"
    file.write_text("port = 9001\nmost_days = 90\nthreads = 3\n")
    monkeypatch.setenv("DOORSTONE_CONFIG", str(file))
    monkeypatch.setenv("DOORSTONE_PORT", "9002")
    assert (Config().port, Config().most_days) == (9002, 90)
    assert Config(port=9003).port == 9003


def test_the_service_listens_on_loopback_unless_told_otherwise(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DOORSTONE_CONFIG", os.devnull)
    assert Config().host == "127.0.0.1"


def test_the_session_key_is_made_once_and_only_its_owner_reads_it(tmp_path: Path) -> None:
    config = Config(data=tmp_path / "data")
    key = session_key(config)
    assert len(key) == 32
    assert session_key(config) == key
    assert (tmp_path / "data" / "session.key").stat().st_mode & 0o777 == 0o600


@pytest.mark.process
def test_requests_are_logged_as_json_without_secrets(demo_data: Path) -> None:
    process, address = start_service(demo_data, port=free_port())
    with sign_in(address) as client:
        client.people()
    httpx.get(f"{address}/api/v1/people")
    stop(process)
    text = (demo_data.parent / "data.log").read_text()
    lines = [json.loads(line) for line in text.splitlines()]
    requests = [(row["path"], row["status"], row["actor"]) for row in lines if row["event"] == "request"]
    assert ("/api/v1/people", 200, "petra") in requests
    assert ("/api/v1/people", 401, None) in requests
    assert lines[-1]["event"] == "stopped"
    assert PASSWORD not in text
