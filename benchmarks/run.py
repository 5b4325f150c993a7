"""`make bench`: each measure beside its baseline in the same run, alternating, as the ratio of medians.

    leaf      one condition leaf on one device      against the same test as a Python lambda
    import    5,000 readings through the use case   against parsing each line and inserting its text
    profiles  a release over the fleet by profile   against assessing device by device
    choice    overrides for 4 checks of 9           against trying every subset
    kits      200 kits rendered and zipped          against zipping the same bytes

Writes benchmarks/last.json.
"""

from __future__ import annotations

import io
import json
import sqlite3
import statistics
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from datetime import datetime
from itertools import combinations
from pathlib import Path

from rich.console import Console
from rich.table import Table

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.build import TODAY, tarn, view
from tests.core.test_kits import CHECKS, FACTS, case

from doorstone.core.conditions import parse
from doorstone.core.facts import BUILT_IN
from doorstone.core.kits import archive, render
from doorstone.core.overrides import choose
from doorstone.core.platforms import Route
from doorstone.demo.fleet import build_fleet, readings
from doorstone.demo.seed import PETRA, WILHELMINA, sheet_text
from doorstone.store import devices as device_store
from doorstone.store.database import Database
from doorstone.work import intake, revisions
from doorstone.work.desk import Desk, FixedClock
from doorstone.work.intake import ImportGiven
from doorstone.work.picture import Picture

Run = Callable[[], object]


def median_ratio(ours: Run, baseline: Run, rounds: int = 7) -> tuple[float, float]:
    """Medians in milliseconds of both, run in turns after one warm-up each."""
    ours(), baseline()
    taken: tuple[list[float], list[float]] = ([], [])
    for _ in range(rounds):
        for held, run in zip(taken, (ours, baseline), strict=True):
            began = time.perf_counter()
            run()
            held.append((time.perf_counter() - began) * 1000)
    return statistics.median(taken[0]), statistics.median(taken[1])


def leaf() -> tuple[Run, Run]:
    condition = parse({"fact": "memory.mib", "at_least": 6144, "tolerance": "3%"}, BUILT_IN)
    values = view(FACTS).values()
    by_hand = lambda: values["memory.mib"] >= 6144 * 0.97  # noqa: E731
    return (lambda: [condition.outcome(values, TODAY) for _ in range(20_000)]), (
        lambda: [by_hand() for _ in range(20_000)]
    )


def lines(count: int) -> list[str]:
    fleet = build_fleet()
    made = []
    while len(made) < count:
        for reading in readings(fleet):
            reading["device"] = f"{reading['device']}-{len(made)}"
            made.append(json.dumps(reading))
    return made[:count]


def imports(scratch: Path) -> tuple[Run, Run]:
    text = lines(5_000)
    number = iter(range(10_000))

    def ours() -> None:
        desk = Desk(Database(scratch / f"ours-{next(number)}.db"), FixedClock(datetime(2027, 1, 18, 9)))
        revisions.load_sheet(desk, WILHELMINA, *sheet_text(), "tarn.toml")
        intake.import_readings(desk, PETRA, "\n".join(text), ImportGiven("ndjson"))

    def baseline() -> None:
        db = sqlite3.connect(scratch / f"raw-{next(number)}.db")
        db.execute("CREATE TABLE raw (device TEXT, body TEXT)")
        db.executemany("INSERT INTO raw VALUES (?, ?)", [(json.loads(line)["device"], line) for line in text])
        db.commit()

    return ours, baseline


def profiles(scratch: Path) -> tuple[Run, Run]:
    desk = Desk(Database(scratch / "fleet.db"), FixedClock(datetime(2027, 1, 18, 9)))
    revisions.load_sheet(desk, WILHELMINA, *sheet_text(), "tarn.toml")
    intake.import_readings(desk, PETRA, "\n".join(lines(2_000)), ImportGiven("ndjson"))
    now = Picture(desk)
    platform = now.sheets["tarn"].platform
    with desk.database.read() as db:
        devices = device_store.ids(db, "tarn")
    for device in devices:
        now.view(device)  # settled before either is timed

    def ours() -> None:
        """Every profile is sorted anew, as after a changed sheet, and the counts are read."""
        with desk.database.write() as db:
            db.execute("UPDATE profile_findings SET basis = ''")
        desk.memory.clear()
        now.counts(platform, "9.1")

    return ours, lambda: [now.assessment(device, "9.1") for device in devices]


def choice() -> tuple[Run, Run]:
    values = view(FACTS).values()

    def exhaustive() -> None:
        best = None
        for size in range(len(tarn().overrides) + 1):
            for chosen in combinations(tarn().overrides, size):
                if set(CHECKS) <= set().union(*(o.covers for o in chosen)):
                    cost = (sum(o.weight for o in chosen), len(chosen))
                    best = min(best or cost, cost)

    return (lambda: choose(tarn(), "9.1", Route.IN_PLACE, values, TODAY, CHECKS, CHECKS)), exhaustive


def kits() -> tuple[Run, Run]:
    made = case()
    files = render(made)

    def baseline() -> None:
        for _ in range(200):
            with zipfile.ZipFile(io.BytesIO(), "w", zipfile.ZIP_DEFLATED) as bundle:
                for path, data in files.items():
                    bundle.writestr(path, data)

    return (lambda: [archive("KT-0042", render(made)) for _ in range(200)]), baseline


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        measures = {
            "leaf": leaf(), "import": imports(scratch), "profiles": profiles(scratch), "choice": choice(),
            "kits": kits(),
        }  # fmt: skip
        table = Table("measure", "ours, ms", "baseline, ms", "ratio", box=None)
        rows = []
        for name, (ours, baseline) in measures.items():
            mine, theirs = median_ratio(ours, baseline, 3 if name == "import" else 7)
            rows.append({"measure": name, "ours_ms": mine, "baseline_ms": theirs, "ratio": mine / theirs})
            table.add_row(name, f"{mine:.1f}", f"{theirs:.1f}", f"{mine / theirs:.2f}")
    Console().print(table)
    (Path(__file__).parent / "last.json").write_text(json.dumps(rows, indent=1) + "\n")


if __name__ == "__main__":
    main()
