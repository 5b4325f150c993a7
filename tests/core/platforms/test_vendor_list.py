"""A vendor's list: what the rules make equal, what is only near, and what went, came or was renamed."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from doorstone.core.errors import InvalidInputError, MoveRefusedError
from doorstone.core.platforms.tasks import TaskKind, Touched, check_task_change, tasks_of
from doorstone.core.platforms.vendor_list import MatchRules, NameMatch, list_text, match_list, plain_name
from doorstone.formats.mapping import CellError
from doorstone.formats.raw_list import read_names

RULES = MatchRules(suffixes=("Processor", "CPU"), prefixes=("New",))
HELD = ("Marl M4 210", "Marl M6 330", "Quern Q5-740", "Quern Q7-920")


@pytest.mark.parametrize(
    ("raw", "name", "match"),
    [
        ("Quern Q5-740", "Quern Q5-740", NameMatch.SAME),
        ("QUERN(R) Q5-740 Processor", "Quern Q5-740", NameMatch.BY_RULE),
        ("Quern®  Q5 - 740", "Quern Q5-740", NameMatch.BY_RULE),
        ("New Quern™ Q5-740 CPU", "Quern Q5-740", NameMatch.BY_RULE),
        ("marl m4 210", "Marl M4 210", NameMatch.BY_RULE),
        ("Quern Q5\u2013740", "Quern Q5-740", NameMatch.BY_RULE),  # a dash as word processors write it
        ("Ｑｕｅｒｎ\u00a0Q5\u2011740\u200b", "Quern Q5-740", NameMatch.BY_RULE),
        ("Quern Q5-740 @ 2.4 GHz", "Quern Q5-740 @ 2.4 GHz", NameMatch.NEAR),  # another number, yet after the name
        ("Desktop Quern Q5-740 Series", "Desktop Quern Q5-740 Series", NameMatch.NEAR),
        ("M6 330", "M6 330", NameMatch.NEAR),  # a part of one that is known
        ("Marl M6", "Marl M6", NameMatch.NEAR),
        ("Quern", "Quern", NameMatch.NEW),
        ("Marl M6 330X", "Marl M6 330X", NameMatch.NEAR),
        ("Quern Q5-745", "Quern Q5-745", NameMatch.NEW),  # another number is another model
        ("Fenn F3 12", "Fenn F3 12", NameMatch.NEW),
    ],
)
def test_a_name_and_what_stands_for_it(raw: str, name: str, match: NameMatch) -> None:
    (found,) = match_list([raw], HELD, (), {}, RULES).names
    assert (found.name, found.match) == (name, match)


def test_every_spelling_that_devices_report_is_listed() -> None:
    found = match_list(["Quern(R) Q5-740"], ["Quern Q5-740"], ["QUERN Q5-740", "Quern Q5 740"], {}, RULES)
    assert [one.name for one in found.names] == ["QUERN Q5-740"]
    assert (found.added, found.dropped, found.renamed) == (
        ("QUERN Q5-740",), ("Quern Q5-740",), (("Quern Q5-740", "QUERN Q5-740"),),
    )  # fmt: skip


def test_what_was_said_once_holds_for_the_next_list() -> None:
    said = {"Marl M6 330X": "Marl M6 330", "Marl M4 210 B": "Marl M4 210 B"}
    found = match_list(["Marl M6 330X", "Marl M4 210 B"], HELD, (), said, RULES)
    assert [(one.name, one.match) for one in found.names] == [
        ("Marl M6 330", NameMatch.REMEMBERED), ("Marl M4 210 B", NameMatch.REMEMBERED),
    ]  # fmt: skip
    assert found.undecided == ()
    assert found.added == ("Marl M4 210 B",)
    assert list_text(found, "Marl") == "# Marl\nMarl M4 210 B\nMarl M6 330\n"


names = st.text("abcXY 019-", min_size=1, max_size=12).map(str.strip).filter(bool)


@given(st.lists(names, unique=True), st.lists(names, unique=True), st.lists(names, unique=True))
@example(["00", "0 0"], [], [])  # the same by the rules, and the vendor lists both
@example(["00"], ["0 0", "00"], [])
def test_nothing_of_a_list_vanishes(raw: list[str], held: list[str], reported: list[str]) -> None:
    found = match_list(raw, held, reported, {}, MatchRules())
    assert {one.raw for one in found.names} == set(raw)
    assert {one.name for one in found.names} == (set(held) - set(found.dropped)) | set(found.added)
    assert not set(found.added) & set(held)
    plain = {plain_name(name, MatchRules()) for name in raw}
    assert {plain_name(one.name, MatchRules()) for one in found.names} == plain
    again = match_list([one.name for one in found.names], [one.name for one in found.names], reported, {}, MatchRules())
    assert again.dropped == ()


@pytest.mark.parametrize(
    ("text", "form", "column", "names"),
    [
        ("# listed\n\nA 1\r\n  B 2  \n", "lines", "", ["A 1", "B 2"]),
        ("\ufeffBrand;Model\nQ;A 1\nQ;\n;B 2\n", "csv", "Model", ["A 1", "B 2"]),
        ("Model\nA 1\n", "csv", "", ["A 1"]),
        ("Brand\tModel\nQ\tA, 1\n", "tsv", "Model", ["A, 1"]),
    ],
)
def test_a_list_as_it_comes(text: str, form: str, column: str, names: list[str]) -> None:
    assert read_names(text, form, column) == names


@pytest.mark.parametrize(
    ("text", "form", "column", "says"),
    [
        ("", "lines", "", "no name in it"),
        ("Brand,Model\nQ,A\n", "csv", "", "several columns"),
        ("Brand,Model\nQ,A\n", "csv", "Modell", "no column 'Modell'"),
    ],
)
def test_a_list_that_cannot_be_read_says_why(text: str, form: str, column: str, says: str) -> None:
    with pytest.raises(CellError, match=says):
        read_names(text, form, column)


def test_tasks_name_devices_and_owner() -> None:
    exception = Touched("EX-0001", ["d1"], ["storage: sort was installer-check, is floor"], "petra")
    kit = Touched("KT-0001", ["d1", "d2"], ["its override ends"])
    override, unused = Touched("drop-in", ["d3"], ["no longer works on 9.2"]), Touched("other", [], ["ends"])
    moves = [Touched("floored", ["d4"], ["1 at 9.3 go from clear to floored"]), Touched("clear", ["d5"], ["better"])]
    runway = Touched("technical", ["d6"], ["the technical runway of 1 goes from 2029-06-30 to 2028-09-30"])
    found = list(tasks_of("tarn", [exception], [kit], [override, unused], moves, [runway], "wilhelmina"))
    assert [(one.kind, one.object, one.devices, one.owner) for one in found] == [
        (TaskKind.EXCEPTION, "EX-0001", ("d1",), "petra"), (TaskKind.KIT, "KT-0001", ("d1", "d2"), "wilhelmina"),
        (TaskKind.OVERRIDE, "tarn", ("d3",), "wilhelmina"), (TaskKind.STATE, "tarn", ("d4",), "wilhelmina"),
        (TaskKind.RUNWAY, "tarn", ("d6",), "wilhelmina"),
    ]  # fmt: skip


def test_a_task_is_settled_once_and_dropped_with_a_reason() -> None:
    check_task_change("open", "done", "")
    check_task_change("done", "open", "")
    with pytest.raises(MoveRefusedError):
        check_task_change("done", "done", "")
    with pytest.raises(InvalidInputError):
        check_task_change("open", "dropped", "")
