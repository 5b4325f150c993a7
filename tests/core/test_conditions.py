from __future__ import annotations

from datetime import date
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.conditions import ConditionError, Leaf, Outcome, parse
from doorstone.core.facts import BUILT_IN, FactValue
from tests.build import GOOD, TODAY, settled, tarn, view
from tests.build import reading as said

MET, UNMET, UNREAD = Outcome.MET, Outcome.UNMET, Outcome.UNREAD
LISTS = {"listed.csv": frozenset({"Quern Q5-740"})}


def outcome(data: dict[str, Any], **facts: object) -> Outcome:
    named = {name.replace("__", "."): BUILT_IN[name.replace("__", ".")].parse(v) for name, v in facts.items()}
    return parse(data, BUILT_IN, LISTS).outcome(named, TODAY)


@pytest.mark.parametrize(
    ("data", "facts", "expected"),
    [
        ({"fact": "memory.mib", "at_least": 6144}, {"memory__mib": 6144}, MET),
        ({"fact": "memory.mib", "at_least": 6144}, {"memory__mib": 6143}, UNMET),
        ({"fact": "memory.mib", "at_least": "6 GiB"}, {"memory__mib": 6144}, MET),
        # 8,192 less 3 % is 7,946.24
        ({"fact": "memory.mib", "at_least": 8192, "tolerance": "3%"}, {"memory__mib": 7947}, MET),
        ({"fact": "memory.mib", "at_least": 8192, "tolerance": "3%"}, {"memory__mib": 7946}, UNMET),
        ({"fact": "os.pending_updates", "at_most": 0}, {"os__pending_updates": 1}, UNMET),
        ({"fact": "tpm.version", "at_least_version": "2.0"}, {"tpm__version": "1.38"}, UNMET),
        ({"fact": "tpm.version", "at_least_version": "2.0"}, {"tpm__version": "2"}, MET),
        ({"fact": "tpm.state", "is": "on"}, {"tpm__state": "off"}, UNMET),
        ({"fact": "tpm.state", "is_not": "absent"}, {"tpm__state": "off"}, MET),
        ({"fact": "disk.table", "one_of": ["gpt"]}, {"disk__table": "mbr"}, UNMET),
        ({"fact": "cpu.features", "has_all": ["avx2", "fma"]}, {"cpu__features": ["avx2"]}, UNMET),
        ({"fact": "cpu.features", "has_any": ["avx2", "fma"]}, {"cpu__features": ["avx2"]}, MET),
        ({"fact": "cpu.model", "listed_in": "listed.csv"}, {"cpu__model": "Quern Q5-740"}, MET),
        ({"fact": "cpu.model", "listed_in": "listed.csv"}, {"cpu__model": "Quern Q3-410"}, UNMET),
        ({"fact": "os.base_language", "same_as": "media.language"}, {"os__base_language": "en"}, UNREAD),
        (
            {"fact": "os.base_language", "same_as": "media.language"},
            {"os__base_language": "en", "media__language": "cy"},
            UNMET,
        ),
        ({"fact": "care.last_backup", "within_days": 7}, {"care__last_backup": "2027-01-11"}, MET),
        ({"fact": "care.last_backup", "within_days": 7}, {"care__last_backup": "2027-01-10"}, UNMET),
        ({"fact": "memory.mib", "at_least": 6144}, {}, UNREAD),
    ],
)
def test_leaves(data: dict[str, Any], facts: dict[str, object], expected: Outcome) -> None:
    assert outcome(data, **facts) is expected


def leaf(which: Outcome) -> dict[str, Any]:
    """A condition whose outcome on the facts below is `which`."""
    fact = {"memory.mib": {"fact": "memory.mib", "at_least": 1}, "cpu.cores": {"fact": "cpu.cores", "at_least": 1}}
    if which is UNREAD:
        return fact["cpu.cores"]
    return fact["memory.mib"] if which is MET else {"not": fact["memory.mib"]}


FACTS: dict[str, FactValue] = {"memory.mib": 1024}
outcomes = st.sampled_from(list(Outcome))


def combined(word: str, parts: list[Outcome]) -> Outcome:
    return parse({word: [leaf(part) for part in parts]}, BUILT_IN).outcome(FACTS, TODAY)


@given(st.lists(outcomes, min_size=1, max_size=6))
def test_all_and_any_follow_kleene(parts: list[Outcome]) -> None:
    expect_all = UNMET if UNMET in parts else UNREAD if UNREAD in parts else MET
    expect_any = MET if MET in parts else UNREAD if UNREAD in parts else UNMET
    assert combined("all", parts) is expect_all
    assert combined("any", parts) is expect_any


@given(st.lists(outcomes, min_size=1, max_size=5))
def test_not_all_is_any_not(parts: list[Outcome]) -> None:
    not_all = parse({"not": {"all": [leaf(p) for p in parts]}}, BUILT_IN)
    any_not = parse({"any": [{"not": leaf(p)} for p in parts]}, BUILT_IN)
    assert not_all.outcome(FACTS, TODAY) is any_not.outcome(FACTS, TODAY)


@given(st.lists(outcomes, min_size=1, max_size=5))
def test_adding_a_met_leaf_never_makes_an_all_worse(parts: list[Outcome]) -> None:
    assert combined("all", [*parts, MET]) is combined("all", parts)


