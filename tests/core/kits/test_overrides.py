from __future__ import annotations

import random
from collections.abc import Iterable
from datetime import date
from itertools import combinations
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.attempts.override_results import OverrideCount, seldom_works
from doorstone.core.conditions import ALWAYS, parse
from doorstone.core.facts import BUILT_IN
from doorstone.core.kits.overrides import Choice, Cost, choose
from doorstone.core.platforms.platform import Origin, Override, Platform, Route
from tests.build import CHIPLESS, GOOD, TODAY, tarn, view

CHIP = ("processor-listed", "security-chip")


def answer(
    checks: Iterable[str],
    release: str = "9.1",
    route: Route = Route.IN_PLACE,
    excepted: Iterable[str] = (),
    **facts: Any,
) -> Choice:
    named = {name.replace("__", "."): value for name, value in facts.items()}
    wanted = set(checks)
    return choose(tarn(), release, route, view({**CHIPLESS, **named}).values(), TODAY, wanted, wanted | set(excepted))


def ids(choice: Choice) -> tuple[str, ...]:
    assert choice.best is not None
    return choice.best.ids


def why(choice: Choice, name: str) -> str:
    return next(left.why for left in choice.left_out if left.override.id == name)


def test_one_exact_override_beats_two_and_beats_excess() -> None:
    choice = answer(CHIP)
    assert ids(choice) == ("compat-drop-in",)
    assert choice.best is not None
    assert choice.best.excess == ()
    # hall-profile would also switch off memory, Secure Boot and storage: three beyond what is excepted.
    assert choice.alternatives[0].ids == ("hall-profile",)
    assert choice.alternatives[0].excess == ("memory-set-up", "secure-boot", "storage")


def test_the_lightest_of_exact_sets_is_taken() -> None:
    # listed-grace (weight 1) covers the processor alone; compat-drop-in would switch the chip off too.
    assert ids(answer(["processor-listed"])) == ("listed-grace",)


def test_every_override_left_out_has_its_reason() -> None:
    choice = answer(CHIP)
    assert why(choice, "chip-waiver") == "needs os.edition estate, which is unmet here"
    assert why(choice, "small-disk") == "covers nothing this device needs"
    assert why(choice, "listed-grace") == "dominated: compat-drop-in covers processor-listed at less cost"
    assert why(answer(CHIP, route=Route.CLEAN), "compat-drop-in") == "not for the clean route; only in-place"
    assert why(answer(["online-account"], "9.0"), "offline-answer") == "works only from release 9.1 on"
    assert len(choice.left_out) == len(tarn().overrides) - 1


def test_situation_7_an_override_is_never_proposed_past_its_end() -> None:
    choice = answer(CHIP, "9.2")
    assert choice.best is None
    assert why(choice, "compat-drop-in") == "ended at release 9.2"
    assert choice.uncovered == ("security-chip",)


def test_an_estate_device_has_another_way_past_that_end() -> None:
    assert ids(answer(CHIP, "9.2", os__edition="estate")) == ("chip-waiver", "listed-grace")


def test_situation_6_partial_cover_is_named_and_a_combination_proposed() -> None:
    choice = answer([*CHIP, "memory-set-up"])
    assert ids(choice) == ("compat-drop-in", "small-memory")
    assert ("compat-drop-in", CHIP) in choice.partial
    assert ("small-memory", ("memory-set-up",)) in choice.partial


def test_situation_39_an_answer_given_beforehand_is_an_override_like_any_other() -> None:
    assert ids(answer(["online-account"])) == ("offline-answer",)


def test_a_conflict_keeps_two_overrides_apart_and_is_the_reason() -> None:
    # Clean route, five checks: hall-profile alone, without excess; small-disk, in conflict with it, is needless.
    checks = ["memory-set-up", "processor-listed", "secure-boot", "security-chip", "storage"]
    choice = answer(checks, route=Route.CLEAN)
    assert ids(choice) == ("hall-profile",)
    assert why(choice, "small-disk") == "in conflict with hall-profile"


def test_changed_media_are_chosen_where_they_switch_off_least() -> None:
    # loose-table also covers the processor (1 in excess); hall-profile would switch off three more.
    assert ids(answer(["security-chip", "storage"], route=Route.CLEAN)) == ("loose-table", "small-disk")


