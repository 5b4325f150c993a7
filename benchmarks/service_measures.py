"""Measures of the service as others meet it: pages under load, an import's memory, a write while all else goes on."""

from __future__ import annotations

import shutil
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from benchmarks import fleet as made_up
from benchmarks.fleet import PLATFORM, TARGET, Fleet, device
from benchmarks.load import ask, percentile, service
from benchmarks.measures import Row, bound, ratio, same
from benchmarks.pages import API, PageTimes
from benchmarks.pages import measure as measure_pages
from benchmarks.records import WILHELMINA, Records, open_records, write_readings
from doorstone.api.readings import ImportRequest
from doorstone.client import Client
from doorstone.work.people import people

TARGETS = {"one device's page": 4.0}
"""What a page may take of the bare route, where that is not 2.5."""


def page_rows(records: Records, found: dict[str, PageTimes]) -> Iterator[Row]:
    size = f"{len(records.fleet):,} devices"
    for name, times in found.items():
        yield ratio(f"{name}, {size}, p95", "bare route, same bytes", times.ours, times.plain, TARGETS.get(name, 2.5))


def pages_of(records: Records) -> dict[str, PageTimes]:
    """The pages' times, once what they show was compared with the fleet."""
    with service(records.folder) as (port, _), Client(f"http://127.0.0.1:{port}", records.token) as client:
        check_pages(records.fleet, client)
    return measure_pages(records)


def check_pages(fleet: Fleet, client: Client) -> None:
    """The overview's running releases and the totals of sites, against the fleet, device by device."""
    running: dict[str, int] = {}
    sites: dict[str, int] = {}
    for profile, (site, _) in zip(fleet.shares, fleet.places, strict=True):
        runs = fleet.kinds[profile]["os.release"]
        running[runs] = running.get(runs, 0) + 1
        sites[site] = sites.get(site, 0) + 1
    seen = client.overview(PLATFORM, TARGET)
    same("running", dict(seen.running), running)
    same("sites", {s.site: sum(s.states.values()) for s in seen.sites}, sites)


# ------------------------------------------------------------------- memory


def import_memory(devices: int) -> Iterator[Row]:
    """The most memory that a fresh service holds while it takes in a fleet over HTTP."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "records"
        context = open_records(home)
        token = people.issue_token(context, WILHELMINA, "bench", "administrator", 30).secret or ""
        context.database.close()
        path = Path(folder) / "readings.ndjson"
        write_readings(made_up.build(devices).lines(), path)
        with service(home) as (port, process), Client(f"http://127.0.0.1:{port}", token) as client:
            send(client, path)
            peak = _peak_mib(process.pid)
    yield bound(f"memory of the service, importing {devices:,}", peak, 400, "MiB")


def send(client: Client, path: Path) -> None:
    """Import a file over HTTP, to its end."""
    begun = client.begin_import(ImportRequest(form="ndjson", name=path.name))
    with path.open("rb") as file:
        client.send_import_file(begun.id, file)
    ended = list(client.watch_import(begun.id))[-1]
    same("import", ended.state, "done")


def _peak_mib(process: int) -> float:
    text = Path(f"/proc/{process}/status").read_text()
    return int(next(line for line in text.splitlines() if line.startswith("VmHWM")).split()[1]) / 1024


# ----------------------------------------------------------- a write between


def write_between(records: Records, writes: int = 60) -> Iterator[Row]:
    """A comment on an exception while 16 readers page and an import runs, against the same write alone: p99."""
    more = made_up.build(10_000, seed=9)
    with tempfile.TemporaryDirectory() as scratch:
        home = shutil.copytree(records.folder, Path(scratch) / "records")
        yield _write_between(replace(records, folder=home), more, Path(scratch), writes)


def _write_between(records: Records, more: Fleet, scratch: Path, writes: int) -> Row:
    with service(records.folder) as (port, _):
        path = scratch / "more.ndjson"
        with path.open("w", encoding="utf-8") as file:
            file.writelines(line.replace('"mb-', '"mc-', 1) for line in more.lines())
        with Client(f"http://127.0.0.1:{port}", records.token) as client:
            before = len(client.exception("EX-0001").comments)
            alone = [_write(client, number) for number in range(writes)]
            over = threading.Event()
            helpers = [
                threading.Thread(target=_page, args=(port, records, over)),
                threading.Thread(target=_import_again, args=(port, records, path, over)),
            ]
            for helper in helpers:
                helper.start()
            time.sleep(0.5)
            busy = []
            for number in range(writes):
                busy.append(_write(client, number))
                time.sleep(0.01)
            over.set()
            for helper in helpers:
                helper.join()
            same("writes kept", len(client.exception("EX-0001").comments) - before, 2 * writes)
    return ratio(
        "a write while 16 page and an import runs, p99", "the same write alone",
        percentile(busy, 0.99) * 1000, percentile(alone, 0.99) * 1000, 10,
    )  # fmt: skip


def _write(client: Client, number: int) -> float:
    began = time.perf_counter()
    client.comment("EX-0001", f"Looked at it again, {number}.")
    return time.perf_counter() - began


def _page(port: int, records: Records, over: threading.Event) -> None:
    listed = f"{API}/devices?platform={PLATFORM}&release={TARGET}"
    paths = [listed if at % 4 == 0 else f"{listed}&cursor={device(at * 37 % len(records.fleet))}" for at in range(200)]
    while not over.is_set():
        ask(port, paths, records.token, 16, 5)


def _import_again(port: int, records: Records, path: Path, over: threading.Event) -> None:
    with Client(f"http://127.0.0.1:{port}", records.token) as client:
        while not over.is_set():
            send(client, path)
