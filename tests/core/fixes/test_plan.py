"""Fixes combined: the cheapest that meet the most, in an order that can be gone, each spared where another does it."""

from __future__ import annotations

from decimal import Decimal
from itertools import permutations
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.conditions import Outcome
from doorstone.core.fixes.plan import FixPlan, after_fixes, plan_fixes, stop_before
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import assess
from doorstone.formats.sheet import read_sheet
from tests.build import GOOD, SMALL_SHEET, TODAY, tarn, view

HEAD = f"""{SMALL_SHEET}[[release]]
id = "1"
published = 2026-01-01
servicing_ends = {{ e = 2028-01-01 }}
"""


def sheet(*requirements: str) -> Platform:
    parts = [
        f'[[requirement]]\nid = "r{at}"\ntitle = "R{at}"\nfrom = "1"\nenforced_at = ["set-up"]\nbecause = "b"\n{text}'
        for at, text in enumerate(requirements)
    ]
    return read_sheet(HEAD + "\n".join(parts), {})


def fix(title: str, when: str, gives: str, minutes: int = 10, cost: str = "0") -> str:
    return (
        f'[[requirement.fix]]\ntitle = "{title}"\nkind = "part"\nwhen = {when}\ngives = {gives}\n'
        f'minutes = {minutes}\ncost = "{cost}"\n'
    )


def plan(platform: Platform, facts: dict[str, Any]) -> FixPlan:
    of = view(facts, specs=platform.specs)
    return plan_fixes(assess(platform, "1", of), of)


def titles(found: FixPlan) -> list[str]:
    return [step.fix.title for step in found.steps]


MEMORY = 'condition = { fact = "memory.mib", at_least = 6144 }\n'
UEFI = 'condition = { fact = "firmware.mode", is = "uefi" }\n'
BOOT = 'condition = { fact = "firmware.secure_boot", is = "on" }\n'
SMALL = '{ fact = "memory.mib", at_most = 6143 }'
LEGACY = '{ fact = "firmware.mode", is = "legacy" }'


def test_one_part_that_meets_two_requirements_is_bought_once() -> None:
    stick = fix("Fit 8 GiB", SMALL, '{ "memory.mib" = 8192 }', 20, "38.00")
    platform = sheet(MEMORY.replace("6144", "3072") + stick, MEMORY + stick)
    found = plan(platform, {"memory.mib": 2048})
    assert [(s.fix.title, s.meets) for s in found.steps] == [("Fit 8 GiB", ("r0", "r1"))]
    assert (found.minutes, found.cost, found.left) == (20, Decimal("38.00"), ())


def test_a_fix_that_another_makes_needless_is_spared_and_says_after_which() -> None:
    board = fix("New board", LEGACY, '{ "firmware.mode" = "uefi", "memory.mib" = 8192 }', 90, "30.00")
    platform = sheet(UEFI + board, MEMORY + fix("Fit 8 GiB", SMALL, '{ "memory.mib" = 8192 }', 20, "38.00"))
    found = plan(platform, {"memory.mib": 2048, "firmware.mode": "legacy"})
    assert titles(found) == ["New board"]
    assert [(s.fix.title, s.requirement, s.after) for s in found.spared] == [("Fit 8 GiB", "r1", "New board")]


def test_a_fix_may_open_the_way_for_another() -> None:
    platform = sheet(
        UEFI + fix("Convert", LEGACY, '{ "firmware.mode" = "uefi", "firmware.secure_boot" = "off" }', 45),
        BOOT + fix("Switch on", '{ fact = "firmware.secure_boot", is = "off" }', '{ "firmware.secure_boot" = "on" }'),
    )
    found = plan(platform, {"firmware.mode": "legacy", "firmware.secure_boot": "absent"})
    assert [(s.fix.title, s.meets) for s in found.steps] == [("Convert", ("r0",)), ("Switch on", ("r1",))]
    assert found.minutes == 55


def test_the_cheaper_of_two_ways_is_taken_by_cost_then_minutes() -> None:
    both = fix("Dear", SMALL, '{ "memory.mib" = 8192 }', 5, "60") + fix(
        "Cheap", SMALL, '{ "memory.mib" = 8192 }', 50, "40"
    )
    assert titles(plan(sheet(MEMORY + both), {"memory.mib": 4096})) == ["Cheap"]
    level = both.replace('cost = "60"', 'cost = "40"')
    assert titles(plan(sheet(MEMORY + level), {"memory.mib": 4096})) == ["Dear"]


