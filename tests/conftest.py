"""Shared fixtures: contexts on empty or seeded records, clients over WSGI, running services, the command line.

A test that starts a process is marked `process`, one that opens a page has the mark `browser`; whoever starts a process
without the mark is told so. The demo's records are made once in a run and copied; a test that changes something asks
for a service of its own (`live`, `run`), one that only reads shares that of its worker (`shown`, `look`).
"""

from __future__ import annotations

import fcntl
import gc
import logging
import os
import shutil
import sqlite3
import ssl
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from datetime import date, datetime
from functools import cache
from pathlib import Path
from typing import Any

import httpx
import pytest
import structlog
from hypothesis import settings
from rehearsal.clock import environment
from werkzeug.routing import Rule

from doorstone.client import Client
from doorstone.demo.media import MEDIA
from doorstone.demo.seed import PASSWORD, seed, sheet_text
from doorstone.service.app import create_app
from doorstone.store import database
from doorstone.store.database import Database
from doorstone.work import media
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import Passwords
from doorstone.work.people import people
from doorstone.work.platforms import revisions
from tests.asking import settle_in
from tests.running import ROOT, Run, Running, command_of, copy_of, running

NOW = datetime(2027, 1, 18, 9)
ADMIN = Actor("wilhelmina", "administrator", "console")
PASSWORDS = Passwords("tests")
MEMORY, ROOM = Path("/dev/shm"), 4 * 1024**3
os.environ["DOORSTONE_CONFIG"] = os.devnull
os.environ["DOORSTONE_PASSWORD_COST"] = "tests"
structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))


_build, _built = Rule._compile_builder, dict[tuple[str, bool], Any]()


def _built_once(rule: Rule, append_unknown: bool = True) -> Any:
    """Hundreds of applications are made with the same rules: what builds an address from one is compiled once."""
    key = (rule.rule, append_unknown)
    if key not in _built:
        _built[key] = _build(rule, append_unknown)
    return _built[key]


Rule._compile_builder = _built_once  # type: ignore[method-assign]


@cache
def _new_records() -> sqlite3.Connection:
    """Records that hold nothing, brought to the newest schema."""
    made = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
    made.create_function("sealed", 1, str)  # there is nothing to seal
    made.execute("PRAGMA auto_vacuum = INCREMENTAL")
    _migrate(made)
    return made


_migrate = database.migrate


def _migrated_once(connection: sqlite3.Connection, last: int | None = None) -> int:
    """Hundreds of new files are made: each is a copy of one that was brought to the newest schema step by step."""
    if last is None and not connection.execute("PRAGMA user_version").fetchone()[0]:
        _new_records().backup(connection)
    return _migrate(connection, last)


database.migrate = _migrated_once
settings.register_profile("tests", deadline=None, max_examples=40)  # a busy machine is no fault of the code
settings.load_profile("tests")
ssl.create_default_context = cache(ssl.create_default_context)  # every HTTP client asks for one: 50 ms each


def pytest_configure(config: pytest.Config) -> None:
    """Records that tests make lie in memory where there is room: they wait for no disk. Scripts run on one day."""
    if MEMORY.is_dir() and shutil.disk_usage(MEMORY).free > ROOM and "TMPDIR" not in os.environ:
        tempfile.tempdir = str(MEMORY)
    os.environ.update(environment(Path(tempfile.mkdtemp(prefix="clock-")), date(2027, 1, 18)))
    gc.set_threshold(200_000, 20, 20)  # cycles are looked for seldom: a worker holds much that stays to the end


def pytest_collection_finish() -> None:
    """What is loaded by now stays to the end: nobody looks for cycles in it again and again."""
    gc.collect()
    gc.freeze()


