from __future__ import annotations

import json
from datetime import datetime
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN, FactSpec
from doorstone.formats.readings import Parsed, read_text
from tests.build import tarn

SPECS: dict[str, FactSpec] = dict(tarn().specs)
GOOD = '{"device": "nbt-001", "source": "assessor", "taken_at": "2027-01-11T08:00:00", "facts": {"memory.mib": 8192}}'


def line(**changes: Any) -> str:
    return json.dumps({**json.loads(GOOD), **changes})


def only(parsed: Parsed) -> tuple[int, str, str]:
    assert parsed.records == ()
    assert len(parsed.problems) == 1
    problem = parsed.problems[0]
    assert problem.hint
    return problem.line, problem.place, problem.message


def test_a_line_is_a_reading() -> None:
    parsed = read_text(
        line(name="bench 4", site="Herbarium", critical=True, verdicts={"security-chip": "fail"}), "ndjson", SPECS
    )
    record = parsed.records[0]
    assert (record.device, record.reading.source) == ("nbt-001", "assessor")
    assert record.reading.taken_at == datetime(2027, 1, 11, 8)
    assert record.reading.facts == {"memory.mib": 8192}
    assert record.reading.verdicts == {"security-chip": False}
    assert record.about == {"name": "bench 4", "site": "Herbarium", "critical": "True"}


BAD = [
    (GOOD[:70], "column 71", "It is cut off"),
    ("{nonsense}", "column 2", "Not JSON"),
    ("[1]", "line", "Not an object"),
    (line(device="a b"), "device", "'a b' is not a device id"),
    (line(device=None), "device", "It is missing"),
    (line(taken_at="yesterday"), "taken_at", "'yesterday' is not a time"),
    (line(facts={"memory.mb": 1}), "memory.mb", "Unknown fact 'memory.mb'"),
    (line(facts={"memory.mib": "8 Gbit"}), "memory.mib", "'Gbit' is not a unit of memory.mib"),
    (line(facts={}), "facts", "The reading is empty"),
    (line(facts=[]), "facts", "facts, verdicts and unread are objects"),
    (line(verdicts={"security-chip": "perhaps"}), "verdict:security-chip", "'perhaps' is no verdict"),
    (line(colour="green"), "colour", "Unknown key 'colour'"),
    (GOOD.replace("8192", "NaN"), "line", "NaN is not a number"),
    (GOOD.replace('"source"', '"device"'), "line", "a key stands twice"),
    ("[" * 5000, "line", "nested too deep"),
    (line(name="x" * 100_001), "line", "longer than 100,000 characters"),
    ("", "file", "There is no reading in it"),
]


@pytest.mark.parametrize(("text", "place", "message"), BAD)
def test_a_bad_line_is_named_with_its_place(text: str, place: str, message: str) -> None:
    number, where, what = only(read_text(text, "ndjson", SPECS))
    assert (number, where) == (1, place)
    assert message in what


@pytest.mark.parametrize(("text", "place", "message"), [bad for bad in BAD if bad[0]])
def test_a_bad_line_among_many_good_ones_is_named_as_it_is_alone(text: str, place: str, message: str) -> None:
    good = [line(device=f"nbt-{number:04}", site="Herbarium") for number in range(1_300)]  # more than is read at once
    first = read_text("\n".join(good), "ndjson", SPECS).records
    parsed = read_text("\n".join([*good[:1_200], text, *good[1_200:]]), "ndjson", SPECS)
    assert [(one.line, one.place) for one in parsed.problems] == [(1_201, place)]
    assert message in parsed.problems[0].message
    assert [(one.device, one.about, one.content.facts) for one in parsed.records] == [
        (one.device, one.about, one.content.facts) for one in first
    ]


@pytest.mark.parametrize(
    ("given", "kept"),
    [
        ("2027-01-18T09:30:00", "2027-01-18T09:30:00"),
        ("2027-01-18 09:30:00", "2027-01-18T09:30:00"),
        ("2027-01-18T09:30+01", "2027-01-18T08:30:00"),
        ("2027-W03-1T09:30:00", "2027-01-18T09:30:00"),
        ("2027-01-18T093000.0", "2027-01-18T09:30:00"),
        ("2027-01-18T09:30:00.75", "2027-01-18T09:30:00"),
        ("2027-01-18", "2027-01-18T00:00:00"),
    ],
)
def test_a_time_is_kept_in_one_form(given: str, kept: str) -> None:
    assert [one.taken_at for one in read_text(line(taken_at=given), "ndjson", SPECS).records] == [kept]


