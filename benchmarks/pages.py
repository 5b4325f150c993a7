"""The pages that people wait for, over HTTP, with 16 connections, against a bare route that returns the same bytes."""

from __future__ import annotations

import random
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import httpx

from benchmarks.fleet import PLATFORM, ROLES, SITES, TARGET, device
from benchmarks.load import ask, percentile, plain_server, service
from benchmarks.records import Records

API = "/api/v1"
ROUNDS, REQUESTS, SAMPLE = 3, 240, 160


@dataclass(frozen=True, slots=True)
class PageTimes:
    """p95 in milliseconds of our page and of the bare route with the same bytes."""

    ours: float
    plain: float


def pages(devices: int, seed: int = 5) -> Mapping[str, list[str]]:
    """Paths by page: the filtered one with 200 filters, the device's with so many devices that none is asked twice."""
    draw = random.Random(seed)
    listed = f"{API}/devices?platform={PLATFORM}&release={TARGET}"
    states = ["clear", "needs-exception", "floored", "fixable"]
    places = [(site, role, state) for site in SITES for role in ROLES for state in states]
    some = draw.sample(range(devices), min(devices, (ROUNDS + 1) * REQUESTS + SAMPLE))
    return {
        "overview": [f"{API}/overview?platform={PLATFORM}&release={TARGET}"],
        "first device page": [listed],
        "filtered device page": [f"{listed}&site={site}&role={role}&state={state}" for site, role, state in places],
        "one device's page": [f"{API}/devices/{device(number)}?release={TARGET}" for number in some],
    }


def measure(records: Records) -> dict[str, PageTimes]:
    """Both servers at once, asked in turns after one round each to warm up; the round with the median ratio."""
    found: dict[str, PageTimes] = {}
    with service(records.folder) as (port, _), tempfile.TemporaryDirectory() as scratch:
        warm(port, records)
        for name, paths in pages(len(records.fleet)).items():
            folder = Path(scratch) / name.replace(" ", "-")
            folder.mkdir()
            some = paths[-SAMPLE:]
            for at, path in enumerate(some):
                (folder / str(at)).write_bytes(fetch(port, path, records.token))
            with plain_server(folder) as plain:
                rounds = []
                for turn in range(ROUNDS + 1):
                    asked = range(turn * REQUESTS, (turn + 1) * REQUESTS)
                    ours = ask(port, [paths[n % len(paths)] for n in asked], records.token)
                    bare = ask(plain, [f"/{n % len(some)}" for n in asked])
                    rounds.append(PageTimes(percentile(ours, 0.95) * 1000, percentile(bare, 0.95) * 1000))
            found[name] = sorted(rounds[1:], key=lambda r: r.ours / r.plain)[ROUNDS // 2]
    return found


def warm(port: int, records: Records) -> None:
    """Ask for what a round of the service works out ahead."""
    for path in (f"{API}/due", f"{API}/forecast?platform={PLATFORM}&release={TARGET}"):
        fetch(port, path, records.token)


def fetch(port: int, path: str, token: str) -> bytes:
    head = {"Authorization": f"Bearer {token}"}
    return httpx.get(f"http://127.0.0.1:{port}{path}", headers=head, timeout=600).raise_for_status().content
