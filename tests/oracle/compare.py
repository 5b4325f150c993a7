"""The product asked about random worlds, and its answers compared with the slow ones: `make oracle`.

Run as `python -m tests.oracle.compare SECONDS [SEED]`; prints what was compared, and every difference with its seed.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from random import Random
from typing import Any

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.facts import Reading, Source, View
from doorstone.core.forecast.device_forecast import UpgradePath, forecast
from doorstone.core.kits.overrides import choose
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.readings.settle import settle
from doorstone.core.sorting.assessment import assess
from doorstone.formats.sheet import SheetError, read_sheet
from tests.oracle import answers, worlds

DEVICES = 8


@dataclass
class Tally:
    """How often each kind of answer was compared, and the differences."""

    compared: Counter[str] = field(default_factory=Counter)
    refused: int = 0
    differences: list[str] = field(default_factory=list)

    def same(self, what: str, where: str, product: Any, oracle: Any) -> None:
        self.compared[what] += 1
        if product != oracle:
            self.differences.append(f"{what}, {where}: the product says {product}, the oracle {oracle}")


def compare_world(seed: int, tally: Tally) -> None:
    """Everything of one world, by its seed."""
    random = Random(seed)
    world = worlds.sheet(random)
    try:
        platform = read_sheet(worlds.toml(world), {})
    except SheetError:
        tally.refused += 1  # a sheet that cannot be meant; each reason has a test of its own
        return
    for number in range(DEVICES):
        device = worlds.device(random, world)
        compare_device(f"seed {seed}, device {number}", platform, world, device, tally)


def compare_device(where: str, platform: Platform, world: dict[str, Any], device: dict[str, Any], tally: Tally) -> None:
    seen = view_of(platform, device)
    said = answers.candidates(device["readings"])
    known = {name: values[0] for name, values in said.items()}
    for release in world["releases"]:
        name = release["id"]
        state, marks = answers.sorted_device(world, name, said)
        found = assess(platform, name, seen)
        tally.same("state", f"{where}, release {name}", found.state.value, state)
        tally.same("marks", f"{where}, release {name}", {f.requirement.id: f.mark for f in found.findings}, marks)
        checks = {r for r, mark in marks.items() if mark == "installer-check"}
        for route in ("in-place", "clean"):
            best = choose(platform, name, Route(route), seen.values(), seen.as_of, checks, checks).best
            expected = answers.choice(world, name, route, known, checks, checks)
            tally.same("choice", f"{where}, release {name}, {route}", best.cost if best else None, expected)
    ahead = forecast(platform, "d", seen, (), exceptions_of(device))
    for word, line in (("technical", ahead.technical), ("approved", ahead.approved)):
        tally.same(f"forecast, {word}", where, as_answer(line), answers.forecast(world, device, word == "approved"))


def view_of(platform: Platform, device: dict[str, Any]) -> View:
    specs = platform.specs
    readings = [
        Reading(
            one["source"],
            datetime(2027, 1, 18, 12) + timedelta(days=one["day"]),
            {name: specs[name].parse(value) for name, value in one["facts"].items()},
        )
        for one in device["readings"]
    ]
    own = {"os.release": device["runs"], "os.edition": "e"}
    readings.append(Reading("collector", datetime(2027, 1, 18, 12), own))
    sources = {name: Source(name, trust, None) for name, trust in worlds.SOURCES.items()}
    return settle(readings, sources, specs, worlds.TODAY)


def exceptions_of(device: dict[str, Any]) -> list[ExceptionTerms]:
    return [
        ExceptionTerms(
            one["id"],
            "p",
            one["release"],
            one["up_to"],
            frozenset(one["requirements"]),
            frozenset({"d"}),
            worlds.day(one["start"]),
            worlds.day(one["expiry"]),
            ExceptionState(one["state"]),
            "the chip was read again" if one["doubt"] else "",
        )
        for one in device["exceptions"]
    ]


def as_answer(line: UpgradePath) -> tuple[Any, ...]:
    runway = (line.runway - worlds.TODAY).days if line.runway else None
    gap = sum(span.days for span in line.gaps)
    moves = tuple(move.release for move in line.moves)
    cleans = sum(move.route is Route.CLEAN for move in line.moves)
    return runway, gap, cleans, sum(move.by_hand for move in line.moves), len(moves), moves


def run(seconds: float, first: int, least: int = 0, shown: bool = True) -> Tally:
    """Worlds from seed `first` on, for so long and at least so many forecasts."""
    tally = Tally()
    began = said = time.monotonic()
    seed = first
    while time.monotonic() - began < seconds or forecasts(tally) < least:
        compare_world(seed, tally)
        seed += 1
        if shown and time.monotonic() - said > 10:
            said = time.monotonic()
            print(f"{said - began:6.0f} s  {summary(tally)}", flush=True)
    return tally


def forecasts(tally: Tally) -> int:
    return sum(count for what, count in tally.compared.items() if what.startswith("forecast"))


def summary(tally: Tally) -> str:
    parts = [f"{count:,} of {what}" for what, count in sorted(tally.compared.items())]
    return f"{'; '.join(parts)}; {tally.refused:,} sheets refused; {len(tally.differences):,} differences"


def main() -> int:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    print(f"Worlds from seed {seed} on, for {seconds:.0f} s")
    tally = run(seconds, seed)
    print(summary(tally))
    for difference in tally.differences[:20]:
        print(f"  {difference}")
    return 1 if tally.differences else 0


if __name__ == "__main__":
    sys.exit(main())
