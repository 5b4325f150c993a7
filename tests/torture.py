"""Kills a service at random moments while it is written to, and looks whether anything is lost or there twice.

Every sixth kill comes while records of an earlier schema are brought to the newest one; where a file system can be
mounted, every fifth comes on a disk that has run full.

`python -m tests.torture KILLS SEED`. Between two kills three people write at once: remarks, tokens, and imports of some
readings, by upload and at once. What was not answered is sent again after the next start, with the same key. After
each kill the records are opened as they lie there.
"""

from __future__ import annotations

import json
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

import httpx

from doorstone.demo.seed import PASSWORD, seed
from doorstone.store.database import Database
from doorstone.store.devices.devices import records
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import Passwords
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.ledger import entries as ledger
from doorstone.work.people import people
from tests.running import start_service
from tests.store.test_migrations import at_schema


class Sent(NamedTuple):
    """A call that may be sent again: whose, where, what, and its key."""

    name: str
    path: str
    body: dict[str, Any]
    key: str


@dataclass
class Answered:
    """What the service has said is done."""

    remarks: set[str] = field(default_factory=set)
    tokens: set[str] = field(default_factory=set)
    named: set[str] = field(default_factory=set)
    devices: set[str] = field(default_factory=set)
    unanswered: list[Sent] = field(default_factory=list)
    kills: int = 0
    full: int = 0
    refused: int = 0
    repeated: int = 0
    migrations: int = 0
    faults: list[str] = field(default_factory=list)

    @property
    def writes(self) -> int:
        return len(self.remarks) + len(self.tokens) + len(self.devices)


def torture(folder: Path, kills: int, seed_: int, tell: bool = False) -> Answered:
    """Kill so many times; gives what was answered and every fault that was found."""
    chance, answered = random.Random(seed_), Answered()
    with _disk(folder) as (place, fills):
        _torture(place, fills, kills, chance, answered, tell)
    return answered


@contextmanager
def _disk(folder: Path) -> Iterator[tuple[Path, bool]]:
    """A folder for the records, and whether it is a small disk of its own that can run full."""
    place = folder / "disk"
    place.mkdir()
    words = ["mount", "-t", "tmpfs", "-o", "size=256m", "tmpfs", str(place)]
    fills = subprocess.run(words, capture_output=True, check=False).returncode == 0
    try:
        yield place, fills
    finally:
        if fills:
            subprocess.run(["umount", "-l", place], check=True)


def _fill(disk: Path, leave: int) -> None:
    with suppress(OSError), (disk / "filler").open("ab", buffering=0) as file:
        while (free := shutil.disk_usage(disk).free - leave) > 0:
            file.write(bytes(min(free, 1 << 20)))


def _torture(folder: Path, fills: bool, kills: int, chance: random.Random, answered: Answered, tell: bool) -> None:
    data = folder / "data"
    seed(data, Passwords("tests"))
    told = 0
    for number in range(kills):
        if number % 6 == 5:
            _migration(folder / f"old-{number}", chance, answered)
            continue
        process, address = start_service(data)
        _send_again(address, answered)
        ended = threading.Event()
        writers = [
            threading.Thread(target=_write, args=(address, name, f"{number}-{name}", answered, ended))
            for name in ("petra", "anselm", "wilhelmina")
        ]
        for writer in writers:
            writer.start()
        time.sleep(chance.uniform(0.05, 1.2))
        if fills and number % 5 == 4:
            _fill(folder, chance.choice((0, 0, 50_000, 500_000)))
            answered.full += 1
            time.sleep(chance.uniform(0.05, 0.6))
        process.send_signal(signal.SIGKILL)
        process.wait(60)
        ended.set()
        for writer in writers:
            writer.join(120)
        answered.kills += 1
        (folder / "filler").unlink(missing_ok=True)
        _look(data, answered)
        for fault in answered.faults[told:] if tell else ():
            print(f"kill {answered.kills}: {fault}", flush=True)
        told = len(answered.faults)
        if tell and number % 10 == 0:
            print(_said(answered), flush=True)


def _said(answered: Answered) -> str:
    a = answered
    kinds = f"{a.kills} kills, {a.migrations} in a migration, {a.full} on a full disk"
    calls = f"{a.writes:,} answered writes, {a.refused:,} refused for want of room, {a.repeated:,} sent again"
    return f"{kinds}; {calls}; {len(a.faults)} faults"


def _migration(folder: Path, chance: random.Random, answered: Answered) -> None:
    """Records of schema 6 with some thousand readings are opened by a program that is killed on the way, then again."""
    folder.mkdir()
    path, count = folder / "doorstone.db", 3_000
    db = at_schema(path, 6)
    db.execute("BEGIN")
    facts = [json.dumps({"memory.mib": 4096 + number}) for number in range(count)]
    db.executemany(
        "INSERT INTO devices (id, site, added_at, platform) VALUES (?, 'north', 'then', 'tarn')",
        [(f"d{number}",) for number in range(count)],
    )
    db.executemany(
        "INSERT INTO readings (device, source, taken_at, facts, verdicts, unread, texts)"
        " VALUES (?, 'file', '2027-01-10T08:00:00', ?, '{}', '{}', '[]')",
        [(f"d{number}", held) for number, held in enumerate(facts)],
    )
    db.execute("COMMIT")
    db.close()
    code = f"from pathlib import Path; from doorstone.store.database import Database; Database(Path({str(path)!r}))"
    process = subprocess.Popen([sys.executable, "-c", code])
    time.sleep(chance.uniform(0.1, 0.9))
    process.kill()
    process.wait(60)
    answered.kills += 1
    answered.migrations += 1
    opened = Database(path)
    try:
        with opened.read() as db:
            held = db.execute("SELECT COUNT(*) FROM readings").fetchone()[0]
            sound = db.execute("PRAGMA quick_check").fetchone()[0]
        if (held, sound) != (count, "ok"):
            answered.faults.append(f"migration: {held} of {count} readings, {sound}")
    finally:
        opened.close()
        shutil.rmtree(folder)


