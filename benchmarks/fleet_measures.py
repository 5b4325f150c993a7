"""Measures over a whole fleet: bringing it in, sorting it anew, looking ahead."""

from __future__ import annotations

import random
import sqlite3
import tempfile
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import timedelta
from pathlib import Path
from statistics import median
from typing import Any

import duckdb
import numpy
import orjson

from benchmarks import fleet as made_up
from benchmarks.fleet import DAY, LISTED, PLATFORM, PROCESSORS, REQUIREMENTS, TARGET, Fleet
from benchmarks.measures import Row, beside, bound, ratio, same, timed
from benchmarks.records import WILHELMINA, Records, bring_in, open_records, write_readings
from doorstone.core.facts import dump
from doorstone.core.forecast.device_forecast import forecast
from doorstone.core.sorting.counts import RollUp
from doorstone.store.devices import devices as device_store
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.sheets import get_sheet
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.standings import standings

# ------------------------------------------------------------------- import


def imports(devices: int = 100_000) -> Iterator[Row]:
    """Readings through the real use case, against parsing each line and inserting its text: a first day, and a next.

    Processor time: what a file system makes of it is the machine's.
    """
    fleet = made_up.build(devices)
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        context = open_records(scratch / "ours")
        for day, name in enumerate(("import", "import the next day's")):
            path = scratch / f"day-{day}.ndjson"
            write_readings(fleet.lines(day), path)
            on = Context(context.database, FixedClock(DAY + timedelta(days=day)))
            mine, theirs = beside(
                lambda: bring_in(on, path),  # noqa: B023 - called at once
                lambda: insert(path, scratch / "raw.db"),  # noqa: B023
            )
            path.unlink()
            yield ratio(f"{name} {devices:,} readings, CPU", "orjson and executemany", mine, theirs, 6)
        size = (scratch / "ours" / "doorstone.db").stat().st_size
        _check_import(context, fleet)
        yield bound(f"classes of {devices:,} devices", _classes(context), 10_000, "classes")
        yield bound("records, two readings a device", size / devices, None, "bytes a device")
        context.database.close()


def insert(path: Path, target: Path) -> None:
    db = sqlite3.connect(target)
    db.execute("CREATE TABLE raw (body TEXT)")
    with path.open("rb") as lines:
        db.executemany("INSERT INTO raw VALUES (?)", (_parsed(line) for line in lines))
    db.commit()
    db.close()
    target.unlink()


def _classes(context: Context) -> int:
    with context.database.read() as db:
        return int(db.execute("SELECT COUNT(*) FROM profiles WHERE devices > 0").fetchone()[0])


def _parsed(line: bytes) -> tuple[str]:
    orjson.loads(line)
    return (line.decode(),)


def _check_import(context: Context, fleet: Fleet) -> None:
    """The devices as they stand, against the fleet that was written; the counts kept, against the devices."""
    draw = random.Random(3)
    with context.database.read() as db:
        for number in draw.sample(range(len(fleet)), 500):
            row = db.execute(
                "SELECT site, role, model, running_release FROM devices WHERE id = ?", (made_up.device(number),)
            ).fetchone()
            facts = fleet.facts(number, 1)
            same("device", tuple(row), (*fleet.places[number], facts["machine.model"], facts["os.release"]))
            values = {
                name: dump(value) for name, value in snapshot(context).view(made_up.device(number)).values().items()
            }
            same("facts", {n: values[n] for n in ("machine.serial", "memory.mib", "disk.free_gib")},
                 {n: facts[n] for n in ("machine.serial", "memory.mib", "disk.free_gib")})  # fmt: skip
        counted = db.execute("SELECT profile, site, role, COUNT(*) FROM devices GROUP BY 1, 2, 3").fetchall()
        kept = db.execute("SELECT profile, site, role, devices FROM profile_locations WHERE devices > 0").fetchall()
    same("counts", sorted(map(tuple, kept)), sorted(map(tuple, counted)))


# --------------------------------------------------------------------- sort

_LISTED = set(PROCESSORS[:26])

