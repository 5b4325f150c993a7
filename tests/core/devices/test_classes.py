"""Classes by answers: devices of one class are sorted, carried and foretold alike, each looked at alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable
from random import Random
from typing import Any

import pytest

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content
from doorstone.core.facts import View
from doorstone.core.forecast.device_forecast import forecast
from doorstone.core.kits.overrides import choose
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import assess
from doorstone.formats.sheet import SheetError, read_sheet
from tests.build import GOOD, tarn, view
from tests.oracle import worlds
from tests.oracle.compare import view_of

NEAR: dict[str, list[Any]] = {
    "cpu.cores": [1, 2, 3, 4, 5, 6, 7, 8, 16],
    "machine.year": [2015, 2016, 2017, 2018, 2019, 2020, 2021, 2022],
    "display.width": [640, 800, 900, 1024, 1280, 1600, 1920],
}
"""Values of which a sheet tells some apart."""


def answers(platform: Platform, seen: View) -> list[Any]:
    """All that is said of a device: states, marks, sorts, fixes and overrides at each release, and its forecast."""
    found: list[Any] = []
    for release in platform.releases:
        made = assess(platform, release.id, seen)
        found.append((made.state, [(f.mark, f.sort, [fix.title for fix in f.fixes], f.decides) for f in made.findings]))
        checks = [f.requirement.id for f in made.unmet("installer-check")]
        for route in Route:
            found.append(choose(platform, release.id, route, seen.values(), seen.as_of, checks, checks))
    found.append(forecast(platform, "", seen))
    return found


def class_of(platform: Platform, classifier: Classifier, seen: View) -> Hashable:
    return classifier.of(profile_content(platform.id, classifier.names, seen))


@pytest.mark.long
@pytest.mark.parametrize("first", [1, 1_001])
def test_devices_of_a_class_have_the_same_answers(first: int) -> None:
    shared: Counter[str] = Counter()
    for seed in range(first, first + 45):
        random = Random(seed)
        world = worlds.sheet(random)
        try:
            platform = read_sheet(worlds.toml(world), {})
        except SheetError:
            continue
        classifier = Classifier(platform, worlds.TODAY)
        known: dict[Hashable, tuple[Any, str]] = {}
        for _ in range(6):
            device = worlds.device(random, world)
            for _ in range(4):
                for reading in device["readings"]:
                    reading["facts"] |= {n: random.choice(v) for n, v in NEAR.items() if n in reading["facts"]}
                seen = view_of(platform, device)
                mine, said = answers(platform, seen), str(device)
                held, who = known.setdefault(class_of(platform, classifier, seen), (mine, said))
                assert held == mine, (seed, who, said)
                shared["alike"] += who != said
        shared["classes"] += len(known)
    assert shared["alike"] > 50
    assert shared["classes"] > 100


def test_what_no_test_tells_apart_is_one_class_and_the_sill_divides() -> None:
    platform = tarn()
    classifier = Classifier(platform, view(GOOD).as_of)

    def classes(fact: str, *values: object) -> int:
        return len({class_of(platform, classifier, view({**GOOD, fact: value})) for value in values})

    assert classes("memory.mib", 8192, 8193, 16384, 32767) == 1
    assert classes("disk.system_gib", 500, 512, 1000.5) == 1
    floor = next(leaf for r in platform.requirements for leaf in r.condition.leaves() if leaf.fact == "memory.mib")
    least = int(floor.operand * (1 - floor.tolerance))
    assert classes("memory.mib", least - 1, least + 1) == 2


def test_facts_that_only_gates_look_at_are_no_part_of_a_class() -> None:
    platform = tarn()
    classifier = Classifier(platform, view(GOOD).as_of)
    used = {leaf.fact for gate in platform.gates for leaf in gate.condition.leaves()}
    only = used - classifier.names
    assert "disk.free_gib" in only
    plain = profile_content(platform.id, classifier.names, view(GOOD))
    told = {**plain, "facts": {**plain["facts"], **{name: ["anything"] for name in only}}}
    assert classifier.of(told) == classifier.of(plain)


def test_model_release_edition_and_decisions_of_its_own_are_part_of_it() -> None:
    platform = tarn()
    classifier = Classifier(platform, view(GOOD).as_of)
    plain = profile_content(platform.id, classifier.names, view(GOOD))
    others = [
        {**plain, "facts": {**plain["facts"], name: ["another"]}}
        for name in ("machine.model", "os.release", "os.edition")
    ]
    others += [
        {**plain, "own": "nbt-001"},
        {**plain, "verdicts": [["storage", False]]},
        {**plain, "ruled": {"storage": True}},
    ]
    assert len({classifier.of(one) for one in (plain, *others)}) == 7
