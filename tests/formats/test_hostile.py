"""Hostile files: bytes, encodings, huge lines, deep JSON, numbers beyond reason, cells that look like formulas."""

from __future__ import annotations

import csv
import io
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN
from doorstone.formats.readings import FORMS, ImportProblem, ReadingRecord, read_stream, read_text
from doorstone.formats.safe_csv import csv_text, safe_cell
from doorstone.formats.text_lines import MOST_LINE

LINE = '{"device": "d1", "source": "file", "taken_at": "2027-01-11", "facts": {"memory.mib": %s}}'
HEADER = "device,source,taken_at,memory.mib,machine.model\n"


def read(data: bytes, form: str) -> list[ReadingRecord | ImportProblem]:
    return list(read_stream(io.BytesIO(data), form, BUILT_IN))


def only(data: bytes, form: str) -> ImportProblem:
    found = [one for one in read(data, form) if isinstance(one, ImportProblem)]
    assert len(found) == 1, found
    return found[0]


@settings(max_examples=300, deadline=None)
@given(st.binary(max_size=400), st.sampled_from(FORMS))
def test_any_bytes_are_read_or_named(data: bytes, form: str) -> None:
    for given_ in (data, HEADER.encode() + data, b"\xff\xfe" + data, (LINE % 1).encode() + b"\n" + data):
        found = read(given_, form)
        assert found
        assert all(one.line >= 1 and one.message and one.hint for one in found if isinstance(one, ImportProblem))


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
@pytest.mark.parametrize("form", ["csv", "ndjson", "json"])
def test_the_encodings_that_programs_write_are_read(encoding: str, form: str) -> None:
    row = "d1,file,2027-01-11,8192,Fällow\n"
    text = HEADER + row if form == "csv" else LINE % 8192
    text = f"[{text}]" if form == "json" else text
    found = read(text.encode(encoding), form)
    assert [type(one) for one in found] == [ReadingRecord]


def test_a_line_in_another_encoding_is_named_and_its_neighbours_are_read() -> None:
    rows = [b"d1,file,2027-01-11,1,A", "d2,file,2027-01-11,2,Fällow".encode("latin-1"), b"d3,file,2027-01-11,3,C"]
    found = read(HEADER.encode() + b"\n".join(rows), "csv")
    assert [one.device if isinstance(one, ReadingRecord) else (one.line, one.message) for one in found] == [
        "d1",
        (3, "A character here is not UTF-8"),
        "d3",
    ]


def test_a_huge_line_is_named_without_being_held() -> None:
    data = (LINE % 1).encode() + b"\n" + b"x" * (3 * MOST_LINE) + b"\n" + (LINE % 2).replace("d1", "d2").encode()
    found = read(data, "ndjson")
    assert [isinstance(one, ReadingRecord) for one in found] == [True, False, True]
    assert isinstance(found[1], ImportProblem)
    assert (found[1].line, "longer than" in found[1].message) == (2, True)


@pytest.mark.parametrize("number", ["1e308", "-1e308", "NaN", "Infinity", "1e999", '"1e308"', '"٣"', "true", "[1]"])
def test_numbers_beyond_reason_are_named(number: str) -> None:
    assert only((LINE % number).encode(), "ndjson").line == 1


@pytest.mark.parametrize("form", ["ndjson", "json"])
@pytest.mark.parametrize(
    ("part", "place", "bad"),
    [
        ('"site": "no\\ud800rth"', "site", "U+D800"),
        ('"facts": {"machine.model": "Gate\\u0000"}', "machine.model", "U+0000"),
        ('"facts": {"cpu.features": ["avx2", "f\\udfffma"]}', "cpu.features", "U+DFFF"),
        ('"verdicts": {"sto\\u0007rage": "pass"}', "verdicts", "U+0007"),
        ('"texts": ["No chip\\u001b[2J"]', "texts", "U+001B"),
        ('"unread": {"tpm.state": "\\udc00"}', "tpm.state", "U+DC00"),
    ],
)
def test_halves_of_characters_and_control_characters_are_named(form: str, part: str, place: str, bad: str) -> None:
    """Such a text can be neither stored nor shown: what is not refused here would fail in the middle of an import."""
    line = f'{{"device": "d1", "source": "file", "taken_at": "2027-01-11T09:00:00", {part}}}'
    problem = only((f"[{line}]" if form == "json" else line).encode(), form)
    assert (problem.place, problem.message) == (place, f"{bad} is no character of a text")


def test_a_whole_character_written_as_two_escapes_is_read() -> None:
    line = LINE % 1
    found = read_text(line.replace('"facts"', '"site": "\\ud83c\\udf3f", "facts"'), "ndjson", BUILT_IN)
    assert found.records[0].about == {"site": "🌿"}


@pytest.mark.parametrize(
    ("data", "form", "message"),
    [
        ("[" * 100_000, "json", "nested too deep"),
        ('{"a":' * 5_000, "ndjson", "nested too deep"),
        ('{"device": "d1", "device": "d2"}', "ndjson", "a key stands twice"),
        ('[{"facts": {"memory.mib": 1, "memory.mib": 2}}]', "json", "a key stands twice"),
        ("{}", "json", "Not a list of readings"),
        ("[1, 2", "json", "It is cut off"),
        ("device,source\n", "csv", "The column 'taken_at' is missing"),
        ('device,source,taken_at\n"d1,file', "csv", "Not a table"),
    ],
)
def test_what_makes_a_file_unusable_is_said(data: str, form: str, message: str) -> None:
    assert any(message in p.message for p in read(data.encode(), form) if isinstance(p, ImportProblem))


def test_items_of_json_are_counted() -> None:
    items = [json.loads(LINE % 1), {"device": "d2"}, json.loads((LINE % 3).replace("d1", "d3"))]
    found = read(json.dumps({"readings": items}).encode(), "json")
    assert [one.line for one in found] == [1, 2, 3]
    assert str(found[1]).startswith("item 2, source: ")


def test_a_time_with_a_zone_becomes_that_of_utc() -> None:
    found = read_text((LINE % 1).replace("2027-01-11", "2027-01-11T09:00:00+02:00"), "ndjson", BUILT_IN)
    assert str(found.records[0].reading.taken_at) == "2027-01-11 07:00:00"


# ------------------------------------------------------------------- exports

FORMULAS = ["=1+1", "+1", "-1", "@SUM(A1)", "\t=1", "\r=1", " =1", "＝1", "\n=1"]


@pytest.mark.parametrize("cell", FORMULAS)
def test_a_cell_that_would_be_a_formula_is_made_text(cell: str) -> None:
    assert safe_cell(cell) == f"'{cell}".replace("\r", " ")


@pytest.mark.parametrize(
    ("value", "cell"), [(-3, "-3"), (None, ""), (True, "yes"), ("a=b", "a=b"), (["a", "b"], "a, b")]
)
def test_what_is_no_formula_stays(value: object, cell: str) -> None:
    assert safe_cell(value) == cell


@settings(max_examples=200, deadline=None)
@given(st.lists(st.text(max_size=20), min_size=1, max_size=4))
def test_any_row_comes_back_whole_and_safe(row: list[str]) -> None:
    back = list(csv.reader(io.StringIO(csv_text(["a"] * len(row), [row]), newline="")))[1]
    for cell, read_back in zip(row, back, strict=True):
        plain = cell.replace("\r", " ")
        assert read_back in (plain, f"'{plain}")
        assert not read_back.lstrip(" ").startswith(("=", "+", "-", "@"))
