"""What happens to a fleet from day to day: a file with bad lines, a start, a list that lost names, kits for many."""

from __future__ import annotations

import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import httpx

from benchmarks import fleet as made_up
from benchmarks.fleet import PLATFORM, TARGET, device
from benchmarks.fleet_measures import by_hand, insert, sorted_anew
from benchmarks.load import ask, percentile, service
from benchmarks.measures import Row, beside, bound, ratio, same, timed
from benchmarks.pages import API, warm
from benchmarks.records import PETRA, WILHELMINA, Records, open_records, write_readings
from benchmarks.service_measures import send
from doorstone.client import Client
from doorstone.work.platforms import revisions
from doorstone.work.platforms.impact import sheet_impact
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.roll_up import fleet_roll_up
from doorstone.work.snapshot.snapshot import snapshot


def bad_lines(devices: int = 20_000) -> Iterator[Row]:
    """An import of which one line in a hundred cannot be read, left out with its place and reason."""
    fleet = made_up.build(devices)
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        context = open_records(scratch / "ours")
        path, whole = scratch / "spoiled.ndjson", scratch / "whole.ndjson"
        lines = list(fleet.lines())
        write_readings(made_up.spoiled(lines), path)
        write_readings(lines, whole)
        spoiled = sum(number % 100 == 50 for number in range(len(lines)))

        def mine() -> None:
            begun = import_job.begin(context, PETRA, ImportOptions("ndjson", path.name, skip=True))
            with path.open("rb") as stream:
                import_job.receive(context, PETRA, begun.id, stream)
            row = import_job.run(context, begun.id).row
            same("read and rejected", (row.checked, row.rejected), (len(lines) - spoiled, spoiled))
            places = [one.line for one in import_job.import_problems(context, begun.id, limit=10_000)]
            same("bad lines", places, [number + 1 for number in range(len(lines)) if number % 100 == 50])

        ours, theirs = beside(mine, lambda: insert(whole, scratch / "raw.db"))
        context.database.close()
    yield ratio(f"import {devices:,} readings, 1 % bad lines, CPU", "orjson and executemany", ours, theirs, 6)


def starts(records: Records) -> Iterator[Row]:
    """The service from nothing to ready; the first counts of a process that has just started; bytes a device."""
    size = len(records.fleet)
    yield bound(
        f"records of {size:,} devices", (records.folder / "doorstone.db").stat().st_size / size, 600, "bytes a device"
    )
    began = time.perf_counter()
    with service(records.folder) as (port, _):
        while httpx.get(f"http://127.0.0.1:{port}/readyz", timeout=60).status_code != 200:
            time.sleep(0.05)
        ready = time.perf_counter() - began
    yield bound(f"start to ready, {size:,} devices", ready * 1000, 5_000, "ms")
    context = records.context()
    yield bound(f"first counts after a start, {size:,} devices", timed(lambda: sorted_anew(context)), None, "ms")
    context.database.close()
    context = records.context()
    excepted = timed(lambda: snapshot(context).held_by_device())
    yield bound(f"first look at every exception, {size // 20:,} devices", excepted, None, "ms")
    context.database.close()


def dropped_names(records: Records) -> Iterator[Row]:
    """A vendor's list comes without 200 of its names: what it would change, loading it, and the counts by it."""
    context, fleet = records.context(), records.fleet
    before, told = Counter(fleet_roll_up(context, PLATFORM, TARGET).states), []
    asking = timed(lambda: told.append(sheet_impact(context, *made_up.sheet(dropped=True), "moor.toml")))
    loading = timed(lambda: revisions.load_sheet(context, WILHELMINA, *made_up.sheet(dropped=True), "moor.toml"))
    found = []
    counting = timed(lambda: found.append(sorted_anew(context)))
    for move in told[0].moves:
        if move.release == TARGET:
            before.update({move.was: -move.count, move.becomes: move.count})
    same("what the sheet was said to change", dict(before), dict(fleet_roll_up(context, PLATFORM, TARGET).states))
    if len(fleet) <= 100_000:  # a million takes minutes by hand
        kept = set(made_up.PROCESSORS[:20])
        slow = by_hand(fleet, [fleet.facts(number) for number in range(len(fleet))], 6144, kept)
        same("states without the names", +Counter(dict(found[0].states)), +slow)
    yield bound(f"what a list without 200 names would change, {len(fleet):,} devices", asking, None, "ms")
    yield bound(f"load a list without 200 names, {len(fleet):,} devices", loading, None, "ms")
    yield bound(f"counts without 200 names, {len(fleet):,} devices", counting, None, "ms")
    revisions.load_sheet(context, WILHELMINA, *made_up.sheet(), "moor.toml")
    context.database.close()


def kit_cases(records: Records, devices: int = 500) -> Iterator[Row]:
    """The cases of kits for 500 excepted devices: which devices one kit can serve."""
    with service(records.folder) as (port, _):
        warm(port, records)
        with Client(f"http://127.0.0.1:{port}", records.token) as client:
            named = [name for one in client.exceptions(state="approved") for name in one.devices][:devices]
            head = {"Authorization": f"Bearer {records.token}"}
            with httpx.Client(base_url=f"http://127.0.0.1:{port}{API}", headers=head, timeout=600) as plain:
                asked = {"devices": named, "release": TARGET}
                found: list[httpx.Response] = []
                taken = timed(lambda: found.append(plain.post("/kits/cases", json=asked).raise_for_status()))
        said = found[0].json()
        told = {name for case in said["cases"] for name in case["devices"]}
        told |= {one["pointer"].split(",")[0] for one in said["refused"]}
        same("devices of the cases", sorted(told), sorted(named))
    yield bound(f"kits' cases for {len(named)} devices, {len(records.fleet):,} devices", taken, None, "ms")


def pages_while_importing(records: Records, readings: int) -> Iterator[Row]:
    """p99 of the overview and the list of devices with 4 readers, while so many of the next day's readings come in
    and idle."""
    with tempfile.TemporaryDirectory() as folder, service(records.folder) as (port, process):
        path = Path(folder) / "next.ndjson"
        write_readings(islice(records.fleet.lines(1), readings), path)
        listed = f"{API}/devices?platform={PLATFORM}&release={TARGET}"
        paths = [
            f"{API}/overview?platform={PLATFORM}"
            if at % 2
            else f"{listed}&cursor={device(at * 41 % len(records.fleet))}"
            for at in range(4_000)
        ]
        warm(port, records)
        ask(port, paths[:200], records.token, 4)
        idle = percentile(ask(port, paths, records.token, 4, 10), 0.99) * 1000
        with Client(f"http://127.0.0.1:{port}", records.token) as client:
            work = threading.Thread(target=send, args=(client, path))
            work.start()
            taken: list[float] = []
            while work.is_alive():
                taken += ask(port, paths, records.token, 4, 5)
            work.join()
        peak = int(next(line for line in Path(f"/proc/{process.pid}/status").read_text().splitlines()
                        if line.startswith("VmHWM")).split()[1]) / 1024  # fmt: skip
    size = f"{len(records.fleet):,}"
    yield ratio(
        f"pages of {size} devices while {readings:,} readings are imported, p99",
        "the same, idle",
        percentile(taken, 0.99) * 1000,
        idle,
        4,
    )
    yield bound(f"memory of the service, serving and importing {size}", peak, 600, "MiB")
