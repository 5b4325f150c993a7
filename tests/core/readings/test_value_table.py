"""Values that are read once for many readings are what they are when read alone."""

from __future__ import annotations

import weakref
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN, FactError
from doorstone.core.readings.value_table import ValueTable

RAW: dict[str, list[Any]] = {
    "memory.mib": [8192, 8192.0, "8 GiB", 1, 0], "disk.encrypted": [True, 1, 0, False, "yes"],
    "cpu.features": [["AVX2", "fma"], ["fma", "avx2"], "avx2;fma", []], "tpm.version": ["2.0", 2.0, 2, None],
    "os.release": [1, "1", 1.0, None],
}  # fmt: skip
readings = st.lists(
    st.fixed_dictionaries({}, optional={name: st.sampled_from(raw) for name, raw in RAW.items()}), max_size=12
)


def alone(facts: dict[str, Any]) -> dict[str, Any]:
    return {name: BUILT_IN[name].parse(raw) for name, raw in facts.items() if raw is not None}


@given(readings)
def test_many_readings_say_what_each_says_alone(many: list[dict[str, Any]]) -> None:
    table = ValueTable(BUILT_IN)
    coded = [table.coded(facts) for facts in many]
    assert [table.facts(*one) for one in coded] == [alone(facts) for facts in many]
    for one, facts in zip(coded, many, strict=True):
        for other, others in zip(coded, many, strict=True):
            assert (one == other) == (alone(facts) == alone(others))  # equal numbers, equal values


ODD: dict[str, list[Any]] = {
    **RAW, "memory.mib": [*RAW["memory.mib"], True, "much", {"a": 1}], "memory.gib": [8, None],
    "cpu.features": [*RAW["cpu.features"], [["avx2"]], [1], {}],
}  # fmt: skip
odd_readings = st.lists(
    st.fixed_dictionaries({}, optional={name: st.sampled_from(raw) for name, raw in ODD.items()}), max_size=12
)


@given(odd_readings)
def test_among_many_those_are_left_out_that_alone_are_refused(many: list[dict[str, Any]]) -> None:
    table = ValueTable(BUILT_IN)
    for one, facts in zip(table.coded_all(many), many, strict=True):
        try:
            read = alone(facts)
        except (FactError, KeyError):
            read = None
        assert (table.facts(*one) if one is not None else None) == read


def test_a_table_that_nobody_uses_any_more_is_gone_at_once() -> None:
    table = ValueTable(BUILT_IN)
    table.coded_all([{"memory.mib": 8192, "os.release": None}, {"memory.mib": "much"}])
    gone = weakref.ref(table)
    del table
    assert gone() is None  # without the collector of cycles: a large import makes many tables


@pytest.mark.parametrize("raw", [[["avx2"]], {"a": 1}, [1, 2]])
def test_what_no_fact_holds_is_refused_each_time(raw: Any) -> None:
    table = ValueTable(BUILT_IN)
    for _ in range(2):
        with pytest.raises(FactError):
            table.coded({"cpu.features": raw})


def test_values_that_look_alike_are_not_taken_for_each_other() -> None:
    table = ValueTable(BUILT_IN)
    table.coded({"memory.mib": 1})
    with pytest.raises(FactError, match="is a number, not True"):
        table.coded({"memory.mib": True})
    with pytest.raises(KeyError):
        table.coded({"memory.gib": 8})