TESTS: Mapping[str, Callable[[Mapping[str, Any], int], bool]] = {
    "word-size": lambda d, _: d["cpu.arch"] == "x86-64",
    "instructions": lambda d, _: "avx2" in d["cpu.features"] and "fma" in d["cpu.features"],
    "processor-listed": lambda d, _: d["cpu.model"] in _LISTED,
    "cores": lambda d, _: d["cpu.cores"] >= 2,
    "clock": lambda d, _: d["cpu.clock_mhz"] >= 1400 * 0.97,
    "chip": lambda d, _: d["tpm.version"] == "2.0" and d["tpm.state"] == "on",
    "secure-boot": lambda d, _: d["firmware.secure_boot"] == "on",
    "uefi": lambda d, _: d["firmware.mode"] == "uefi",
    "partitions": lambda d, _: d["disk.table"] == "gpt",
    "memory": lambda d, mib: d["memory.mib"] >= mib * 0.97,
    "memory-start": lambda d, _: d["memory.mib"] >= 2048 * 0.97,
    "storage": lambda d, _: d["disk.system_gib"] >= 60 * 0.97,
    "graphics": lambda d, _: d["graphics.vulkan"] >= "1.2",
    "display": lambda d, _: d["display.width"] >= 1280,
}
FIXED: Mapping[str, Callable[[Mapping[str, Any]], bool]] = {
    "chip": lambda d: d["tpm.version"] == "2.0" and d["tpm.state"] == "off",
    "secure-boot": lambda d: d["firmware.secure_boot"] == "off",
}
LEVELS = ("clear", "fixable", "needs-exception", "floored")


def by_hand(
    fleet: Fleet, devices: Sequence[Mapping[str, Any]], mib: int, listed: Collection[str] = _LISTED
) -> Counter[str]:
    """State of each device, one after the other, by lambdas; `listed` are the processors that the vendor lists."""

    def is_listed(device: Mapping[str, Any], _: int) -> bool:
        return device["cpu.model"] in listed

    tests = {**TESTS, "processor-listed": is_listed}
    states: Counter[str] = Counter()
    floors = {name for name, (_, sort, _) in REQUIREMENTS.items() if sort == "floor"}
    for device in devices:
        level = 0
        for name, test in tests.items():
            if not test(device, mib):
                fixed = name in FIXED and FIXED[name](device)
                level = max(level, 1 if fixed else 3 if name in floors else 2)
        states[LEVELS[level]] += 1
    return states


SQL = {
    "word-size": "\"cpu.arch\" = 'x86-64'",
    "instructions": "\"cpu.features\" LIKE '%avx2%' AND \"cpu.features\" LIKE '%fma%'",
    "processor-listed": '"cpu.model" IN (SELECT unnest($listed))',
    "cores": '"cpu.cores" >= 2',
    "clock": '"cpu.clock_mhz" >= 1358',
    "chip": "\"tpm.version\" = '2.0' AND \"tpm.state\" = 'on'",
    "secure-boot": "\"firmware.secure_boot\" = 'on'",
    "uefi": "\"firmware.mode\" = 'uefi'",
    "partitions": "\"disk.table\" = 'gpt'",
    "memory": '"memory.mib" >= $mib * 0.97',
    "memory-start": '"memory.mib" >= 1986.56',
    "storage": '"disk.system_gib" >= 58.2',
    "graphics": "\"graphics.vulkan\" >= '1.2'",
    "display": '"display.width" >= 1280',
}
FIXED_SQL = {
    "chip": "\"tpm.version\" = '2.0' AND \"tpm.state\" = 'off'",
    "secure-boot": "\"firmware.secure_boot\" = 'off'",
}


def counts_query() -> str:
    """One statement for the same counts: devices by state, and by requirement how many fail it."""
    levels = []
    for name, test in SQL.items():
        bad = 3 if REQUIREMENTS[name][1] == "floor" else 2
        fixed = f"WHEN {FIXED_SQL[name]} THEN 1" if name in FIXED_SQL else ""
        levels.append(f'CASE WHEN {test} THEN 0 {fixed} ELSE {bad} END AS "{name}"')
    names = ", ".join(f'"{name}"' for name in SQL)
    failing = ", ".join(f'SUM(CASE WHEN "{name}" > 0 THEN 1 ELSE 0 END)' for name in SQL)
    return (
        f"WITH levels AS (SELECT {', '.join(levels)} FROM fleet)"  # noqa: S608 - made of the constants above
        f" SELECT GREATEST({names}) AS state, COUNT(*), {failing} FROM levels GROUP BY state"
    )


