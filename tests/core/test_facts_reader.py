"""Values read once for many devices are what they are when read alone; how long words stand."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN, FactError, FactReader, Reading, Source, Version
from doorstone.core.readings.settle import spans, stands_until

SOURCES = {"collector": Source("collector", 80, 30), "file": Source("file", 60, 30, lasting_days=90)}
AT = datetime(2027, 1, 10, 8)
D = date.fromisoformat


@pytest.mark.parametrize(
    ("name", "raw", "value"),
    [
        ("memory.mib", 8192, 8192),
        ("memory.mib", "8 GiB", 8192),
        ("memory.mib", 8192.9, 8192),
        ("disk.encrypted", True, True),
        ("disk.encrypted", "yes", True),
        ("tpm.version", "2.0", Version((2, 0))),
        ("tpm.version", 2.0, Version((2, 0))),
        ("cpu.features", ["AVX2", "fma"], frozenset({"avx2", "fma"})),
        ("cpu.features", "avx2;fma", frozenset({"avx2", "fma"})),
    ],
)
def test_a_value_is_read_the_same_the_second_time(name: str, raw: Any, value: Any) -> None:
    reader = FactReader(BUILT_IN)
    assert [reader.parse(name, raw) for _ in range(3)] == [value] * 3


def test_values_that_look_alike_are_not_taken_for_each_other() -> None:
    reader = FactReader(BUILT_IN)
    assert reader.parse("os.release", 1) == "1"
    assert reader.parse("os.release", "1") == "1"
    assert reader.parse("disk.encrypted", 1) is True
    with pytest.raises(FactError, match="is a number, not True"):
        reader.parse("memory.mib", True)
    assert reader.parse("memory.mib", 1) == 1
    with pytest.raises(FactError, match="is a number, not True"):
        reader.parse("memory.mib", True)


@pytest.mark.parametrize("raw", [[["avx2"]], {"a": 1}, [1, 2]])
def test_what_no_fact_holds_is_refused_each_time(raw: Any) -> None:
    reader = FactReader(BUILT_IN)
    for _ in range(2):
        with pytest.raises(FactError):
            reader.parse("cpu.features", raw)


def test_a_fact_that_there_is_not_is_a_key_error() -> None:
    with pytest.raises(KeyError):
        FactReader(BUILT_IN).parse("memory.gib", 8)


@given(st.lists(st.one_of(st.integers(0, 5), st.booleans(), st.sampled_from(["1", "yes", "4 GiB"])), max_size=20))
def test_a_reader_that_forgets_reads_the_same(raws: list[Any]) -> None:
    small, large = FactReader(BUILT_IN, most=2), FactReader(BUILT_IN)

    def read(reader: FactReader, raw: Any) -> Any:
        try:
            return reader.parse("memory.mib", raw)
        except FactError as error:
            return str(error)

    assert [read(small, raw) for raw in raws] == [read(large, raw) for raw in raws]


# --------------------------------------------------------------- how long

NAMES = frozenset({"memory.mib", "disk.free_gib"})


@pytest.mark.parametrize(
    ("source", "facts", "verdicts", "days"),
    [
        ("collector", {"memory.mib": 8192}, {}, set()),  # a lasting fact of a source whose lasting facts do not age
        ("collector", {"disk.free_gib": 40}, {}, {30}),
        ("file", {"memory.mib": 8192, "disk.free_gib": 40}, {}, {30, 90}),
        ("file", {"graphics.model": "Sedge"}, {}, set()),  # nobody looks at it
        ("collector", {"memory.mib": 8192}, {"storage": False}, {30}),
        ("somebody", {"disk.free_gib": 40}, {}, {30}),
    ],
)
def test_after_how_many_days_something_of_a_reading_ages_out(
    source: str, facts: dict[str, Any], verdicts: dict[str, bool], days: set[int]
) -> None:
    assert spans(Reading(source, AT, facts, verdicts), SOURCES, BUILT_IN, NAMES) == days


@pytest.mark.parametrize(
    ("words", "until"),
    [
        ([], None),
        ([("2027-01-10", {30})], "2027-02-09"),
        ([("2027-01-10", {30, 90}), ("2027-01-01", {30})], "2027-01-31"),
        ([("2026-12-01", {30}), ("2027-01-10", {90})], "2027-04-10"),  # the first has aged out already
        ([("2026-12-19", {30})], "2027-01-18"),  # its last day is today
        ([("2026-12-18", {30})], None),
    ],
)
def test_the_last_day_on_which_a_device_is_as_it_was_settled(
    words: list[tuple[str, set[int]]], until: str | None
) -> None:
    found = stands_until([(D(day), frozenset(days)) for day, days in words], D("2027-01-18"))
    assert found == (D(until) if until else None)
