"""The quick way through NDJSON gives what the thorough way gives, on lines good and bad."""

from __future__ import annotations

import io
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN
from doorstone.formats.mapping import CellError
from doorstone.formats.quick_lines import QuickLines
from doorstone.formats.readings import read_stream
from doorstone.formats.records import Content, ImportProblem, ReadingRecord

LINE = '{"device": "d1", "source": "file", "taken_at": "2027-01-18T09:00:00", "facts": {"memory.mib": 4096}}'


def read(*lines: str) -> list[Any]:
    """What comes of each line: the record's parts, or the problem's words."""
    found = read_stream(io.BytesIO("\n".join(lines).encode()), "ndjson", BUILT_IN)
    return [
        (one.device, one.source, one.taken_at, one.content, dict(one.about))
        if isinstance(one, ReadingRecord)
        else (one.place, one.message)
        for one in found
    ]


def last_after(first: str, line: str) -> Any:
    """What comes of a line that is read when the content of another is remembered already."""
    found = read(first, line)
    return found[1] if len(found) > 1 else found[0]


parts = st.fixed_dictionaries(
    {
        "device": st.sampled_from(["d1", "d2", "", "d 3", "x" * 65, 7]),
        "source": st.sampled_from(["file", "collector", "a b"]),
        "taken_at": st.sampled_from(
            [
                "2027-01-18T09:00:00",
                "2027-01-18 09:00:00",
                "2027-01-18T09:00:00Z",
                "2027-02-30T09:00:00",
                "2027-W03-1T09:00:00",
                "2027-01-18T093000.12",
                "2027-01-18",
                "",
            ]
        ),
        "facts": st.sampled_from([{"memory.mib": 4096}, {"memory.mib": "8 GiB"}, {"memory.mib": "much"}, {}, None, []]),
    },
    optional={
        "site": st.sampled_from(["north", "ünder", 'a "b"', None, 3, "y" * 300]),
        "role": st.just("desk"),
        "critical": st.sampled_from(["yes", True, "no"]),
        "verdicts": st.sampled_from([{"storage": "pass"}, {}, {"storage": "perhaps"}]),
        "texts": st.sampled_from([["No chip"], [], "No chip"]),
        "unread": st.sampled_from([{"tpm.state": "no right"}, {}]),
        "colour": st.just("green"),
    },
)


@given(parts, parts)
def test_a_line_means_the_same_whatever_was_read_before(one: dict[str, Any], other: dict[str, Any]) -> None:
    first, second = json.dumps(one), json.dumps(other)
    alone = read(second)[0]
    after = last_after(first, second)
    if isinstance(after[1], str) and "stands in line 1 already" in after[1]:
        assert after[1].startswith(f"{other['device']} from {other['source']}")
    else:
        assert after == alone


@pytest.mark.parametrize(
    ("line", "place"),
    [
        (LINE.replace('"facts"', '"device": "d2", "facts"'), "a key stands twice"),
        (LINE.replace("4096", '4096, "memory.mib": 1'), "a key stands twice"),
        (LINE.replace("4096", "NaN"), "NaN is not a number"),
        (LINE + "}", "Not JSON: Extra data"),
        (LINE[:-1], "It is cut off"),
        (LINE.replace("d1", "d\\u0031"), ""),
    ],
)
def test_what_a_quick_reader_would_overlook_is_found(line: str, place: str) -> None:
    known = LINE.replace("d1", "d0")
    found = last_after(known, line)
    assert found == (read(line)[0])
    assert place in str(found)
    assert bool(place) == (len(found) == 2)


def test_a_content_that_is_known_is_not_read_again() -> None:
    asked = []

    def thorough(number: int, line: bytes) -> ReadingRecord:
        asked.append(number)
        return ReadingRecord(number, "d0", "file", "2027-01-18T09:00:00", Content({"memory.mib": 4096}), {})

    quick = QuickLines(thorough)
    made = [quick.read(n, LINE.replace("d1", f"d{n}").encode()) for n in range(1, 5)]
    assert asked == [1]
    assert [record.device for record in made[1:]] == ["d2", "d3", "d4"]
    assert made[1].content is made[3].content


def test_words_inside_a_part_are_not_taken_for_words_of_the_line() -> None:
    told = '{"a": "pass", "site": "pass", "verdicts": "pass"}'
    line = LINE.replace("}}", f'}}, "site": "north", "verdicts": {told}}}')
    assert read(line, line.replace("d1", "d2").replace("north", "south"))[1][4] == {"site": "south"}


def test_lines_that_are_each_put_otherwise_are_read_all_the_same() -> None:
    close = LINE.replace(", ", ",").replace(": ", ":")
    assert read(LINE, close.replace("d1", "d2"), LINE.replace("d1", "d3"))[1][:2] == ("d2", "file")
    lines = [LINE.replace("d1", f"d{n}").replace('"facts": ', '"facts": ' + " " * n) for n in range(200)]
    assert [one[0] for one in read(*lines)] == [f"d{n}" for n in range(200)]


def test_lines_that_are_too_long_or_no_text_are_told_of_and_the_rest_is_read() -> None:
    long = LINE[:-1] + " " * 500_000 + "}"
    raw = b"\n".join([LINE.encode(), long.encode(), b"\xff\xfe\xfd", LINE.replace("d1", "d9").encode()])
    found = list(read_stream(io.BytesIO(raw), "ndjson", BUILT_IN))
    assert [one.line for one in found] == [1, 2, 3, 4]
    problems = [one for one in found if isinstance(one, ImportProblem)]
    assert [p.message for p in problems] == ["longer than 100,000 characters", "A character here is not UTF-8"]


def test_what_goes_wrong_in_a_thorough_look_is_raised() -> None:
    def refuse(number: int, line: bytes) -> ReadingRecord:
        raise CellError("line", "no", "yes")

    with pytest.raises(CellError):
        QuickLines(refuse).read(1, b"{}")
