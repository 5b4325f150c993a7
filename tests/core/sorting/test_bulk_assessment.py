"""Bulk assessment sorts profiles as `assess` sorts each of them; the forecaster looks ahead as `forecast` does."""

from __future__ import annotations

import json
from datetime import date, datetime
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content, view_of
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.facts import SettledFact, Verdict, View
from doorstone.core.forecast.batch import BatchForecaster
from doorstone.core.forecast.device_forecast import forecast
from doorstone.core.forecast.reach import given_view
from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import Decision, Scope, assess
from doorstone.core.sorting.bulk_assessment import BulkAssessment, SortedProfile, table_for
from doorstone.core.sorting.counts import roll_up, sorted_as
from doorstone.core.sorting.profile_table import ProfileTable, ProfileValues
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import CHIPLESS, GOOD, TODAY, tarn, view

NOON = datetime(2027, 1, 17, 12)
VALUES: dict[str, list[Any]] = {
    "tpm.version": ["2.0", "1.2"],
    "tpm.state": ["on", "off", "absent"],
    "firmware.secure_boot": ["on", "off", "absent"],
    "memory.mib": [8192, 4096, 1024],
    "disk.system_gib": [238, 30],
    "cpu.features": [GOOD["cpu.features"], ["avx"]],
    "machine.model": ["Fallow 430", "Fallow 310"],
    "os.release": ["8", "9.1"],
}

NAMES = Classifier(tarn(), TODAY).names


@st.composite
def contents(draw: st.DrawFn) -> dict[str, Any]:
    facts = dict(GOOD)
    for name, values in VALUES.items():
        facts[name] = draw(st.sampled_from(values))
    if draw(st.booleans()):
        del facts[draw(st.sampled_from(["memory.mib", "tpm.state", "firmware.mode"]))]
    shown = view(facts)
    if draw(st.booleans()):  # somebody else has read another chip
        other = view({**facts, "tpm.state": draw(st.sampled_from(VALUES["tpm.state"]))}).facts["tpm.state"].believed
        held = shown.facts.get("tpm.state")
        if held is not None and held.believed.value != other.value:
            shown = View(TODAY, {**shown.facts, "tpm.state": SettledFact(held.believed, (other,))})
    if draw(st.booleans()):
        verdict = Verdict("storage", draw(st.booleans()), "assessor", NOON)
        shown = View(TODAY, shown.facts, {}, (verdict,))
    return profile_content("tarn", NAMES, shown, draw(st.sampled_from(["", "", "d1"])))


def decision(name: str, scope: Scope, target: str, sort: Sort) -> Decision:
    return Decision(f"SD-{scope}", name, "9.1", scope, target, sort, "trial", "note", "petra", NOON)


DECISIONS = [
    [],
    [decision("security-chip", Scope.MODEL, "Fallow 310", Sort.FLOOR)],
    [decision("security-chip", Scope.DEVICE, "d1", Sort.FLOOR), decision("storage", Scope.RELEASE, "", Sort.UNSORTED)],
]


def take(table: ProfileTable, texts: dict[int, str]) -> None:
    table.values.add(texts)
    table.add(texts)


def boarded(
    found: list[dict[str, Any]], decisions: list[Decision], at_once: int
) -> tuple[BulkAssessment, SortedProfile]:
    table = table_for(tarn(), TODAY, ProfileValues())
    board = BulkAssessment(tarn(), "9.1", decisions, TODAY, table)
    for start in range(0, len(found), at_once):
        take(table, {n: json.dumps(found[n]) for n in range(start, min(start + at_once, len(found)))})
        board.sort()
    return board, board.sort()