def test_lines_are_counted_past_blank_ones_and_good_ones_are_kept_apart() -> None:
    parsed = read_text(f"{GOOD}\n\n{GOOD[:50]}\n", "ndjson", SPECS)
    assert len(parsed.records) == 1
    assert parsed.problems[0].line == 3


def test_a_repeated_device_names_both_lines() -> None:
    parsed = read_text(f"{GOOD}\n{GOOD}", "ndjson", SPECS)
    assert parsed.problems[0].line == 2
    assert parsed.problems[0].message == "nbt-001 from assessor at 2027-01-11 08:00:00 stands in line 1 already"


HEADER = "device,source,taken_at,site,memory.mib [GiB],tpm.state,verdict:security-chip"


def table(*rows: str, header: str = HEADER) -> Parsed:
    return read_text("\n".join([header, *rows]) + "\n", "csv", SPECS)


def test_a_csv_row_is_a_reading_and_a_column_may_carry_a_unit() -> None:
    parsed = table("nbt-001,file,2027-01-11,Herbarium,8,ON,pass", "nbt-002,file,2027-01-11,,8192 MiB,,")
    assert parsed.problems == ()
    first, second = parsed.records
    assert first.reading.facts == {"memory.mib": 8192, "tpm.state": "on"}
    assert first.reading.verdicts == {"security-chip": True}
    assert second.reading.facts == {"memory.mib": 8192}


def test_a_csv_with_a_wrong_unit_names_the_line_and_the_column() -> None:
    number, place, message = only(table("nbt-001,file,2027-01-11,,8 Gbit,on,"))
    assert (number, place) == (2, "memory.mib")
    assert "'Gbit' is not a unit" in message


def test_a_csv_with_a_missing_column_is_refused_as_a_whole() -> None:
    assert only(table("nbt-001,2027-01-11,8", header="device,taken_at,memory.mib")) == (
        1,
        "header",
        "The column 'source' is missing",
    )


def test_a_csv_with_a_repeated_device_is_refused() -> None:
    parsed = table("nbt-001,file,2027-01-11,,8,on,", "nbt-001,file,2027-01-11,,16,on,")
    assert (parsed.problems[0].line, parsed.problems[0].place) == (3, "device")


@pytest.mark.parametrize(
    ("header", "place"),
    [(f"{HEADER},colour", "colour"), (f"{HEADER},tpm.state", "tpm.state"), (f"{HEADER},memory.mb", "memory.mb")],
)
def test_a_csv_column_that_is_unknown_or_stands_twice_is_refused(header: str, place: str) -> None:
    assert only(table("x", header=header))[:2] == (1, place)


def test_a_csv_row_of_another_width_is_refused() -> None:
    assert only(table("nbt-001,file,2027-01-11"))[:2] == (2, "row")


@settings(max_examples=150, deadline=None)
@given(
    st.one_of(st.text(max_size=300), st.lists(st.sampled_from([*GOOD, "\n", "\x00", "é"]), max_size=120).map("".join))
)
def test_any_text_is_read_or_named_but_never_crashes(text: str) -> None:
    table = f"{HEADER}\n{text}"
    for words, form in ((text, "ndjson"), (text, "json"), (table, "csv"), (text, "csv"), (text, "tsv")):
        parsed = read_text(words, form, SPECS)
        assert parsed.records or parsed.problems
        assert all(problem.line >= 1 and problem.hint for problem in parsed.problems)


values = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(), st.floats(), st.text(max_size=10)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=5), inner, max_size=3)),
    max_leaves=6,
)


@settings(max_examples=150, deadline=None)
@given(st.dictionaries(st.sampled_from([*BUILT_IN]), values, max_size=6))
def test_any_json_as_facts_is_read_or_named(facts: dict[str, Any]) -> None:
    parsed = read_text(json.dumps({**json.loads(GOOD), "facts": facts}), "ndjson", SPECS)
    assert len(parsed.records) + len(parsed.problems) == 1
