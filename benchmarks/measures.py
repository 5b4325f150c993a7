"""What a measure is: ours and its baseline, run in turns, and the table that comes of many."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from rich.table import Table

Run = Callable[[], object]


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table. `ours` and `baseline` in `unit`; `baseline` is None for a bound that stands by itself.

    `value` is what is held against `target`: the ratio, or ours where there is no baseline; less is better.
    """

    measure: str
    against: str
    unit: str
    ours: float
    baseline: float | None
    value: float
    target: float | None

    @property
    def holds(self) -> bool | None:
        return None if self.target is None else self.value <= self.target

    def data(self) -> dict[str, Any]:
        return {**asdict(self), "holds": self.holds}


def ratio(measure: str, against: str, ours: float, baseline: float, target: float | None, unit: str = "ms") -> Row:
    return Row(measure, against, unit, ours, baseline, ours / baseline, target)


def bound(measure: str, ours: float, target: float | None, unit: str) -> Row:
    return Row(measure, "", unit, ours, None, ours, target)


def in_turns(ours: Run, baseline: Run, rounds: int = 7, warm: bool = True) -> tuple[float, float]:
    """Medians in milliseconds of both, run in turns, after one of each to warm up."""
    if warm:
        ours(), baseline()
    gc.collect()
    gc.freeze()  # what the measures are made of is nobody's garbage
    taken: tuple[list[float], list[float]] = ([], [])
    for _ in range(rounds):
        for held, run in zip(taken, (ours, baseline), strict=True):
            held.append(timed(run))
    gc.unfreeze()
    return statistics.median(taken[0]), statistics.median(taken[1])


def timed(run: Run) -> float:
    """Milliseconds that it takes."""
    began = time.perf_counter()
    run()
    return (time.perf_counter() - began) * 1000


def processor_time(run: Run) -> float:
    """Milliseconds of processor time that it takes."""
    gc.collect()
    began = time.process_time()
    run()
    return (time.process_time() - began) * 1000


def beside(ours: Run, baseline: Run) -> tuple[float, float]:
    """Milliseconds of processor time that both take; the baseline before and after, as machines change their speed."""
    before = processor_time(baseline)
    mine = processor_time(ours)
    return mine, (before + processor_time(baseline)) / 2


def table(rows: Sequence[Row]) -> Table:
    made = Table("measure", "ours", "baseline", "ratio", "target", "holds", box=None)
    for row in rows:
        made.add_row(*cells(row))
    return made


def cells(row: Row) -> tuple[str, str, str, str, str, str]:
    """A row as people read it."""
    against = f" ({row.against})" if row.against else ""
    baseline = f"{_short(row.baseline)} {row.unit}{against}" if row.baseline is not None else "-"
    value = f"{row.value:.2f}" if row.baseline is not None else "-"
    target = "-" if row.target is None else f"≤ {row.target:g}" + ("" if row.baseline is not None else f" {row.unit}")
    holds = {None: "", True: "yes", False: "no"}[row.holds]
    return row.measure, f"{_short(row.ours)} {row.unit}", baseline, value, target, holds


def _short(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:.3g}"


def same(what: str, one: object, other: object) -> None:
    """Raise unless a result is that of a slow, simple computation of the same thing."""
    if one != other:
        raise AssertionError(f"{what}: {str(one)[:300]} is not {str(other)[:300]}")