@pytest.mark.long
@settings(max_examples=60, deadline=None)
@given(st.lists(contents(), min_size=1, max_size=8), st.sampled_from(DECISIONS), st.integers(1, 8))
def test_every_profile_is_sorted_as_it_would_be_alone(
    found: list[dict[str, Any]], decisions: list[Decision], at_once: int
) -> None:
    board, sorting = boarded(found, decisions, at_once)
    alone = [assess(tarn(), "9.1", view_of(p, tarn().specs, TODAY), decisions, str(p["own"])) for p in found]
    for number, one in enumerate(alone):
        assert sorting[number] == sorted_as(one)
        assert sorting.state(number) is one.state
        assert all(sorting.mark(number, f.requirement.id) == f.mark for f in one.findings)
        assert sorting.mark(number, "nothing-such") == "met"
        assert board.assessment(number) == one
    sizes = {number: number + 1 for number in range(len(found))}
    counted = roll_up(tarn(), "9.1", [(sorted_as(one), sizes[n]) for n, one in enumerate(alone)])
    assert sorting.roll_up("9.1", sizes) == counted


def test_profiles_that_are_left_out_of_the_sizes_do_not_count() -> None:
    good, chipless = (profile_content("tarn", NAMES, view(facts)) for facts in (GOOD, CHIPLESS))
    _, sorting = boarded([good, chipless], [], 2)
    rolled = sorting.roll_up("9.1", {1: 7})
    assert (rolled.devices, rolled.states["needs-exception"], rolled.states["clear"]) == (7, 7, 0)
    assert [(c.requirements, c.devices) for c in rolled.combinations] == [(("processor-listed", "security-chip"), 7)]
    assert list(sorting) == [0, 1]


@pytest.mark.parametrize(
    ("most", "given_most", "before", "after"),
    [
        (16384, 4096, "fixable", "installer-check"),
        (4096, 16384, "installer-check", "fixable"),
        (4096, 4096, "installer-check", "installer-check"),
    ],
)
def test_what_a_fix_gives_may_open_or_close_the_way_of_another(
    most: int, given_most: int, before: str, after: str
) -> None:
    """8 GiB can be fitted where 8192 MiB have room; the requirement looks at what is fitted, not at the room."""
    content = profile_content("tarn", NAMES, view({**GOOD, "memory.mib": 4096, "memory.max_mib": most}))
    board, sorting = boarded([content], [], 1)
    assert sorting.mark(0, "memory-set-up") == before
    seen = given_view(tarn(), view_of(content, tarn().specs, TODAY), (("memory.max_mib", given_most),))
    found = board.after_fixes(0, seen, {"memory.max_mib"}, "")
    assert found.marks["memory-set-up"] == after
    assert found == assess(tarn(), "9.1", seen)


def test_a_release_that_asks_nothing_finds_everything_clear() -> None:
    table = table_for(tarn(), TODAY, ProfileValues())
    take(table, {5: json.dumps(profile_content("tarn", NAMES, view(CHIPLESS)))})
    sorting = BulkAssessment(tarn(), "8", [], TODAY, table).sort()
    assert (sorting[5].state, dict(sorting[5].marks)) == ("clear", {})
    assert sorting.roll_up("8", {5: 2}).states["clear"] == 2


def forecaster(found: list[dict[str, Any]], decisions: list[Decision]) -> BatchForecaster:
    table = table_for(tarn(), TODAY, ProfileValues())
    take(table, dict(enumerate(map(json.dumps, found))))
    boards = {r.id: BulkAssessment(tarn(), r.id, decisions, TODAY, table) for r in tarn().releases}
    return BatchForecaster(tarn(), decisions, TODAY, table, boards.__getitem__)


EXCEPTED = ExceptionTerms(
    "EX-0001", "tarn", "9.1", False, frozenset({"processor-listed", "security-chip"}), frozenset({"d1"}),
    TODAY, date(2027, 9, 30), ExceptionState.APPROVED,
)  # fmt: skip