def peer(fleet: Fleet) -> Callable[[int], list[tuple[Any, ...]]]:
    """DuckDB with the fleet's columns in memory; a function of the memory asked for."""
    db = duckdb.connect()
    columns = made_up.columns(fleet)
    kinds = {name: "INTEGER" if isinstance(held[0], int) else "VARCHAR" for name, held in columns.items()}
    db.execute("CREATE TABLE fleet (" + ", ".join(f'"{name}" {kind}' for name, kind in kinds.items()) + ")")
    db.register("given", {name: numpy.array(values) for name, values in columns.items()})
    names = ", ".join(f'"{name}"' for name in kinds)
    db.execute(f"INSERT INTO fleet SELECT {names} FROM given")  # noqa: S608 - names of facts
    query = counts_query()
    return lambda mib: db.execute(query, {"mib": mib, "listed": sorted(_LISTED)}).fetchall()


def sorted_anew(context: Context) -> RollUp:
    """Counts of the whole fleet at the target by the rules alone; exceptions are put on top elsewhere."""
    found = standings(context, get_sheet(context, PLATFORM).platform, TARGET)
    return found.of.roll_up(TARGET, {number: row.devices for number, row in found.rows.items()})


def sort(records: Records) -> Iterator[Row]:
    """The whole fleet sorted for a release after its sheet has changed, to fresh counts."""
    context, fleet = records.context(), records.fleet
    asked = peer(fleet)
    turn = [0]

    def change() -> int:
        turn[0] += 1
        mib = (6144, 10_000)[turn[0] % 2]
        revisions.load_sheet(context, WILHELMINA, *made_up.sheet(mib), "moor.toml")
        return mib

    mine, theirs = [], []
    for _ in range(3):
        mib = change()
        mine.append(timed(lambda: sorted_anew(context)))
        theirs.append(timed(lambda: asked(mib)))  # noqa: B023 - called at once
        rolled = sorted_anew(context)
        slow = asked(mib)
        same("states", {s: n for s, n in rolled.states.items() if n}, {LEVELS[row[0]]: row[1] for row in slow})
        failing = {c.requirement: sum(n for mark, n in c.marks.items() if mark != "met") for c in rolled.requirements}
        same("failing", failing, {name: sum(int(row[2 + at]) for row in slow) for at, name in enumerate(SQL)})
    devices = [fleet.facts(number) for number in range(len(fleet))]  # not before: the collector would go through them
    loop = timed(lambda: same("by hand", by_hand(fleet, devices, mib), +Counter(dict(rolled.states))))
    best, other = median(mine[1:]), median(theirs[1:])
    size = f"sort {len(fleet):,} devices after a sheet change"
    yield ratio(size, "DuckDB, columns in memory", best, other, 1)
    yield ratio(size, "Python loop of lambdas", best, loop, 0.05)
    if mib != 6144:
        change()
    context.database.close()


# ----------------------------------------------------------------- forecast


def ahead(records: Records, sample: int = 200) -> Iterator[Row]:
    """Every device's forecast over 12 releases, against the same function called for each device.

    The baseline is taken of a random sample of the devices and scaled to all of them.
    """
    context = records.context()
    platform = get_sheet(context, PLATFORM).platform
    found: list[Any] = []
    mine = timed(lambda: found.extend(snapshot(context).fleet_forecasts(platform)))
    same("devices", sum(number for _, number in found), len(records.fleet))
    draw = random.Random(11)
    some = [made_up.device(number) for number in draw.sample(range(len(records.fleet)), sample)]
    with context.database.read() as db:
        rows = device_store.named(db, some)
    shared = Context(context.database, context.clock)
    known = snapshot(shared).forecasts(rows)
    now = snapshot(shared)
    taken = 0.0
    for row in rows:
        view, held = now.view(row.id), now.exceptions_of(row.id)
        alone: list[Any] = []
        taken += timed(
            lambda: alone.append(forecast(platform, row.id, view, now.decisions_for(platform), held))  # noqa: B023
        )
        same(row.id, known[row.id], alone[0])
    yield ratio(
        f"forecast {len(records.fleet):,} devices", "device by device", mine, taken * len(records.fleet) / sample, 0.01
    )
    context.database.close()


__all__ = ["LISTED", "ahead", "imports", "sort"]
