"""Measures of the computation alone: a condition's leaf, the choice of overrides, kits, the start of the command."""

from __future__ import annotations

import io
import random
import subprocess
import sys
import zipfile
from collections.abc import Iterator, Sequence
from datetime import date
from functools import cache
from pathlib import Path

import numpy
import rule_engine
from msgspec.structs import replace
from scipy.optimize import Bounds, LinearConstraint, milp

from benchmarks import fleet as made_up
from benchmarks.fleet import DAY, TARGET
from benchmarks.measures import Row, in_turns, ratio, same, timed
from doorstone.core.conditions import Outcome, parse
from doorstone.core.facts import BUILT_IN, Candidate, SettledFact, View
from doorstone.core.kits.case import KitCase, KitException
from doorstone.core.kits.files import archive, render
from doorstone.core.kits.gates import check_gates
from doorstone.core.kits.overrides import OverrideSet, choose
from doorstone.core.platforms.platform import Origin, Override, Platform, Route

AS_OF = DAY.date()


def leaf() -> Iterator[Row]:
    """One leaf on one profile without explanation, against a rule that was compiled before."""
    condition = parse({"fact": "memory.mib", "at_least": 6144}, BUILT_IN)
    rule = rule_engine.Rule("memory >= 6144")
    cases = [(4096, Outcome.UNMET), (8192, Outcome.MET), (6144, Outcome.MET)]
    for mib, expected in cases:
        same("leaf", condition.outcome({"memory.mib": mib}, AS_OF), expected)
        same("rule", rule.matches({"memory": mib}), expected is Outcome.MET)
    ours, theirs = {"memory.mib": 8192}, {"memory": 8192}
    times = in_turns(
        lambda: [condition.outcome(ours, AS_OF) for _ in range(5_000)],
        lambda: [rule.matches(theirs) for _ in range(5_000)],
    )
    mine, baseline = (taken / 5 for taken in times)
    yield ratio("one condition leaf", "rule-engine", mine, baseline, 0.2, "µs")


# ------------------------------------------------------------------- choice


def instance(checks: int, overrides: int, density: float, seed: int) -> tuple[list[str], list[Override]]:
    """A random instance: each override covers each check with a chance of `density`, weighs 1 to 9, is the vendor's."""
    draw = random.Random(seed)
    model = _platform().overrides[0]
    names = [f"check-{number:02d}" for number in range(checks)]
    made = []
    for number in range(overrides):
        covers = frozenset(name for name in names if draw.random() < density) or frozenset(names[:1])
        weight = draw.randint(1, 9)
        made.append(
            replace(model, id=f"o-{number:02d}", covers=covers, weight=weight, origin=Origin.VENDOR, until=None)
        )
    return names, made


@cache
def _platform() -> Platform:
    return made_up.platform()


def chosen(checks: Sequence[str], overrides: Sequence[Override]) -> OverrideSet:
    """The optimum as the product finds it, with no alternatives: what the baseline gives too."""
    platform = replace(_platform(), overrides=tuple(overrides))
    found = choose(platform, TARGET, Route.IN_PLACE, {}, AS_OF, checks, checks, alternatives=0)
    assert found.best is not None
    return found.best


def optimum(checks: Sequence[str], overrides: Sequence[Override]) -> tuple[int, int]:
    """The least weight, and with it the fewest overrides, by mixed-integer programming."""
    covers = numpy.array([[check in o.covers for o in overrides] for check in checks], float)
    price = numpy.array([o.weight * (len(overrides) + 1) + 1 for o in overrides], float)
    found = milp(
        price,
        constraints=LinearConstraint(covers, lb=1),
        integrality=numpy.ones(len(overrides)),
        bounds=Bounds(0, 1),
        options={"mip_rel_gap": 0},
    )
    picked = [o for o, share in zip(overrides, found.x, strict=True) if share > 0.5]
    return sum(o.weight for o in picked), len(picked)


def choice() -> Iterator[Row]:
    """Overrides for a set of checks, proved optimal, over several random instances."""
    for checks, overrides, target in ((8, 20, 0.1), (30, 60, 0.5)):
        cases = [instance(checks, overrides, density, seed) for density in (0.3, 0.5) for seed in range(4)]
        for names, made in cases:
            best = chosen(names, made)
            same("choice", (sum(o.weight for o in best.overrides), len(best.overrides)), optimum(names, made))
        mine, baseline = in_turns(
            lambda cases=cases: [chosen(*case) for case in cases],  # type: ignore[misc]
            lambda cases=cases: [optimum(*case) for case in cases],  # type: ignore[misc]
        )
        measure = f"choose overrides, {checks} checks by {overrides}"
        yield ratio(measure, "milp", mine / len(cases), baseline / len(cases), target)


# --------------------------------------------------------------------- kits


def kit_case(number: int) -> KitCase:
    """A kit for one device of the made-up fleet: two checks excepted."""
    platform = _platform()
    facts = made_up.build(1, kinds=1).kinds[0] | {"tpm.version": "1.2", "memory.mib": 4096}
    found = {name: SettledFact(Candidate(platform.specs[name].parse(v), "file", DAY)) for name, v in facts.items()}
    view = View(AS_OF, found)
    checks = ("chip", "memory")
    made = choose(platform, TARGET, Route.IN_PLACE, view.values(), AS_OF, checks, checks)
    assert made.best is not None
    terms = KitException(f"EX-{number:04d}", checks, date(2027, 9, 1), "The disk stays encrypted.", "petra")
    gates = check_gates(platform, Route.IN_PLACE, view)
    return KitCase(
        f"KT-{number:04d}", platform, 3, "a" * 64, TARGET, Route.IN_PLACE, "everything", (made_up.device(number),),
        made.best, (terms,), gates, AS_OF,
    )  # fmt: skip


def kits() -> Iterator[Row]:
    """1,000 kits, each of its own, rendered and zipped, against zipping the same bytes."""
    cases = [kit_case(number) for number in range(1_000)]
    files = [render(case) for case in cases]

    def zipped() -> list[bytes]:
        made = []
        for one in files:
            held = io.BytesIO()
            with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as bundle:
                for path, data in one.items():
                    bundle.writestr(path, data)
            made.append(held.getvalue())
        return made

    with zipfile.ZipFile(io.BytesIO(archive(cases[7].id, render(cases[7])))) as bundle:
        held = {name.split("/", 1)[1]: bundle.read(name) for name in bundle.namelist()}
    same("kit", held, files[7])
    mine, baseline = in_turns(lambda: [archive(case.id, render(case)) for case in cases], zipped, 3)
    yield ratio("1,000 kits", "zipfile, same bytes", mine, baseline, 3)


# --------------------------------------------------------------------- help


def help_text() -> Iterator[Row]:
    """The whole process of the command's help, against a process that imports what it is made with."""
    ours = [str(Path(sys.executable).parent / "doorstone"), "--help"]
    theirs = [sys.executable, "-c", "import typer, rich"]
    said = subprocess.run(ours, capture_output=True, text=True, check=True).stdout
    same("help", "Usage" in said, True)
    mine, baseline = in_turns(lambda: _run(ours), lambda: _run(theirs), 9)
    yield ratio("doorstone --help", "import typer, rich", mine, baseline, 1.6)


def _run(command: list[str]) -> None:
    subprocess.run(command, capture_output=True, check=True)


MEASURES = (leaf, choice, kits, help_text)
__all__ = ["MEASURES", "timed"]
