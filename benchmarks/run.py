"""`make bench`: each measure beside its baseline in the same run. `FULL=1` adds a fleet of a million devices.

Prints one table, writes `benchmarks/last.json`, the tables in `docs/performance.md` and the picture of its curves; with
a million devices `benchmarks/last-full.json` and the table beside it.
"""

from __future__ import annotations

import json
import os
import re
import tempfile
import time
from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from rich.console import Console

from benchmarks import (
    console_measures,
    core_measures,
    curves,
    curves_page,
    daily_measures,
    every_page,
    fleet_measures,
    records,
    service_measures,
)
from benchmarks.measures import Row, cells, ratio, table
from benchmarks.pages import PageTimes
from benchmarks.records import Records
from doorstone.service.memory import exclude_lasting_objects, set_up_memory

HERE = Path(__file__).parent
DOCS = HERE.parent / "docs"
SIZES = (10_000, 100_000)


def main() -> None:
    full = os.environ.get("FULL", "") not in ("", "0")
    sizes = (*SIZES, 1_000_000) if full else SIZES
    began, say, rows = time.monotonic(), Console(), []
    curve: dict[str, dict[str, float]] = {}
    every: dict[str, list[dict[str, Any]]] = {}

    def take(found: Iterable[Row]) -> None:
        for row in found:
            rows.append(row)
            say.print(f"[dim]{time.monotonic() - began:5.0f} s[/]  {'  '.join(cells(row))}", highlight=False)

    set_up_memory()  # as the service does at its start
    for measure in core_measures.MEASURES:
        take(measure())
    exclude_lasting_objects()  # as its rounds do
    take(fleet_measures.imports(100_000))
    take(daily_measures.bad_lines())
    grown = curves.curves()
    say.print(f"[dim]{time.monotonic() - began:5.0f} s[/]  the curves", highlight=False)
    with tempfile.TemporaryDirectory() as folder:
        made = {size: records.build(Path(folder) / str(size), size) for size in sizes}
        take(_imports_by_size(made))
        pages: dict[int, dict[str, PageTimes]] = {}
        for size, one in made.items():
            curve[str(size)] = {"import": one.import_seconds * 1000}
            if size >= 100_000:
                for name, walk in (("sort", fleet_measures.sort), ("forecast", fleet_measures.ahead)):
                    found = list(walk(one))
                    take(found)
                    curve[str(size)][name] = found[0].ours
            pages[size] = service_measures.pages_of(one)
            take(service_measures.page_rows(one, pages[size]) if size >= 100_000 else [])
            gets = every_page.every_get(one)
            every[str(size)] = [asdict(found) for found in gets]
            take(every_page.page_rows(size, gets) if size >= 100_000 else [])
            if size >= 100_000:
                for daily in (daily_measures.starts, daily_measures.dropped_names, daily_measures.kit_cases):
                    take(daily(one))
            curve[str(size)] |= {name: times.ours for name, times in pages[size].items()}
        take(_pages_by_size(pages))
        take(service_measures.import_memory(max(sizes)) if full else [])
        take(service_measures.write_between(made[100_000]))
        take(console_measures.console(made[100_000]))
        take(daily_measures.pages_while_importing(made[max(sizes)], 1_000_000 if full else 10_000))
    say.print(table(rows))
    say.print(f"{time.monotonic() - began:.0f} s in all")
    keep(rows, curve, every, grown, sizes, "full" if full else "table")


def _imports_by_size(made: dict[int, Records]) -> Iterable[Row]:
    """The cost of one reading in the largest fleet against the next smaller one."""
    small, large = sorted(made)[-2:]
    each = {size: made[size].import_seconds / size * 1e6 for size in (small, large)}
    yield ratio(f"import at {large:,}, a reading", f"at {small:,}", each[large], each[small], 1.2, "µs")


def _pages_by_size(pages: dict[int, dict[str, PageTimes]]) -> Iterable[Row]:
    """Each page's p95, as a ratio to the bare route beside it, in the largest fleet against the smallest."""
    small, large = min(pages), max(pages)
    for name in pages[small]:
        ours = {size: pages[size][name].ours / pages[size][name].plain for size in (small, large)}
        yield ratio(f"{name} at {large:,}", f"at {small:,}", ours[large], ours[small], 1.5, "× bare")


# ----------------------------------------------------------------- keeping


def keep(
    rows: list[Row],
    curve: dict[str, dict[str, float]],
    every: dict[str, list[dict[str, Any]]],
    grown: dict[str, list[curves_page.Point]],
    sizes: tuple[int, ...],
    mark: str,
) -> None:
    """Write a run down: `mark` is that of its table on the page, `table` or `full`."""
    data = {
        "sizes": list(sizes),
        "rows": [row.data() for row in rows],
        "milliseconds_by_size": curve,
        "every_get": every,
        "curves": grown,
    }
    (HERE / ("last-full.json" if mark == "full" else "last.json")).write_text(json.dumps(data, indent=1) + "\n")
    page = DOCS / "performance.md"
    text = page.read_text("utf-8")
    parts = {mark: markdown(rows), **({"curves": curves_page.markdown(grown)} if mark == "table" else {})}
    for name, made in parts.items():
        text = re.sub(rf"(<!-- {name} -->\n).*?(<!-- end -->)", lambda m: f"{m[1]}{made}\n{m[2]}", text, flags=re.S)  # noqa: B023
    page.write_text(text)
    if mark == "table":
        curves_page.draw(grown, DOCS / "performance.png")


def markdown(rows: Iterable[Row]) -> str:
    head = "| measure | ours | baseline | ratio | target | holds |\n|---|---:|---:|---:|---:|---|"
    return "\n".join([head, *(f"| {' | '.join(cells(row))} |" for row in rows)])


if __name__ == "__main__":
    main()