@settings(max_examples=20, deadline=None)
@given(st.lists(contents(), min_size=2, max_size=6), st.lists(st.sampled_from(range(5)), min_size=2, max_size=4))
@example([profile_content("tarn", NAMES, view({**GOOD, "memory.mib": mib})) for mib in (4096, 1024)], [0, 2])
def test_a_table_that_begins_with_that_of_the_sheet_before_sorts_as_a_new_one(
    found: list[dict[str, Any]], sheets: list[int]
) -> None:
    text, lists = sheet_text()
    edits = [
        ("", ""),
        ("at_least = 6144", "at_least = 8192"),
        ("at_least = 6144", "at_least = 4000"),
        ('has_all = ["avx2", "bmi2", "fma", "movbe"]', 'has_all = ["avx"]'),
        ('{ fact = "graphics.vulkan", at_least_version = "1.2" }', '{ fact = "disk.free_gib", at_least = 40 }'),
    ]
    values, before = ProfileValues(), None
    values.add(dict(enumerate(map(json.dumps, found))))
    for turn, number in enumerate(sheets):
        sheet = read_sheet(text.replace(*edits[number]), lists)
        table, fresh = table_for(sheet, TODAY, values), table_for(sheet, TODAY, values)
        if before is not None:
            table.take_over(before)
        table.add(n for n in range(len(found)) if n not in table.place and n % 4 <= turn)
        fresh.add(table.numbers)
        mine, other = (BulkAssessment(sheet, "9.1", [], TODAY, one).sort() for one in (table, fresh))
        assert {n: mine[n] for n in mine} == {n: other[n] for n in other}
        before = table


@settings(max_examples=20, deadline=None)
@given(st.lists(contents(), min_size=1, max_size=5), st.sampled_from(DECISIONS), st.sampled_from([[], [EXCEPTED]]))
def test_the_forecaster_says_of_each_what_a_forecast_alone_says(
    found: list[dict[str, Any]], decisions: list[Decision], exceptions: list[ExceptionTerms]
) -> None:
    ahead = forecaster(found, decisions)
    bare, without = ahead.without_overrides(), replace(tarn(), overrides=())
    for number, content in enumerate(found):
        shown, own = view_of(content, tarn().specs, TODAY), str(content["own"])
        assert ahead.forecast(number, exceptions) == forecast(tarn(), own, shown, decisions, exceptions)
        assert bare.forecast(number, []) == forecast(without, own, shown, decisions)


def test_machines_of_two_models_share_a_forecast_unless_a_decision_tells_them_apart() -> None:
    two = [profile_content("tarn", NAMES, view({**CHIPLESS, "machine.model": name})) for name in ("A 1", "Fallow 310")]
    ahead = forecaster(two, [])
    assert ahead.forecast(0, []) is ahead.forecast(1, [])
    apart = forecaster(two, DECISIONS[1])
    first, second = apart.forecast(0, []), apart.forecast(1, [])
    assert first is not None
    assert second is not None
    assert [move.release for move in first.technical.moves] == ["9.1"]
    assert second.technical.moves == ()  # on that model the chip is a floor


def test_a_release_that_the_sheet_does_not_know_has_no_forecast() -> None:
    table = table_for(tarn(), TODAY, ProfileValues())
    content = profile_content("tarn", NAMES, view({**GOOD, "os.release": "7"}))
    take(table, {0: json.dumps(content)})
    ahead = BatchForecaster(tarn(), [], TODAY, table, lambda release: BulkAssessment(tarn(), release, [], TODAY, table))
    assert ahead.forecast(0, []) is None


def test_values_outlive_a_change_of_the_sheet_and_each_sheet_makes_its_own_of_them() -> None:
    """4 GiB: too little for 6144 MiB (a module more fixes it), enough once the sheet asks for 4096; 1 GiB never is."""
    text, lists = sheet_text()
    lower = read_sheet(text.replace("at_least = 6144", "at_least = 4096"), lists)
    found = [profile_content("tarn", NAMES, view({**GOOD, "memory.mib": mib})) for mib in (8192, 4096, 4096, 1024)]
    values, marks = ProfileValues(), {}
    for turn, sheet in enumerate((tarn(), lower, tarn())):
        table = table_for(sheet, TODAY, values)
        values.add({n: json.dumps(one) for n, one in enumerate(found) if n not in values.place})
        table.add(range(4))
        sorting = BulkAssessment(sheet, "9.1", [], TODAY, table).sort()
        marks[turn] = [sorting.mark(n, "memory-set-up") for n in range(4)]
    assert marks[0] == marks[2] == ["met", "fixable", "fixable", "fixable"]
    assert marks[1] == ["met", "met", "met", "fixable"]
