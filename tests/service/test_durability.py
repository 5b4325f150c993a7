"""Nothing acknowledged is lost, nothing damaged starts as if it were new, nobody stops the service."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from datetime import date, datetime
from pathlib import Path
from typing import Any

import httpx
import pytest

from doorstone.service import listener as listening
from doorstone.service.config import Config
from doorstone.service.outbound import http_post
from doorstone.service.serve import BusyFolderError, Service
from doorstone.store.database import DamagedError, Database
from doorstone.store.ledger import LedgerBrokenError
from doorstone.store.notifications import DeliveryRow, WebhookRow
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, RefusedError
from doorstone.work.exceptions import activity
from doorstone.work.ledger import entries as ledger
from doorstone.work.operations import backup
from doorstone.work.people import people
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from tests.asking import ADMIN, PETRA, line
from tests.build import GOOD
from tests.running import Running, doorstone, running
from tests.store.test_migrations import at_schema

NOON = FixedClock(datetime(2027, 1, 18, 9))
TEXT = "".join(line(f"w{n}", {**GOOD, "memory.mib": 16384}) for n in range(40)).encode()


def opened(data: Path, **how: Any) -> Context:
    return Context(Database(data / "doorstone.db", **how), NOON)


# ---------------------------------------------------------------- an import is what was sent


def begun(context: Context) -> str:
    return import_job.begin(context, PETRA, ImportOptions("ndjson")).id


def test_a_file_that_was_cut_off_is_refused_and_can_be_sent_again(context: Context) -> None:
    name = begun(context)
    with pytest.raises(BadInputError, match="The file was cut off: 5,000 of"):
        import_job.receive(context, PETRA, name, io.BytesIO(TEXT[:5000]), len(TEXT))
    assert import_job.get_import(context, name).row.state == "waiting"
    assert list((context.database.path.parent / "imports").iterdir()) == []
    import_job.receive(context, PETRA, name, io.BytesIO(TEXT), len(TEXT))
    done = import_job.run(context, name)
    assert (done.row.state, done.row.readings, done.row.sha256) == ("done", 40, hashlib.sha256(TEXT).hexdigest())


@pytest.mark.parametrize("chunked", [False, True])
def test_a_connection_that_is_cut_half_way_imports_nothing(service: Running, chunked: bool) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['petra']}"}
    made = httpx.post(f"{service.address}/api/v1/imports", json={"form": "ndjson"}, headers=headers).json()["id"]
    host, port = service.address.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port))) as line_:
        size = "Transfer-Encoding: chunked" if chunked else f"Content-Length: {len(TEXT)}"
        head = f"PUT /api/v1/imports/{made}/file HTTP/1.1\r\nHost: x\r\n{size}\r\n"
        line_.sendall(f"{head}Authorization: {headers['Authorization']}\r\n\r\n".encode())
        line_.sendall((f"{len(TEXT):x}\r\n".encode() if chunked else b"") + TEXT[: len(TEXT) // 2])
    found = httpx.get(f"{service.address}/api/v1/imports/{made}", headers=headers).json()
    assert (found["state"], found["readings"]) == ("waiting", 0)


def test_of_two_files_at_once_one_is_taken_whole(context: Context) -> None:
    name, other = begun(context), TEXT.replace(b'"w', b'"v')
    results: list[Any] = []

    class Slow(io.BytesIO):
        def read(self, size: int | None = -1, /) -> bytes:
            time.sleep(0.005)
            return super().read(1000)

    def send(text: bytes) -> None:
        try:
            results.append(import_job.receive(context, PETRA, name, Slow(text), len(text)).row.sha256)
        except RefusedError as error:
            results.append(error)
        context.database.close()

    threads = [threading.Thread(target=send, args=(text,)) for text in (TEXT, other)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    (taken,) = [one for one in results if isinstance(one, str)]
    assert taken in {hashlib.sha256(text).hexdigest() for text in (TEXT, other)}
    assert import_job.run(context, name).row.readings == 40


@pytest.mark.parametrize(("kind", "state"), [("raw", "received"), ("ready", "applying")])
def test_a_file_that_changed_on_the_disk_is_not_taken_over(context: Context, kind: str, state: str) -> None:
    name = begun(context)
    import_job.receive(context, PETRA, name, io.BytesIO(TEXT), len(TEXT))
    if kind == "ready":
        number = import_job.get_import(context, name).row
        assert import_job._check(context, number, lambda: False)
        assert import_job._move_on(context, number.id, "applying")
    file = context.database.path.parent / "imports" / f"{name}.{kind}"
    file.write_bytes(file.read_bytes().replace(b"16384", b"16"))
    ended = import_job.run(context, name).row
    assert (ended.state, ended.readings) == ("failed", 0)
    assert f"{name}.{kind} is not the file that was kept; nothing was changed" in ended.why


# ----------------------------------------------------------------- one process per folder


def test_a_second_service_on_a_folder_is_refused_before_it_reads_anything(service: Running) -> None:
    with pytest.raises(BusyFolderError, match="Another service works in"):
        Service(Config(data=service.data, port=0, as_of=date(2027, 1, 18)))


@pytest.mark.process
def test_a_second_serve_says_so_and_leaves_a_running_import_alone(service: Running) -> None:
    words = ["serve", "--data", str(service.data), "--port", service.address.rpartition(":")[2]]
    done = subprocess.run(
        [sys.executable, "-m", "doorstone.cli.main", *words], capture_output=True, text=True, timeout=60
    )
    assert (done.returncode, "Another service works in" in done.stderr) == (1, True)


# ---------------------------------------------------------------- nobody stops the service


@pytest.fixture
def narrow(demo_data: Path) -> Iterator[Running]:
    """A service with two workers."""
    with running(demo_data, threads=2) as made:
        yield made


def connect(service: Running) -> socket.socket:
    host, port = service.address.removeprefix("http://").split(":")
    return socket.create_connection((host, int(port)))


def test_who_drips_bytes_holds_nobody_up(narrow: Running) -> None:
    dripping = [connect(narrow) for _ in range(50)]
    for one in dripping:
        one.sendall(b"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Length: 1000\r\n\r\n{")
    assert httpx.get(f"{narrow.address}/healthz", timeout=60).status_code == 200
    assert httpx.get(f"{narrow.address}/api/v1/session/ways", timeout=60).status_code == 200
    for one in dripping:
        one.close()


def test_a_request_that_does_not_come_whole_in_time_is_closed(demo_data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(listening, "HEADER_SECONDS", 0.3)
    monkeypatch.setattr(listening, "BODY_SECONDS", 0.1)
    with running(demo_data) as service:
        for start in (b"GET / HTTP/1.1\r\nHost: ", b"POST /x HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"):
            with connect(service) as one:
                one.settimeout(10)
                one.sendall(start)
                assert one.recv(100) == b""


@pytest.mark.long
def test_streams_that_are_left_open_hold_no_worker_and_are_bounded(narrow: Running) -> None:
    headers = {"Authorization": f"Bearer {narrow.tokens['petra']}"}
    made = httpx.post(f"{narrow.address}/api/v1/imports", json={"form": "ndjson"}, headers=headers).json()["id"]
    path = f"/api/v1/imports/{made}/events"
    request = f"GET {path} HTTP/1.1\r\nHost: x\r\nAuthorization: {headers['Authorization']}\r\n\r\n"
    watching = [connect(narrow) for _ in range(16)]
    for one in watching:
        one.settimeout(20)
        one.sendall(request.encode())
        assert b"200 OK" in one.recv(4096)
    more = httpx.get(f"{narrow.address}/api/v1/imports/{made}/events", headers=headers, timeout=60)
    assert (more.status_code, more.headers["Retry-After"]) == (503, "5")
    for other in ("/healthz", "/readyz", "/api/v1/session"):
        assert httpx.get(f"{narrow.address}{other}", headers=headers, timeout=60).status_code == 200
    for one in watching:
        one.close()
    for _ in range(100):  # a comment every few seconds finds out that a reader has gone
        with httpx.stream("GET", f"{narrow.address}{path}", headers=headers, timeout=60) as again:
            if again.status_code == 200:
                return
        time.sleep(0.2)
    pytest.fail("no place was given back")


# ------------------------------------------------------------------- truth about itself


def test_a_service_that_cannot_write_is_not_ready(service: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    assert httpx.get(f"{service.address}/readyz").status_code == 200

    def full(database: Database) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Database, "probe", full)
    answer = httpx.get(f"{service.address}/readyz")
    assert (answer.status_code, "No space left" in answer.json()["detail"]) == (503, True)


@pytest.mark.parametrize("spoil", [b"", b"not a database at all"])
def test_an_empty_or_damaged_file_never_starts_as_a_new_installation(demo_data: Path, spoil: bytes) -> None:
    (demo_data / "doorstone.db").write_bytes(spoil)
    with pytest.raises(DamagedError, match="doorstone restore"):
        Service(Config(data=demo_data, port=0))


def test_records_that_are_gone_beside_their_key_are_missed(demo_data: Path) -> None:
    (demo_data / "doorstone.db").unlink()
    with pytest.raises(DamagedError, match=r"is missing, though ledger\.key is there"):
        Service(Config(data=demo_data, port=0))


def test_a_file_with_a_damaged_page_does_not_start(demo_data: Path) -> None:
    file = demo_data / "doorstone.db"
    held = bytearray(file.read_bytes())
    held[4096 * 3 : 4096 * 60] = bytes(4096 * 57)
    file.write_bytes(held)
    with pytest.raises((DamagedError, sqlite3.DatabaseError)):
        Service(Config(data=demo_data, port=0))


def test_a_clock_that_goes_back_revives_no_token(demo: Context) -> None:
    secret = people.issue_token(demo, PETRA, "old", "technician", 1).secret or ""
    later = Context(demo.database, FixedClock(datetime(2027, 1, 20, 9)))
    activity.comment(later, PETRA, "EX-0001", "Two days later.")
    assert people.who_holds(later, secret) is None
    assert people.who_holds(Context(demo.database, NOON), secret) is None


# ---------------------------------------------------------------------------- the ledger


def test_nothing_is_added_to_a_ledger_whose_end_was_cut_off(demo: Context) -> None:
    with demo.database.write() as db:
        db.execute("DROP TRIGGER ledger_stays")
        db.execute("DELETE FROM ledger_about")
        db.execute("DELETE FROM ledger WHERE seq > (SELECT MAX(seq) FROM ledger) - 10")
    with pytest.raises(LedgerBrokenError, match="missing at the end"):
        activity.comment(demo, PETRA, "EX-0001", "An ordinary remark.")
    assert not ledger.check_ledger(demo).ok


def test_a_broken_ledger_is_said_over_http(service: Running) -> None:
    with sqlite3.connect(service.data / "doorstone.db") as db:
        db.executescript("DROP TRIGGER ledger_stays; DELETE FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)")
    db.close()
    headers = {"Authorization": f"Bearer {service.tokens['petra']}"}
    answer = httpx.post(
        f"{service.address}/api/v1/exceptions/EX-0001/comments", json={"text": "A remark."}, headers=headers
    )
    assert (answer.status_code, answer.json()["type"]) == (503, "urn:door-stone:problem:ledger-broken")
    assert httpx.get(f"{service.address}/readyz").status_code == 503


def test_an_older_copy_of_the_records_is_noticed(demo_data: Path, tmp_path: Path) -> None:
    shutil.copy(demo_data / "doorstone.db", tmp_path / "older.db")
    context = opened(demo_data)
    activity.comment(context, PETRA, "EX-0001", "Said after the copy.")
    last = ledger.check_ledger(context).entries
    context.database.close()
    for name in ("doorstone.db-wal", "doorstone.db-shm"):
        (demo_data / name).unlink(missing_ok=True)
    shutil.copy(tmp_path / "older.db", demo_data / "doorstone.db")
    found = ledger.check_ledger(opened(demo_data))
    assert found.faults == (
        f"entry {last} is in the head beside the records and is missing here: these are older records, "
        "or their end was cut off",
    )


def test_a_head_that_was_noted_elsewhere_is_compared(demo_data: Path) -> None:
    context = opened(demo_data)
    noted = ledger.check_ledger(context).head
    activity.comment(context, PETRA, "EX-0001", "Said afterwards.")
    assert ledger.check_ledger(context, noted).ok
    number, _, digest = noted.partition(":")
    assert ledger.check_ledger(context, f"{number}:{digest[::-1]}").faults == (
        f"entry {number} is not the one in what was noted elsewhere",
    )
    context.database.close()
    printed = doorstone(("ledger", "verify", "--data", demo_data, "--kept", noted, "--format", "json"), {})
    assert (printed.returncode, json.loads(printed.stdout)["ok"]) == (0, True)


def test_verifying_a_folder_makes_no_key(demo_data: Path) -> None:
    (demo_data / "ledger.key").unlink()
    done = doorstone(("ledger", "verify", "--data", demo_data, "--format", "json"), {})
    assert (done.returncode, "ledger.key is missing" in done.stdout) == (1, True)
    assert not (demo_data / "ledger.key").exists()


# -------------------------------------------------------------------------------- backups


def test_a_backup_is_made_while_the_service_works_and_comes_back_whole(service: Running, tmp_path: Path) -> None:
    file = tmp_path / "stone.backup"
    made = doorstone(("backup", file, "--data", service.data, "--format", "json"), {})
    assert made.returncode == 0, made.stderr
    told = json.loads(made.stdout)
    assert {"doorstone.db", "ledger.key", "ledger.head", "session.key", "kit.key"} <= set(told["files"])
    assert file.stat().st_mode & 0o777 == 0o600
    again = doorstone(("backup", file, "--data", service.data), {})
    assert (again.returncode, "is there already" in " ".join(again.stderr.split())) == (3, True)
    onto = doorstone(("restore", file, "--data", service.data), {})
    assert (onto.returncode, "is not empty" in " ".join(onto.stderr.split())) == (3, True)
    tried = doorstone(("restore", file, "--data", tmp_path / "back", "--dry-run"), {})
    assert (tried.returncode, "Nothing was changed" in " ".join(tried.stderr.split())) == (0, True), tried.stderr
    assert doorstone(("backup", tmp_path / "b", "-n", "--data", service.data), {}).returncode == 0
    assert sorted(one.name for one in tmp_path.iterdir() if one.name in ("b", "back")) == []
    back = doorstone(("restore", file, "--data", tmp_path / "back"), {})
    assert back.returncode == 0, back.stderr
    context = opened(tmp_path / "back", existing=True)
    found = ledger.check_ledger(context, told["head"])
    assert (found.ok, found.entries) == (True, told["entries"] + 1)
    assert ledger.list_entries(context, limit=1)[0].action == "records restored"
    assert (tmp_path / "back" / "kit.key").read_bytes() == (service.data / "kit.key").read_bytes()
    assert all(f.stat().st_mode & 0o077 == 0 for f in (tmp_path / "back").iterdir())


@pytest.mark.parametrize("at", [300, 200_000, -2_000])
def test_a_backup_that_was_altered_or_cut_is_refused_and_nothing_is_left(
    demo_data: Path, tmp_path: Path, at: int
) -> None:
    file = tmp_path / "stone.backup"
    backup.make_backup(demo_data, file)
    held = bytearray(file.read_bytes())
    held[at] ^= 0xFF
    file.write_bytes(held if at > 0 else held[: len(held) // 2])
    with pytest.raises(BadInputError):
        backup.restore_backup(file, tmp_path / "back")
    assert not (tmp_path / "back").exists()
    assert [f.name for f in tmp_path.iterdir() if "restoring" in f.name] == []


def test_a_copy_is_kept_before_the_schema_changes(tmp_path: Path) -> None:
    db = at_schema(tmp_path / "doorstone.db", 7)
    db.execute(
        "INSERT INTO people (name, display, role, password_hash, added_at)"
        " VALUES ('wilhelmina', 'W', 'administrator', '', '2027-01-18')"
    )
    db.close()
    assert [person.name for person in people.list_people(opened(tmp_path))] == ["wilhelmina"]
    with sqlite3.connect(tmp_path / "doorstone.schema-7.db") as kept:
        assert kept.execute("PRAGMA user_version").fetchone()[0] == 7
    kept.close()


# ----------------------------------------------------------------------- webhooks and files


@pytest.mark.parametrize(
    "host", ["127.0.0.1", "localhost", "[::1]", "169.254.169.254", "[::ffff:127.0.0.1]", "0.0.0.0"]
)
def test_hooks_reach_neither_this_machine_nor_what_is_linked_to_it(host: str) -> None:
    webhook = WebhookRow(1, 1, f"http://{host}:1/told", (), "s", True, "w", "2027-01-18")
    one = DeliveryRow(1, 1, "", "L-1", "exception", "{}", "waiting", 0, "", "", "2027-01-18")
    with pytest.raises(OSError, match="may not be reached"):
        http_post()(webhook, one)
    with pytest.raises(OSError, match="may not be reached"):
        http_post([".northmere.example"])(webhook, one)


def test_a_closed_and_a_silent_port_are_told_alike() -> None:
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen(0)
        answers = []
        for port in (1, silent.getsockname()[1]):
            webhook = WebhookRow(1, 1, f"http://127.0.0.1:{port}/told", (), "s", True, "w", "2027-01-18")
            one = DeliveryRow(1, 1, "", "L-1", "exception", "{}", "waiting", 0, "", "", "2027-01-18")
            with pytest.raises(OSError) as caught:  # noqa: PT011
                http_post(["127.0.0.1"], 0.3)(webhook, one)
            answers.append(str(caught.value))
    assert answers == ["no answer", "no answer"]


def test_what_is_kept_is_for_its_owner_only(tmp_path: Path) -> None:
    context = Context(Database(tmp_path / "new" / "doorstone.db"), NOON)
    people.add_person(context, ADMIN, "first", "", "administrator", None)
    assert (tmp_path / "new").stat().st_mode & 0o077 == 0
    assert [f.name for f in (tmp_path / "new").iterdir() if f.stat().st_mode & 0o077] == []


def test_records_that_others_could_read_are_closed_to_them(demo_data: Path) -> None:
    (demo_data / "doorstone.db").chmod(0o644)
    opened(demo_data)
    assert (demo_data / "doorstone.db").stat().st_mode & 0o777 == 0o600
