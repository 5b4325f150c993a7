"""Laws of the runway on random worlds: another possibility never shortens it, an unread value never lengthens it.

Each law takes a world and a device, and returns them with one thing added. Runways of both lines are compared.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from copy import deepcopy
from datetime import date
from random import Random
from typing import Any

import pytest

from doorstone.core.forecast.device_forecast import forecast
from doorstone.formats.sheet import SheetError, read_sheet
from tests.oracle import worlds
from tests.oracle.compare import exceptions_of, view_of

World = dict[str, Any]
Law = Callable[[Random, World, World], bool]


def another_route_of_an_override(random: Random, world: World, device: World) -> bool:
    narrow = [one for one in world["overrides"] if len(one["routes"]) == 1]
    for one in random.sample(narrow, min(1, len(narrow))):
        one["routes"] = ["in-place", "clean"]
    return bool(narrow)


def another_upgrade_path(random: Random, world: World, device: World) -> bool:
    at = random.randrange(1, len(world["releases"]))
    missing = [one["id"] for one in world["releases"][:at] if one["id"] not in world["releases"][at]["upgrade_from"]]
    for name in missing[:1]:
        world["releases"][at]["upgrade_from"].append(name)
    return bool(missing)


def another_override(random: Random, world: World, device: World) -> bool:
    names = [one["id"] for one in world["releases"]]
    added = worlds.override(random, f"o{len(world['overrides'])}", names, world["requirements"])
    world["overrides"].append({**added, "conflicts": []})
    return True


def another_exception(random: Random, world: World, device: World) -> bool:
    device["exceptions"].append(
        {
            "id": "EX-0099",
            "release": random.choice(world["releases"])["id"],
            "up_to": random.random() < 0.5,
            "requirements": [random.choice(world["requirements"])["id"]],
            "start": random.randint(-10, 20),
            "expiry": random.randint(20, 150),
            "state": "approved",
            "doubt": False,
        }
    )
    return True


def another_fix(random: Random, world: World, device: World) -> bool:
    asked = random.choice(world["requirements"])
    asked["fixes"].append(
        {
            "title": "one more",
            "when": worlds.condition(random, 1),
            "gives": worlds.gives(random, asked["condition"]),
            "minutes": random.choice([0, 30]),
            "cost": random.choice([0, 40]),
        }
    )
    return True


def a_later_end_of_servicing(random: Random, world: World, device: World) -> bool:
    random.choice(world["releases"])["ends"] += random.randint(1, 60)
    return True


def one_requirement_less(random: Random, world: World, device: World) -> bool:
    """As if the device met it. Its fixes would no longer be made, and they may open the way of others: it has none.

    Everything is read: beside an unmet check an unread one decides nothing, and without it the same may be unsettled.
    """
    if len(device["readings"]) > 1 or set(worlds.VALUES) - set(device["readings"][0]["facts"]):
        return False
    plain = [one for one in world["requirements"] if not one["fixes"]]
    if len(world["requirements"]) == 1 or not plain:
        return False
    gone = random.choice(plain)
    world["requirements"].remove(gone)
    for one in world["overrides"]:
        one["covers"] = [name for name in one["covers"] if name != gone["id"]]
    world["overrides"] = [one for one in world["overrides"] if one["covers"]]
    kept = {one["id"] for one in world["overrides"]}
    for one in world["overrides"]:
        one["conflicts"] = [name for name in one["conflicts"] if name in kept]
    for held in device["exceptions"]:
        held["requirements"] = [name for name in held["requirements"] if name != gone["id"]]
    device["exceptions"] = [held for held in device["exceptions"] if held["requirements"]]
    return True


LAWS: list[Law] = [
    another_route_of_an_override, another_upgrade_path, another_override, another_exception, another_fix,
    a_later_end_of_servicing, one_requirement_less,
]  # fmt: skip


WORLDS = 30
"""In which each law is tried."""


def runways(world: World, device: World) -> tuple[date, date] | None:
    try:
        platform = read_sheet(worlds.toml(world), {})
    except SheetError:
        return None
    found = forecast(platform, "d", view_of(platform, device), (), exceptions_of(device))
    return found.technical.runway or date.min, found.approved.runway or date.min


def broken(law: Law, worlds_to_try: int, seed: int) -> list[str]:
    """The seeds of worlds in which the law does not hold."""
    found, tried = [], 0
    while tried < worlds_to_try:
        seed += 1
        random = Random(seed)
        world = worlds.sheet(random)
        device = worlds.device(random, world)
        before = runways(world, device)
        after = deepcopy(world), deepcopy(device)
        if before is None or not law(random, *after):
            continue
        then = runways(*after)
        if then is not None:
            tried += 1
            if then[0] < before[0] or then[1] < before[1]:
                found.append(f"seed {seed}: {before} became {then}")
    return found


@pytest.mark.long
@pytest.mark.parametrize("law", LAWS, ids=lambda law: law.__name__)
def test_one_more_possibility_never_shortens_a_runway(law: Law) -> None:
    assert broken(law, WORLDS, time.time_ns() // 1000) == []


@pytest.mark.long
def test_an_unread_value_never_lengthens_an_approved_runway() -> None:
    seed, tried = time.time_ns() // 1000, 0
    while tried < WORLDS:
        seed += 1
        random = Random(seed)
        world = worlds.sheet(random)
        device = worlds.device(random, world)
        before = runways(world, device)
        if before is None:
            continue
        name = random.choice(sorted(device["readings"][0]["facts"]))
        for reading in device["readings"]:
            reading["facts"].pop(name, None)
        then = runways(world, device)
        assert then is not None
        tried += 1
        assert then[1] <= before[1], f"seed {seed}, without {name}: {before} became {then}"
