"""Each source's newest word, whatever the order in which readings arrive."""

from __future__ import annotations

from itertools import permutations
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.readings.source_content import ContentByTime, SourceContent, current_texts, drop_older, merge

Told = tuple[str, dict[str, Any], dict[str, bool], list[str] | None]


def after(*readings: Told) -> dict[str, dict[str, Any]]:
    words: ContentByTime = {}
    for at, facts, verdicts, texts in readings:
        words = merge(words, at, SourceContent(dict(facts), dict(verdicts), texts))
    return data_of(words)


def data_of(words: ContentByTime) -> dict[str, dict[str, Any]]:
    """The words without what is empty; texts only where there was a word on them."""
    told = {}
    for at, said in sorted(words.items()):
        parts = {"facts": said.facts, "verdicts": said.verdicts, "texts": said.texts}
        told[at] = {name: part for name, part in parts.items() if part or (name == "texts" and part is not None)}
    return told


def parse_words(data: dict[str, dict[str, Any]]) -> ContentByTime:
    return {
        at: SourceContent(said.get("facts", {}), said.get("verdicts", {}), said.get("texts"))
        for at, said in data.items()
    }


EARLY: Told = ("2027-01-10T08:00:00", {"memory.mib": 4096, "tpm.state": "off"}, {"storage": False}, ["No chip"])
LATE: Told = ("2027-01-12T08:00:00", {"memory.mib": 8192}, {}, [])
LAST: Told = ("2027-01-13T08:00:00", {"disk.free_gib": 40}, {"storage": True}, None)


def test_a_later_word_replaces_an_earlier_one_and_leaves_the_others() -> None:
    assert after(EARLY, LATE) == {
        "2027-01-10T08:00:00": {"facts": {"tpm.state": "off"}, "verdicts": {"storage": False}},
        "2027-01-12T08:00:00": {"facts": {"memory.mib": 8192}, "texts": []},
    }


def test_the_order_of_arrival_does_not_matter() -> None:
    assert len({str(after(*order)) for order in permutations([EARLY, LATE, LAST])}) == 1


def test_a_report_without_failures_ends_those_told_before_and_one_that_says_nothing_does_not() -> None:
    words = parse_words(after(EARLY))
    assert current_texts(words) == [("No chip", "2027-01-10T08:00:00")]
    assert current_texts(parse_words(after(EARLY, LAST))) == [("No chip", "2027-01-10T08:00:00")]
    assert current_texts(parse_words(after(EARLY, LATE))) == []


def test_a_word_from_before_a_change_can_be_forgotten() -> None:
    words = drop_older(parse_words(after(EARLY, LATE)), "tpm.state", "2027-01-11")
    assert [said.facts for said in words.values()] == [{}, {"memory.mib": 8192}]


moments = st.integers(1, 9).map(lambda day: f"2027-01-0{day}T08:00:00")
facts = st.dictionaries(st.sampled_from(["memory.mib", "tpm.state", "disk.free_gib"]), st.integers(0, 3), max_size=3)
verdicts = st.dictionaries(st.sampled_from(["storage", "security-chip"]), st.booleans(), max_size=2)
texts = st.one_of(st.none(), st.lists(st.sampled_from(["a", "b"]), max_size=2, unique=True))


@pytest.mark.long
@settings(max_examples=200, deadline=None)
@given(st.lists(st.tuples(moments, facts, verdicts, texts), max_size=6, unique_by=lambda r: r[0]), st.randoms())
def test_any_order_of_readings_gives_the_same_words(readings: list[Told], random: Any) -> None:
    shuffled = list(readings)
    random.shuffle(shuffled)
    assert after(*readings) == after(*shuffled)
    for name in ("memory.mib", "tpm.state", "disk.free_gib"):
        told = [(at, said["facts"][name]) for at, said in after(*readings).items() if name in said.get("facts", {})]
        newest = max(((r[0], r[1][name]) for r in readings if name in r[1]), default=None)
        assert told == ([newest] if newest else [])