def test_what_no_fix_meets_is_left_and_the_rest_is_fixed_all_the_same() -> None:
    platform = sheet(MEMORY, UEFI + fix("Convert", LEGACY, '{ "firmware.mode" = "uefi" }'))
    found = plan(platform, {"memory.mib": 2048, "firmware.mode": "legacy"})
    assert (titles(found), found.left) == (["Convert"], ("r0",))


def test_nothing_unmet_needs_nothing() -> None:
    assert plan_fixes(assess(tarn(), "9.1", view(GOOD)), view(GOOD)) == FixPlan((), (), ())


@pytest.mark.parametrize(("count", "exact"), [(16, True), (17, False)])
def test_beyond_sixteen_fixes_each_requirement_gets_its_own_and_the_plan_says_so(count: int, exact: bool) -> None:
    parts = [
        f'condition = {{ fact = "cpu.cores", at_least = {at} }}\n'
        + fix(f"Board {at}", '{ fact = "cpu.cores", at_most = 1 }', f'{{ "cpu.cores" = {at} }}')
        for at in range(2, count + 2)
    ]
    found = plan(sheet(*parts), {"cpu.cores": 1})
    assert (found.exact, found.left) == (exact, ())
    assert len(found.steps) == (1 if exact else count)  # the largest board meets them all


@pytest.mark.parametrize(
    ("encrypted", "saved", "kind", "stops"),
    [
        (True, False, "firmware-setting", True),
        (True, None, "firmware-setting", True),
        (True, True, "firmware-setting", False),
        (False, False, "firmware-setting", False),
        (True, False, "part", False),
    ],
)
def test_situation_30_an_unsaved_key_stops_a_firmware_fix(
    encrypted: bool, saved: bool | None, kind: str, stops: bool
) -> None:
    platform = sheet(BOOT + fix("Switch on", SMALL, '{ "firmware.secure_boot" = "on" }').replace('"part"', f'"{kind}"'))
    facts = {"disk.encrypted": encrypted, **({} if saved is None else {"care.recovery_key_saved": saved})}
    of = view(facts, specs=platform.specs)
    assert bool(stop_before(platform.requirements[0].fixes[0], of)) is stops


facts = st.fixed_dictionaries(
    {
        "memory.mib": st.sampled_from([1024, 4096, 8192]),
        "memory.max_mib": st.sampled_from([4096, 16384]),
        "firmware.mode": st.sampled_from(["uefi", "legacy"]),
        "firmware.uefi_capable": st.booleans(),
        "firmware.secure_boot": st.sampled_from(["on", "off", "absent"]),
        "tpm.state": st.sampled_from(["on", "off", "absent"]),
        "account.online": st.booleans(),
    }
)


@settings(max_examples=120, deadline=None)
@given(facts)
def test_the_plan_equals_the_best_of_every_order_of_every_set(given_: dict[str, Any]) -> None:
    of = view({**GOOD, **given_})
    unmet = [f.requirement for f in assess(tarn(), "9.1", of).unmet()]
    every = list({fix.title: fix for r in unmet for fix in r.fixes}.values())
    best = (0, Decimal(0), 0, 0)
    for size in range(len(every) + 1):
        for order in permutations(every, size):
            values = of.values()
            for fix_ in order:
                if fix_.when.outcome(values, TODAY) is not Outcome.MET:
                    break
                values = values | dict(fix_.gives)
            else:
                met = sum(r.condition.outcome(values, TODAY) is Outcome.MET for r in unmet)
                best = max(best, (met, -sum(f.cost for f in order), -sum(f.minutes for f in order), -len(order)))
    found = plan_fixes(assess(tarn(), "9.1", of), of)
    met = sum(len(step.meets) for step in found.steps)
    assert (met, -found.cost, -found.minutes, -len(found.steps)) == best


@settings(max_examples=120, deadline=None)
@given(facts)
def test_a_fix_that_is_made_makes_its_requirement_met(given_: dict[str, Any]) -> None:
    of = view({**GOOD, **given_})
    found = plan_fixes(assess(tarn(), "9.1", of), of)
    then = assess(tarn(), "9.1", after_fixes(tarn(), found, of))
    for step in found.steps:
        for name in step.meets:
            finding = then.of(name)
            assert finding is not None
            assert finding.mark == "met"