@given(
    st.recursive(st.sampled_from([leaf(o) for o in Outcome]), lambda c: st.fixed_dictionaries({"not": c}), max_leaves=4)
)
def test_data_round_trips(data: dict[str, Any]) -> None:
    condition = parse(data, BUILT_IN)
    assert parse(condition.data(), BUILT_IN) == condition


@pytest.mark.parametrize("requirement", tarn().requirements, ids=lambda r: r.id)
def test_every_condition_of_the_demo_sheet_round_trips(requirement: Any) -> None:
    condition = requirement.condition
    assert parse(condition.data(), tarn().specs, tarn().lists) == condition


@pytest.mark.parametrize(
    ("data", "message"),
    [
        ({"fact": "memory.mb", "at_least": 1}, "Unknown fact 'memory.mb'"),
        ({"fact": "memory.mib"}, "exactly one operator"),
        ({"fact": "memory.mib", "at_least": 1, "at_most": 2}, "exactly one operator"),
        ({"fact": "memory.mib", "above": 1}, "Unknown operator 'above'"),
        ({"fact": "tpm.state", "at_least": 1}, "'at_least' does not fit tpm.state, which is text"),
        ({"fact": "memory.mib", "at_least": "2 GHz"}, "'GHz' is not a unit"),
        ({"fact": "tpm.state", "is": "broken"}, "cannot be 'broken'"),
        ({"fact": "cpu.model", "listed_in": "gone.csv"}, "'gone.csv' is missing"),
        ({"fact": "os.base_language", "same_as": "memory.mib"}, "no fact of type text"),
        ({"fact": "care.last_backup", "within_days": -1}, "not a number of days"),
        ({"fact": "memory.mib", "at_least": 1, "tolerance": "80%"}, "does not fit"),
        ({"fact": "tpm.state", "is": "on", "tolerance": "3%"}, "does not fit"),
        ({"fact": "disk.table", "one_of": []}, "needs a list"),
        ({"all": []}, "needs a list of conditions"),
        ({"all": [{"fact": "memory.mib", "at_least": 1}], "fact": "memory.mib"}, "cannot stand beside"),
        ({}, "needs a fact"),
    ],
)
def test_what_cannot_be_meant_is_refused(data: dict[str, Any], message: str) -> None:
    with pytest.raises(ConditionError, match=message) as error:
        parse(data, BUILT_IN, LISTS)
    assert error.value.hint


def test_a_refusal_leads_to_its_place() -> None:
    with pytest.raises(ConditionError) as error:
        parse({"all": [{"fact": "memory.mib", "at_least": 1}, {"not": {"fact": "memroy.mib", "is": 1}}]}, BUILT_IN)
    assert error.value.path == ("all", 1, "not", "fact")
    assert "Did you mean memory.mib?" in error.value.hint


def test_depth_is_limited() -> None:
    data: dict[str, Any] = {"fact": "memory.mib", "at_least": 1}
    for _ in range(25):
        data = {"not": data}
    with pytest.raises(ConditionError, match="nested more than 20 deep"):
        parse(data, BUILT_IN)


# -------------------------------------------------------------- explanations


def only_leaf(data: dict[str, Any]) -> Leaf:
    condition = parse(data, BUILT_IN, LISTS)
    assert isinstance(condition, Leaf)
    return condition


def test_an_explanation_names_the_shortfall_the_source_and_the_level() -> None:
    report = only_leaf({"fact": "memory.mib", "at_least": 6144}).explain(view({**GOOD, "memory.mib": 4096}))
    assert report.required == "at least 6,144 MiB"
    assert report.measured == "4,096 MiB"
    assert report.shortfall == "2,048 MiB short"
    assert report.source == "collector"
    assert report.level == pytest.approx(0.6667, abs=1e-4)


def test_an_explanation_says_that_the_tolerance_made_it_met() -> None:
    report = only_leaf({"fact": "memory.mib", "at_least": 8192, "tolerance": "5%"}).explain(
        view({**GOOD, "memory.mib": 7900})
    )
    assert report.outcome is MET
    assert report.note == "below 8,192 MiB but within the tolerance of 5%"


def test_an_explanation_names_what_a_set_lacks() -> None:
    report = only_leaf({"fact": "cpu.features", "has_all": ["avx2", "fma", "bmi2"]}).explain(
        view({**GOOD, "cpu.features": ["avx2"]})
    )
    assert report.shortfall == "lacks bmi2, fma"


def test_an_unread_and_a_too_old_fact_are_told_apart() -> None:
    free = only_leaf({"fact": "disk.free_gib", "at_least": 20})
    old = settled(said("collector", "2026-11-01T08:00", disk__free_gib=50))
    assert free.explain(old).note == "only a reading of 2026-11-01 (collector), too old"
    assert free.explain(settled()).note == "never read"
    assert free.explain(settled()).outcome is UNREAD


def test_conditions_read_as_sentences() -> None:
    condition = parse(
        {"any": [{"fact": "disk.encrypted", "is": False}, {"fact": "care.recovery_key_saved", "is": True}]}, BUILT_IN
    )
    assert str(condition) == "disk.encrypted no or care.recovery_key_saved yes"
    assert str(parse({"not": {"fact": "memory.mib", "at_most": 10}}, BUILT_IN)) == "not (memory.mib at most 10 MiB)"
    assert condition.facts() == {"disk.encrypted", "care.recovery_key_saved"}
    assert date(2027, 1, 18) == TODAY
