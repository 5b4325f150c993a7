"""A full disk: pages stay readable, writes say so, what was accepted goes on, and nothing is there twice."""

from __future__ import annotations

import json
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from doorstone.demo.seed import PASSWORD
from doorstone.service.import_worker import ImportWorker
from doorstone.store.database import Database
from doorstone.work.context.context import Context
from doorstone.work.context.errors import NoRoomError
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from tests.asking import PETRA, line
from tests.build import GOOD
from tests.running import Running, copy_of, start_service, stop

PATHS = ("/exceptions", "/due", "/ledger", "/platforms", "/kits", "/devices?platform=tarn&release=9.1", "/imports")


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 24 MiB."""
    folder = tmp_path / "disk"
    folder.mkdir()
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", folder], capture_output=True)
    if done.returncode:
        pytest.skip("a file system can be mounted by root only")
    yield folder
    subprocess.run(["umount", "-l", folder], check=True)


def fill(disk: Path, leave: int = 0) -> None:
    with (disk / "filler").open("ab", buffering=0) as file:
        try:
            while (free := shutil.disk_usage(disk).free - leave) > 0:
                file.write(bytes(min(free, 1 << 16)))
        except OSError:
            return


def signed_in(address: str, name: str) -> httpx.Client:
    client = httpx.Client(base_url=f"{address}/api/v1", headers={"X-Doorstone-Console": "1"}, timeout=30)
    assert client.post("/session", json={"name": name, "password": PASSWORD}).status_code == 200
    return client


def comments(client: httpx.Client) -> list[str]:
    return [one["text"] for one in client.get("/exceptions/EX-0001").json()["comments"]]


@pytest.mark.process
@pytest.mark.long
def test_on_a_full_disk_pages_are_read_writes_are_refused_and_an_accepted_import_goes_on(
    disk: Path, seeded_data: Path
) -> None:
    data = copy_of(seeded_data, disk / "data")
    process, address = start_service(data)
    petra = signed_in(address, "petra")
    begun = petra.post("/imports", json={"form": "ndjson"}).json()["id"]
    lines = "".join(line(f"zz{n}", {**GOOD, "memory.mib": 16384 + n}) for n in range(4_000))
    fill(disk, leave=len(lines) * 3 // 2)
    assert petra.put(f"/imports/{begun}/file", content=lines.encode()).status_code == 202
    fill(disk)

    written, refused = [], []
    anselm = signed_in(address, "anselm")
    for number in range(80):
        text = f"remark {number} " + "x" * 3900
        done = anselm.post("/exceptions/EX-0001/comments", json={"text": text})
        (written if done.is_success else refused).append(text)
        if not done.is_success:
            assert (done.status_code, done.json()["title"]) == (507, "The disk is full")
            assert "is full; nothing was written" in done.json()["detail"]
    assert refused
    assert [petra.get(path).status_code for path in PATHS] == [200] * len(PATHS)
    assert httpx.get(f"{address}/healthz").status_code == 200
    assert httpx.get(f"{address}/readyz").status_code == 503
    assert not petra.get(f"/imports/{begun}").json()["ended"]
    assert stop(process) == 0

    process, address = start_service(data, ready="/healthz")
    petra = signed_in(address, "petra")
    assert [petra.get(path).status_code for path in PATHS] == [200] * len(PATHS)
    (disk / "filler").unlink()
    for _ in range(3000):
        if (found := petra.get(f"/imports/{begun}").json())["ended"]:
            break
        time.sleep(0.1)
    assert (found["state"], found["readings"]) == ("done", 4_000)
    kept = comments(petra)
    assert [text for text in kept if text.startswith("remark ")] == written
    assert httpx.get(f"{address}/readyz").status_code == 200
    assert stop(process) == 0


def test_a_head_that_cannot_be_written_takes_nothing_back(service: Running) -> None:
    """A folder where the head is written first: today's write stands and is answered so, and is there once."""
    headers = {"Authorization": f"Bearer {service.tokens['anselm']}"}
    (service.data / "ledger.head.part").mkdir()
    with httpx.Client(base_url=f"{service.address}/api/v1", headers=headers) as client:
        before = len(comments(client))
        done = client.post("/exceptions/EX-0001/comments", json={"text": "once"}, headers={"Idempotency-Key": "k"})
        again = client.post("/exceptions/EX-0001/comments", json={"text": "once"}, headers={"Idempotency-Key": "k"})
        assert (done.status_code, again.status_code) == (200, 200)
        assert comments(client)[before:] == ["once"]
        ready = httpx.get(f"{service.address}/readyz")
        assert (ready.status_code, "ledger.head cannot be replaced" in ready.json()["detail"]) == (503, True)
        (service.data / "ledger.head.part").rmdir()
        assert httpx.get(f"{service.address}/readyz").status_code == 200
    head = json.loads((service.data / "ledger.head").read_text())
    database = Database(service.data / "doorstone.db")
    assert head["seq"] == database.connection.execute("SELECT MAX(seq) FROM ledger").fetchone()[0]
    database.close()


def test_a_failure_after_the_commit_is_not_called_nothing_written(
    service: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> None:
        raise ZeroDivisionError

    monkeypatch.setattr("doorstone.service.app._response", broken)
    headers = {"Authorization": f"Bearer {service.tokens['anselm']}"}
    done = httpx.post(f"{service.address}/api/v1/exceptions/EX-0001/comments", json={"text": "it"}, headers=headers)
    looked = httpx.get(f"{service.address}/api/v1/exceptions/EX-0001", headers=headers)
    assert (done.status_code, done.json()["detail"][:15], looked.json()["detail"][-19:]) == (
        500, "It was written,", "nothing was written",
    )  # fmt: skip


def test_opening_a_connection_needs_no_lock(context: Context) -> None:
    other = Database(context.database.path)
    with context.database.write():
        assert other.connection.execute("SELECT COUNT(*) FROM people").fetchone()[0] == 4
    other.close()


def test_an_import_waits_for_room_and_is_tried_again(context: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    name = import_job.begin(context, PETRA, ImportOptions("ndjson")).id
    tried = []

    def run(context: Context, name: str, halted: object) -> object:
        tried.append(name)
        if len(tried) < 3:
            raise NoRoomError("The disk is full", "Free some space", name)
        return import_job.get_import(context, name)

    monkeypatch.setattr(import_job, "run", run)
    worker = ImportWorker(context, wait_for_room=0.01)
    worker.run(name).result(10)
    worker.close()
    assert tried == [name] * 3