@pytest.hookimpl(wrapper=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> Iterator[None]:
    """What takes longest begins first, in whatever order the rest comes: no worker waits for another at the end."""
    for item in items:
        if item.path.is_relative_to(ROOT / "tests" / "console"):
            item.add_marker("browser")
    yield
    items.sort(key=lambda item: item.get_closest_marker("long") is None)


@pytest.fixture(autouse=True)
def _says_that_it_starts_processes(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """The quick run leaves out what starts a process, so a test has to say that it does."""
    node = request.node
    if node.get_closest_marker("process") or node.get_closest_marker("browser"):
        return

    def refuse(*words: Any, **more: Any) -> None:
        raise AssertionError("mark a test that starts a process: @pytest.mark.process")

    monkeypatch.setattr(subprocess.Popen, "__init__", refuse)
    monkeypatch.setattr(subprocess.Popen, "__del__", lambda process: None)


# ------------------------------------------------------------------- records


def made_once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder that one worker of a run makes and all of them copy."""
    base = factory.getbasetemp()
    shared = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    with (shared / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (shared / name).exists():
            make(shared / f"{name}.partial")
            (shared / f"{name}.partial").rename(shared / name)
    return shared / name


@pytest.fixture(scope="session")
def seeded_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return made_once(tmp_path_factory, "northmere", lambda folder: seed(folder, PASSWORDS))


@pytest.fixture(scope="session")
def empty_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The records of an organisation that has loaded the Tarn sheet and has four people."""

    def make(folder: Path) -> None:
        made = Context(Database(folder / "doorstone.db"), FixedClock(NOW), passwords=PASSWORDS)
        revisions.load_sheet(made, ADMIN, *sheet_text(), "tarn.toml")
        settle_in(made)
        for given in MEDIA[:1]:
            media.add_media(made, ADMIN, given)
        made.database.close()

    return made_once(tmp_path_factory, "empty", make)


@pytest.fixture
def context(empty_data: Path, tmp_path: Path) -> Iterator[Context]:
    """A context on 18 January 2027 with the Tarn sheet loaded, four people, and nothing else."""
    for file in empty_data.iterdir():
        (tmp_path / file.name).write_bytes(file.read_bytes())
    made = Context(Database(tmp_path / "doorstone.db"), FixedClock(NOW), passwords=PASSWORDS)
    yield made
    made.database.close()


@pytest.fixture
def demo_data(seeded_data: Path, tmp_path: Path) -> Path:
    """A copy of the demo's records that nobody has opened."""
    return copy_of(seeded_data, tmp_path / "data")


@pytest.fixture
def demo(demo_data: Path) -> Iterator[Context]:
    """A context on a copy of the demo's records."""
    made = Context(Database(demo_data / "doorstone.db"), FixedClock(NOW), passwords=PASSWORDS)
    yield made
    made.database.close()


@pytest.fixture
def as_role(demo: Context) -> Iterator[Callable[[str], Client]]:
    """Clients over the WSGI app on the demo's records, by role; `nobody` has no token."""
    app = create_app(demo, b"k" * 32)
    clients: list[Client] = []
    names = {"viewer": "odile", "technician": "petra", "approver": "anselm", "administrator": "wilhelmina"}

    def make(role: str) -> Client:
        token = None
        if role != "nobody":
            token = people.issue_token(demo, Actor(names[role], role, "test"), "test", role, 30, session=True).secret
        clients.append(Client("http://doorstone.test", token, transport=httpx.WSGITransport(app=app)))
        return clients[-1]

    yield make
    for made in clients:
        made.close()


@pytest.fixture
def password() -> str:
    return PASSWORD


# ------------------------------------------------------------------ services


@pytest.fixture
def service(demo_data: Path) -> Iterator[Running]:
    """A real service on loopback over a copy of the demo's records, for a test that changes them."""
    with running(demo_data) as made:
        yield made


@pytest.fixture
def live(service: Running) -> str:
    """The address of a service that a test may change."""
    return service.address


@pytest.fixture(scope="session")
def _shared(seeded_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Running, Context]]:
    with running(copy_of(seeded_data, tmp_path_factory.mktemp("shared") / "data")) as made:
        yield made, Context(Database(made.data / "doorstone.db"), FixedClock(NOW))


@pytest.fixture
def shown(_shared: tuple[Running, Context]) -> Iterator[Running]:
    """A real service that tests only read; whoever writes to it is told so."""
    made, context = _shared
    before = context.stamp().ledger
    yield made
    assert context.stamp().ledger == before, "this test changes records: ask for `live`"


@pytest.fixture
def run(service: Running, tmp_path: Path) -> Run:
    """The command line against a service of the test's own."""
    return command_of(service, tmp_path / "home")


@pytest.fixture
def look(shown: Running, tmp_path: Path) -> Run:
    """The command line against the shared service."""
    return command_of(shown, tmp_path / "home")
