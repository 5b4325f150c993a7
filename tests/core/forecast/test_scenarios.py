"""Scenarios, costs, budgets, rates and follow-ups by values worked out by hand, and their laws."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from decimal import Decimal
from itertools import product
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.attempts.success_rates import rate, rates_by
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.fixes.plan import plan_fixes
from doorstone.core.followups import StepKind, follow_ups
from doorstone.core.forecast.budget import Group, Option, plan, plans
from doorstone.core.forecast.costs import CostModel, WayPrices, add_months, months_between, ways, ways_of
from doorstone.core.forecast.device_forecast import forecast
from doorstone.core.forecast.scenarios import (
    Assumption,
    Scenario,
    assume,
    compare_scenarios,
    suppose,
    supposed_exceptions,
    taken_as_met,
)
from doorstone.core.platforms.platform import Platform, Sort, Standing, UpdateClass
from doorstone.core.sorting.assessment import assess
from doorstone.core.updates import attributions
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import CHIPLESS, GOOD, TODAY, tarn, view

D = date.fromisoformat
UNLISTED: Mapping[str, Any] = {**GOOD, "cpu.model": "Quern Q3-410"}
SMALL: Mapping[str, Any] = {**GOOD, "disk.system_gib": 29}


def granted(
    *requirements: str, release: str = "9.3", through: str = "2029-12-31", name: str = "EX-1"
) -> ExceptionTerms:
    return ExceptionTerms(
        name, "tarn", release, True, frozenset(requirements), frozenset({"d1"}), TODAY, D(through),
        ExceptionState.APPROVED,
    )  # fmt: skip


def runway(facts: Mapping[str, Any], *exceptions: ExceptionTerms, platform: Platform | None = None) -> Any:
    found = forecast(platform or tarn(), "d1", view(facts), (), exceptions)
    return found.technical.runway, found.approved.runway


# ------------------------------------------------------------------ assumptions


def test_three_assumptions_side_by_side() -> None:
    # A small disk: small-disk is of the field and has no end on the sheet; 9.2 is the next release.
    found = compare_scenarios(tarn(), "d1", view(SMALL), (), [granted("storage")])
    lines = {a.assumption: (a.technical.runway, a.technical.ended_by) for a in found.assumed}
    assert lines[Assumption.PLANNED] == (D("2029-06-30"), "9.3 is the last release of the sheet")
    assert lines[Assumption.PUBLISHED] == (D("2027-11-30"), "it is the last release published by 2027-01-18")
    until, words = lines[Assumption.PESSIMISTIC]
    assert until == D("2027-11-30")
    assert words.startswith("no override covers 64 GB system disk at 9.2 (small-disk ended at release 9.2")


def test_a_vendors_override_does_not_end_early_and_an_earlier_end_stays() -> None:
    under = assume(tarn(), Assumption.PESSIMISTIC, TODAY)
    assert under.override("small-disk").until == "9.2"
    assert under.override("plain-boot").until is None  # the vendor's
    assert under.override("hall-profile").until == "9.2"
    late = assume(tarn(), Assumption.PESSIMISTIC, D("2027-12-14"))
    assert late is tarn()  # nothing is to come


def test_two_exceptions_of_which_fixing_one_changes_nothing() -> None:
    # Chip and small disk: the chip's override ends at 9.2 whatever is done about the disk.
    facts = {**SMALL, "tpm.version": "1.2"}
    both = [granted("security-chip", name="EX-1"), granted("storage", name="EX-2")]
    weights = {w.exception: w for w in compare_scenarios(tarn(), "d1", view(facts), (), both).exceptions}
    assert weights["EX-2"].with_it == D("2027-11-30")
    assert weights["EX-2"].without_it == D("2027-02-28")  # then 9.1 is not approved
    assert (weights["EX-2"].fixed_technical, weights["EX-2"].fixed_approved) == (D("2027-11-30"), D("2027-11-30"))
    assert weights["EX-1"].fixed_technical == D("2029-06-30")


def test_what_if_dates_ends_fixes_and_sorts() -> None:
    before = runway(CHIPLESS)[0]
    assert before == D("2027-11-30")
    assert runway(CHIPLESS, platform=suppose(tarn(), Scenario(ends={"compat-drop-in": ""})))[0] == D("2029-06-30")
    assert runway(CHIPLESS, platform=suppose(tarn(), Scenario(fixed=frozenset({"security-chip"}))))[0] == D(
        "2029-06-30"
    )
    assert runway(CHIPLESS, platform=suppose(tarn(), Scenario(serviced={"9.1": D("2028-01-31")})))[0] == D("2028-01-31")
    floor = suppose(tarn(), Scenario(sorts={"security-chip": Sort.FLOOR}))
    assert runway(CHIPLESS, platform=floor)[0] == D("2027-02-28")
    given_ = Scenario(granted=frozenset({"security-chip", "processor-listed"}))
    assert runway(CHIPLESS)[1] == D("2027-02-28")
    assert runway(CHIPLESS, *supposed_exceptions(tarn(), "d1", given_, TODAY))[1] == D("2027-11-30")
    with pytest.raises(KeyError):
        suppose(tarn(), Scenario(ends={"no-such": "9.2"}))


# ---------------------------------------------------------- standing, attributed


def test_an_exception_alone_together_and_what_a_fix_would_restore() -> None:
    assessment = assess(tarn(), "9.1", view(CHIPLESS))
    one, other = ("EX-1", frozenset({"security-chip"})), ("EX-2", frozenset({"processor-listed"}))
    found = {(a.exception, a.update_class): a for a in attributions(tarn(), assessment, [one, other])}
    chip = found["EX-1", UpdateClass.RELEASE]
    assert (chip.alone, chip.shared_with, chip.restored) == (
        Standing.WITHHELD, ("processor-listed",), Standing.WITHHELD,
    )  # fmt: skip
    security = found["EX-1", UpdateClass.SECURITY]
    assert (security.alone, security.shared_with, security.restored) == (Standing.UNPROMISED, (), Standing.NORMAL)
    assert ("EX-1", UpdateClass.DRIVER) not in found
    assert found["EX-2", UpdateClass.DRIVER].restored is Standing.NORMAL


# ------------------------------------------------------------------------- costs


def test_what_each_way_costs_worked_by_hand() -> None:
    # Chip too old, unlisted: 9.1 by exception from today; 316 days to 2027-11-30 make 5 checks of 60 days.
    found = {w.way: w for w in ways(tarn(), "d1", view(CHIPLESS), (), [], CostModel())}
    assert (found["stay"].until, found["stay"].months, found["stay"].cost) == (D("2027-02-28"), Decimal("1.4"), 0)
    by_hand = found["except"]
    assert [(line.what, line.quantity, line.total) for line in by_hand.lines] == [
        ("Moves by hand", Decimal("1.83"), Decimal("76.86")),  # 110 minutes at 42.00
        ("Looking whether updates arrive", Decimal("0.83"), Decimal("34.86")),  # 50 minutes
    ]
    assert (by_hand.until, by_hand.months, by_hand.added) == (D("2027-11-30"), Decimal("10.4"), Decimal("9.0"))
    assert (by_hand.cost, by_hand.per_month) == (Decimal("111.72"), Decimal("12.41"))
    extend = found["extend"]
    assert (extend.until, extend.cost, extend.per_month) == (D("2028-02-28"), Decimal("66.00"), Decimal("5.50"))
    replaced = found["replace"]
    assert (replaced.until, replaced.cost, replaced.months) == (D("2031-01-18"), Decimal("745.00"), Decimal("48.0"))
    assert list(found) == ["stay", "extend", "except", "replace"]  # by cost per month bought


def test_situation_28_running_slower_weighs_in_the_course() -> None:
    plain = {w.way: w for w in ways(tarn(), "d1", view(CHIPLESS), (), [], CostModel())}
    slow = {w.way: w for w in ways(tarn(), "d1", view(CHIPLESS), (), [], CostModel(), slower=True)}
    assert slow["except"].lines[-1].what == "Runs slower than before"
    assert slow["except"].cost - plain["except"].cost == Decimal("31.20")  # 10.4 months at 3.00
    assert slow["replace"].cost == plain["replace"].cost


def test_situation_28_a_device_that_runs_slower_costs_its_user_wherever_it_stays() -> None:
    # Found slower on 9.1, from which no move leads further; serviced 10.4 months, extended 22.4.
    facts = {**CHIPLESS, "os.release": "9.1"}
    found = {w.way: w for w in ways(tarn(), "d1", view(facts), (), [], CostModel(), slower=True)}
    assert [(w, found[w].cost) for w in ("stay", "extend", "replace")] == [
        ("stay", Decimal("31.20")),  # 10.4 months at 3.00
        ("extend", Decimal("133.20")),  # 12 months at 5.50, 22.4 at 3.00
        ("replace", Decimal("745.00")),
    ]
    assert found["extend"].per_month == Decimal("8.50")  # 102.00 beyond staying, over 12.0 months
    assert found["replace"].per_month == Decimal("18.98")  # 713.80 over 37.6


def test_every_fix_of_a_move_is_billed() -> None:
    # Legacy firmware with Secure Boot off: converted, then switched on; both are paid.
    facts = {**GOOD, "firmware.mode": "legacy", "firmware.secure_boot": "off", "tpm.state": "off"}
    found = {w.way: w for w in ways(tarn(), "d1", view(facts), (), [], CostModel())}
    lines = [line.what for line in found["fix"].lines]
    assert lines == [*(s.fix.title for s in plan_fixes(assess(tarn(), "9.1", view(facts)), view(facts)).steps),
                     "Moves that are offered"]  # fmt: skip
    assert len(lines) == 4


def test_a_fix_is_paid_once_and_a_part_too() -> None:
    facts = {**GOOD, "memory.mib": 4096}
    found = {w.way: w for w in ways(tarn(), "d1", view(facts), (), [], CostModel())}
    lines = [(line.what, line.total) for line in found["fix"].lines]
    assert lines == [
        ("Fit 8 GiB of memory", Decimal("13.86")),  # 20 minutes, 0.33 hours
        ("Parts: Fit 8 GiB of memory", Decimal("38.00")),
        ("Moves that are offered", Decimal("63.00")),  # three moves of 30 minutes
    ]
    assert found["fix"].until == D("2029-06-30")


@pytest.mark.parametrize(
    ("day", "months", "then"),
    [
        ("2027-01-31", 1, "2027-02-28"),
        ("2028-01-31", 1, "2028-02-29"),  # a leap day
        ("2028-02-29", 12, "2029-02-28"),
        ("2027-12-14", 1, "2028-01-14"),
        ("2027-01-18", 48, "2031-01-18"),
    ],
)
def test_months_on(day: str, months: int, then: str) -> None:
    assert add_months(D(day), months) == D(then)


def test_months_between() -> None:
    assert months_between(D("2027-01-18"), D("2027-01-17")) == 0
    assert months_between(D("2027-01-01"), D("2027-12-31")) == Decimal("12.0")


def test_ways_priced_together_are_those_priced_alone() -> None:
    bare = replace(tarn(), overrides=())
    every = [view(facts) for facts in (GOOD, CHIPLESS, UNLISTED, SMALL, {**GOOD, "os.edition": "studio"}, GOOD)]
    pairs = [(forecast(tarn(), "d1", one, (), []), forecast(bare, "d1", one, (), [])) for one in every]
    together = WayPrices(TODAY, CostModel())
    assert [together.ways_of(*pair) for pair in pairs] == [ways_of(*pair, TODAY, CostModel()) for pair in pairs]
    assert len({together.ways_of(*pair) for pair in pairs}) > 2


# ------------------------------------------------------------------------ budget


def test_a_plan_worked_by_hand() -> None:
    stay = Option("stay", 0, 10)
    groups = [
        Group("a", 2, (stay, Option("fix", 100, 60), Option("replace", 1000, 110))),
        Group("b", 1, (stay, Option("except", 200, 50))),
    ]
    # 100 buys 50 tenths for each a; 200 buys 40 for b; then 900 buys 50 more for an a.
    found = plan(groups, 400)
    assert [(c.key, c.option.way, c.devices) for c in found.chosen] == [("a", "fix", 2), ("b", "except", 1)]
    assert (found.cost, found.tenths, found.bound) == (400, 170, 170)
    assert plan(groups, 0).tenths == 30
    part = plan(groups, 150)
    assert (part.cost, part.tenths, part.bound) == (100, 80, 80)


def test_a_plan_takes_the_cheaper_way_where_the_better_one_costs_too_much() -> None:
    ways = (Option("stay", 0, 0), Option("fix", 6600, 300), Option("except", 7014, 310))
    found = plan([Group("a", 1, ways)], 6900)
    assert [(c.option.way, c.devices) for c in found.chosen] == [("fix", 1)]
    assert (found.cost, found.tenths, found.bound) == (6600, 300, 300)


options = st.lists(
    st.builds(Option, st.sampled_from(["x", "y", "z"]), st.integers(1, 30), st.integers(0, 40)), max_size=3
)
groups_of = st.lists(st.tuples(st.integers(1, 2), options, st.integers(0, 20)), min_size=1, max_size=3)


@given(groups_of, st.integers(0, 60))
def test_a_plan_is_the_best_of_all_choices_and_the_cheapest_of_these(made: Sequence[Any], budget: int) -> None:
    groups = [Group(at, count, (Option("stay", 0, base), *more)) for at, (count, more, base) in enumerate(made)]
    found = plan(groups, budget)
    best = 0
    each = [group for group in groups for _ in range(group.devices)]
    for chosen in product(*(group.options for group in each)):
        if sum(o.cost for o in chosen) <= budget:
            best = max(best, sum(o.tenths for o in chosen))
    assert found.cost <= budget
    assert found.tenths == best == found.bound
    cheapest = min(
        sum(o.cost for o in chosen)
        for chosen in product(*(group.options for group in each))
        if sum(o.tenths for o in chosen) == best and sum(o.cost for o in chosen) <= budget
    )
    assert found.cost == cheapest
    assert sum(c.devices for c in found.chosen) == len(each)
    assert plans(groups, [0, budget, 2 * budget]) == [plan(groups, amount) for amount in (0, budget, 2 * budget)]


# ------------------------------------------------------------------------- rates


def test_an_interval_for_small_counts() -> None:
    # Wilson, 95 %: 2 of 3 gives 20.8 % to 93.9 %; all of 4 gives 51.0 % to 100 %.
    assert (round(rate(2, 3).low, 3), round(rate(2, 3).high, 3)) == (0.208, 0.939)
    assert (round(rate(4, 4).low, 3), rate(4, 4).high) == (0.51, 1.0)
    assert (rate(0, 0).low, rate(0, 0).high) == (0.0, 1.0)
    assert list(rates_by([("b", True), ("a", False), ("a", True)])) == ["a", "b"]


# -------------------------------------------------------------------- follow-ups


def test_follow_ups_in_order_blocking_ones_first_and_what_ends_rollback_last() -> None:
    brindle = read_sheet(*sheet_text("brindle"), "brindle.toml")
    seen = view({"os.platform": "brindle", "machine.model": "Plate Station 2"}, specs=brindle.specs)
    used = [brindle.override("bridge-loader")]
    steps = follow_ups(brindle, seen, TODAY, 7, used, ["scanner bridge 2"], ["plate archive"])
    assert [(s.kind, s.blocking, s.due_on.isoformat()) for s in steps] == [
        (StepKind.LOADER, True, "2027-01-18"),
        (StepKind.SHEET, True, "2027-01-19"),
        (StepKind.PATCH, True, "2027-01-19"),
        (StepKind.APPLICATION, True, "2027-01-19"),
        (StepKind.PERFORMANCE, False, "2027-01-25"),
        (StepKind.MEDIA, False, "2027-01-25"),
    ]
    of_tarn = follow_ups(tarn(), view({**GOOD, "disk.encrypted": True}), TODAY, 14)
    assert [s.name for s in of_tarn] == [
        "release-right", "files-there", "updates-arrive", "activated", "disk-encrypted", "performance", "old-release",
    ]  # fmt: skip
    assert of_tarn[-1].due_on == D("2027-02-02")  # the day after rollback ends
    assert "disk-encrypted" not in [s.name for s in follow_ups(tarn(), view(GOOD), TODAY, 14)]


# -------------------------------------------------------------------------- laws

CHECKS: Mapping[str, Mapping[str, Any]] = {
    "security-chip": {"tpm.version": "1.2"},
    "processor-listed": {"cpu.model": "Quern Q3-410"},
    "storage": {"disk.system_gib": 29},
    "memory-set-up": {"memory.mib": 4096, "memory.max_mib": 4096},
    "graphics-level": {"graphics.vulkan": "1.1"},
    "firmware-uefi": {"firmware.mode": "legacy", "firmware.uefi_capable": False},
}
failing = st.sets(st.sampled_from(sorted(CHECKS)))
days = st.dates(D("2026-06-01"), D("2029-12-31"))


def facts_of(names: set[str]) -> dict[str, Any]:
    return dict(GOOD) | {name: value for check in sorted(names) for name, value in CHECKS[check].items()}


def or_never(day: date | None) -> date:
    return day or date.min


@settings(max_examples=60, deadline=None)
@given(failing, failing, days)
def test_an_added_fix_never_shortens_a_runway(names: set[str], fixed: set[str], day: date) -> None:
    seen = view(facts_of(names), day)
    plain = forecast(tarn(), "d1", seen)
    better = forecast(taken_as_met(tarn(), fixed), "d1", seen)
    assert or_never(better.technical.runway) >= or_never(plain.technical.runway)
    assert or_never(better.approved.runway) >= or_never(plain.approved.runway)


@settings(max_examples=60, deadline=None)
@given(failing, failing, days, st.sampled_from(["9.0", "9.1", "9.2", "9.3"]), st.integers(1, 900))
def test_an_added_exception_never_shortens_a_runway(
    names: set[str], excepted: set[str], day: date, release: str, length: int
) -> None:
    if not excepted:
        return
    seen = view(facts_of(names), day)
    one = replace(granted(*excepted, release=release), start=day, expiry=date.fromordinal(day.toordinal() + length))
    plain, more = forecast(tarn(), "d1", seen), forecast(tarn(), "d1", seen, (), [one])
    assert or_never(more.technical.runway) >= or_never(plain.technical.runway)
    assert or_never(more.approved.runway) >= or_never(plain.approved.runway)
