"""How cost grows: with the number of devices, with how many kinds of machines they are, with the days of readings.

Each point is a fleet of its own, brought in through the real use case; its counts are those of a plain loop.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from datetime import timedelta
from pathlib import Path

from benchmarks import fleet as made_up
from benchmarks.curves_page import Point
from benchmarks.fleet import DAY, Fleet
from benchmarks.fleet_measures import by_hand, sorted_anew
from benchmarks.measures import processor_time, same, timed
from benchmarks.records import WILHELMINA, bring_in, open_records, write_readings
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.readings.history import DEVICES, thin_history

SIZES = (2_500, 5_000, 10_000, 20_000)
KINDS = (10, 300, 10_000)
DAYS = 5
MIB = 10_000
"""What the changed sheet asks of memory."""


def curves() -> dict[str, list[Point]]:
    """The points of each curve."""
    return {
        "devices": [_point({"devices": size}, made_up.build(size)) for size in SIZES],
        "kinds": [_point({"kinds": kinds}, made_up.build(10_000, kinds)) for kinds in KINDS],
        "days": _days(made_up.build(5_000)),
    }


def _point(of: Point, fleet: Fleet) -> Point:
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        context = open_records(scratch)
        importing = _import(context, scratch, fleet, 0)
        sorted_anew(context)
        revisions.load_sheet(context, WILHELMINA, *made_up.sheet(MIB), "moor.toml")
        counting = timed(lambda: sorted_anew(context))
        _check(context, fleet, 0, MIB)
        with context.database.read() as db:
            classes = int(db.execute("SELECT COUNT(*) FROM profiles WHERE devices > 0").fetchone()[0])
        context.database.close()
        size = (scratch / "doorstone.db").stat().st_size / len(fleet)
    return {**of, "classes": classes, "import": importing, "counts": counting, "bytes": size}


def _days(fleet: Fleet) -> list[Point]:
    """Every device reads on every day; each day is imported on its own, then the scheduler thins out the past."""
    found = []
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        context = open_records(scratch)
        for day in range(DAYS):
            on = Context(context.database, FixedClock(DAY + timedelta(days=day)))
            importing = _import(on, scratch, fleet, day)
            counting = timed(lambda: sorted_anew(on))  # noqa: B023 - called at once
            for _ in range(-(-len(fleet) // DEVICES)):  # the scheduler has far more rounds in a day
                thin_history(on)
            with context.database.read() as db:
                size = db.execute(
                    "SELECT (page_count - freelist_count) * page_size"
                    " FROM pragma_page_count, pragma_freelist_count, pragma_page_size"
                ).fetchone()
            found.append(
                {"days": day + 1, "import": importing, "counts": counting, "bytes": float(size[0]) / len(fleet)}
            )
        _check(on, fleet, DAYS - 1, 6144)
        context.database.close()
    return found


def _import(context: Context, scratch: Path, fleet: Fleet, day: int) -> float:
    """Microseconds of processor time that a reading takes."""
    path = scratch / "readings.ndjson"
    write_readings(fleet.lines(day), path)
    taken = processor_time(lambda: bring_in(context, path))
    path.unlink()
    return taken / len(fleet) * 1000


def _check(context: Context, fleet: Fleet, day: int, mib: int) -> None:
    slow = by_hand(fleet, [fleet.facts(number, day) for number in range(len(fleet))], mib)
    same("states", +Counter(dict(sorted_anew(context).states)), slow)