@contextmanager
def _signed_in(address: str, name: str) -> Iterator[httpx.Client]:
    headers = {"X-Doorstone-Console": "1"}
    with httpx.Client(base_url=f"{address}/api/v1", headers=headers, timeout=30) as client:
        client.post("/session", json={"name": name, "password": PASSWORD}).raise_for_status()
        yield client


def _write(address: str, name: str, mark: str, answered: Answered, ended: threading.Event) -> None:
    sent: Sent | None = None
    try:
        with _signed_in(address, name) as client:
            number = 0
            while not ended.is_set():
                number += 1
                text = f"remark {mark} {number}"
                sent = Sent(name, "/exceptions/EX-0001/comments", {"text": text}, text)
                _send(client, sent, answered)
                token = {"name": f"{mark} {number}", "role": "viewer", "days": 9}
                sent = Sent(name, "/tokens", token, f"token {mark} {number}")
                _send(client, sent, answered)
                sent = None
                if name == "petra":
                    _import(client, f"t{mark}-{number}", answered, upload=number % 2 == 0)
    except httpx.HTTPError:
        if sent is not None:
            answered.unanswered.append(sent)


def _send(client: httpx.Client, sent: Sent, answered: Answered) -> None:
    """Make a call, and note what was answered; what was refused for want of room is to be sent again."""
    done = client.post(sent.path, json=sent.body, headers={"Idempotency-Key": sent.key})
    if done.is_success and sent.path == "/tokens":
        answered.tokens.add(done.json()["id"])
    elif done.is_success:
        answered.remarks.add(sent.body["text"])
    elif sent.path == "/tokens" and "has issued a token before" in done.text:
        answered.named.add(sent.body["name"])  # its secret is shown once only
    else:
        if done.status_code != 507:
            answered.faults.append(f"{sent.key}: answered {done.status_code} {done.text[:200]}")
        answered.refused += 1
        answered.unanswered.append(sent)


def _send_again(address: str, answered: Answered) -> None:
    again, answered.unanswered = answered.unanswered, []
    for name in sorted({sent.name for sent in again}):
        with _signed_in(address, name) as client:
            for sent in again:
                if sent.name == name:
                    _send(client, sent, answered)
                    answered.repeated += 1


def _import(client: httpx.Client, mark: str, answered: Answered, *, upload: bool) -> None:
    names = [f"{mark}-{n}" for n in range(60)]
    about = {"source": "file", "taken_at": "2027-01-17T08:00:00"}
    lines = [{"device": name, "facts": {"memory.mib": 8192 + n}, **about} for n, name in enumerate(names)]
    text = "".join(json.dumps(line) + "\n" for line in lines)
    if not upload:
        if client.post("/readings", json={"form": "ndjson", "text": text}).is_success:
            answered.devices.update(names)
        return
    opened = client.post("/imports", json={"form": "ndjson"})
    if not opened.is_success:
        return
    begun = opened.json()["id"]
    sent = client.put(f"/imports/{begun}/file", content=text.encode())
    if sent.is_success:  # it has come whole: from here on it is taken over, now or after the next start
        answered.devices.update(names)


def _look(data: Path, answered: Answered) -> None:
    context = Context(Database(data / "doorstone.db"), FixedClock(datetime(2027, 1, 18, 9)))
    try:
        answered.faults += ledger.check_ledger(context).faults
        said = Counter(comment.text for comment in exceptions.get_exception(context, "EX-0001").row.comments)
        answered.faults += [f"lost: {text}" for text in sorted(answered.remarks - said.keys())]
        made = Counter(token.name for token in people.list_tokens(context))
        answered.faults += [f"lost: token {name}" for name in sorted(answered.named - made.keys())]
        answered.faults += [f"{count} times: {text}" for text, count in (said + made).items() if count > 1]
        tokens = {token.id for token in people.list_tokens(context)}
        answered.faults += [f"lost: token {name}" for name in sorted(answered.tokens - tokens)]
        with context.database.read() as db:
            devices = set(records(db, answered.devices))
            open_ = db.execute("SELECT COUNT(*) FROM imports WHERE ended_at = ''").fetchone()[0]
        if not open_:
            answered.faults += [f"lost: device {name}" for name in sorted(answered.devices - devices)]
    finally:
        context.database.close()


def main(kills: int, seed_: int) -> int:
    with tempfile.TemporaryDirectory() as folder:
        found = torture(Path(folder), kills, seed_, tell=True)
    print(f"{_said(found)}; seed {seed_}")
    for fault in found.faults[:20]:
        print(f"  {fault}")
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())))
