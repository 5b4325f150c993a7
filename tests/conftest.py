"""Shared fixtures: a desk on an empty or seeded database, clients over WSGI, one demo service for slow tests."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import httpx
import pytest

from doorstone.client import Client
from doorstone.demo.media import MEDIA
from doorstone.demo.seed import PASSWORD, seed, sheet_text
from doorstone.service.app import create_app
from doorstone.store.database import Database
from doorstone.work import media, people, revisions
from doorstone.work.desk import Actor, Desk, FixedClock
from tests.asking import settle_in
from tests.running import demo_service

ADMIN = Actor("wilhelmina", "administrator", "console")


@pytest.fixture
def desk(tmp_path: Path) -> Desk:
    """A desk on 18 January 2027 with the Tarn sheet loaded, four people, and nothing else."""
    made = Desk(Database(tmp_path / "doorstone.db"), FixedClock(datetime(2027, 1, 18, 9)))
    revisions.load_sheet(made, ADMIN, *sheet_text(), "tarn.toml")
    settle_in(made)
    for given in MEDIA[:1]:
        media.add_media(made, ADMIN, given)
    return made


@pytest.fixture(scope="session")
def seeded_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    data = tmp_path_factory.mktemp("seed") / "data"
    seed(data)
    return data


@pytest.fixture
def demo(seeded_data: Path, tmp_path: Path) -> Desk:
    """A desk on a copy of the demo's records."""
    shutil.copytree(seeded_data, tmp_path / "data")
    return Desk(Database(tmp_path / "data" / "doorstone.db"), FixedClock(datetime(2027, 1, 18, 9)))


@pytest.fixture
def as_role(demo: Desk) -> Iterator[Callable[[str], Client]]:
    """Clients over the WSGI app on the demo's records, by role; `nobody` has no token."""
    app = create_app(demo, b"k" * 32)
    clients: list[Client] = []
    names = {"viewer": "odile", "technician": "petra", "approver": "anselm", "administrator": "wilhelmina"}

    def make(role: str) -> Client:
        token = None
        if role != "nobody":
            token = people.issue_token(demo, Actor(names[role], role, "test"), "test", role, 30).secret
        clients.append(Client("http://doorstone.test", token, transport=httpx.WSGITransport(app=app)))
        return clients[-1]

    yield make
    for made in clients:
        made.close()


@pytest.fixture(scope="module")
def live(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a real service on loopback over its own demo data."""
    with demo_service(tmp_path_factory.mktemp("live")) as address:
        yield address


@pytest.fixture
def password() -> str:
    return PASSWORD