def test_nothing_to_cover_is_an_empty_set() -> None:
    choice = answer([])
    assert choice.best is not None
    assert (choice.best.ids, choice.alternatives) == ((), ())


def test_what_an_exception_names_is_no_excess() -> None:
    choice = answer(CHIP, route=Route.CLEAN, excepted=["memory-set-up", "secure-boot", "storage"])
    assert choice.best is not None
    assert choice.best.excess == ()


# ------------------------------------------------------- exactness, by exhaustion


def generated(rng: random.Random) -> tuple[Platform, set[str], set[str]]:
    names = [r.id for r in tarn().requirements_at("9.1")]
    overrides = []
    for number in range(rng.randint(1, 9)):
        overrides.append(
            Override(
                f"o{number}",
                f"Override {number}",
                frozenset(rng.sample(names, rng.randint(1, 4))),
                frozenset(rng.sample([Route.IN_PLACE, Route.CLEAN], rng.randint(1, 2))),
                rng.choice(["9.0", "9.0", "9.1", "9.2"]),
                rng.choice([None, None, "9.1", "9.3"]),
                "argument",
                rng.choice(list(Origin)),
                rng.randint(1, 9),
                needs=ALWAYS if rng.random() < 0.8 else parse({"fact": "os.edition", "is": "estate"}, BUILT_IN),
                conflicts=frozenset({f"o{rng.randint(0, 8)}"} - {f"o{number}"}) if rng.random() < 0.3 else frozenset(),
            )
        )
    checks = set(rng.sample(names, rng.randint(1, 4)))
    excepted = checks | set(rng.sample(names, rng.randint(0, 2)))
    return replace(tarn(), overrides=tuple(overrides)), checks, excepted


def best_by_exhaustion(platform: Platform, checks: set[str], excepted: set[str]) -> Cost | None:
    """Every subset, tried on its own terms: independent of the search under test."""
    order = ["8", "9.0", "9.1", "9.2", "9.3"]
    valid = [
        o
        for o in platform.overrides
        if order.index(o.since) <= 2 < (order.index(o.until) if o.until else 99)
        and Route.IN_PLACE in o.routes
        and o.needs is ALWAYS  # the devices here are of the desk edition
    ]
    asked = {r.id for r in platform.requirements if r.since in ("9.0", "9.1")}
    best: Cost | None = None
    for size in range(len(valid) + 1):
        for chosen in combinations(valid, size):
            names = {o.id for o in chosen}
            covered = set().union(*(o.covers for o in chosen))
            if checks <= covered and not any(o.conflicts & names for o in chosen):
                cost = (
                    len((covered & asked) - excepted),
                    sum(o.origin == Origin.FIELD for o in chosen),
                    sum(o.origin == Origin.OWN for o in chosen),
                    sum(o.weight for o in chosen),
                    len(chosen),
                    tuple(sorted(names)),
                )
                best = cost if best is None or cost < best else best
    return best


@pytest.mark.parametrize("seed", range(500))
def test_the_choice_is_the_optimum_that_exhaustion_finds(seed: int) -> None:
    platform, checks, excepted = generated(random.Random(seed))
    values = view(GOOD).values()
    choice = choose(platform, "9.1", Route.IN_PLACE, values, date(2027, 1, 18), checks, excepted)
    expected = best_by_exhaustion(platform, checks, excepted)
    if expected is None:
        assert choice.best is None
        assert choice.uncovered
        assert set(choice.uncovered) <= checks
        assert best_by_exhaustion(platform, set(choice.uncovered), excepted) is None
    else:
        assert choice.best is not None
        assert choice.best.cost == expected
        assert checks <= set().union(*(o.covers for o in choice.best.overrides))
        costs = [choice.best.cost, *(other.cost for other in choice.alternatives)]
        assert costs == sorted(costs)


@pytest.mark.parametrize(("tried", "well", "is_poor"), [(3, 1, True), (3, 2, False), (4, 2, False), (2, 0, False)])
def test_an_override_is_poor_below_half_of_three_attempts(tried: int, well: int, is_poor: bool) -> None:
    assert bool(seldom_works("Fallow 310", [OverrideCount("9.1", "grace", tried, well)])) is is_poor
