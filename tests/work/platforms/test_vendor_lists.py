"""A vendor changes its mind: its list is matched, decided, loaded; what that leaves to do is worked off."""

from __future__ import annotations

import pytest

from doorstone.core.platforms.vendor_list import MatchRules
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.due.due_list import due_list
from doorstone.work.platforms import revisions, tasks, vendor_lists
from doorstone.work.platforms.vendor_lists import RawList
from tests.asking import ADMIN, changed_sheet, granted, line, read
from tests.build import CHIPLESS, GOOD

LIST = "tarn-9-processors.csv"
WITHOUT = "QUERN(R) Q5-820 Processor\nQuern Q7-860\nQuern Q7-920\nMarl M4 210\nMarl M4 310\nMarl M6 330X\n"
RULES = MatchRules(suffixes=("Processor",))


def test_a_raw_list_is_decided_once_and_becomes_the_next_revision(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", {**GOOD, "cpu.model": "Marl M6 330"}))
    raw = RawList(WITHOUT, rules=RULES)
    found = vendor_lists.preview_list(context, "tarn", LIST, raw)
    assert [one.raw for one in found.match.undecided] == ["Marl M6 330X"]
    assert found.match.dropped == ("Marl M6 330", "Quern Q5-740")
    with pytest.raises(RefusedError, match="Names are undecided"):
        vendor_lists.load_list(context, ADMIN, "tarn", LIST, raw)
    said = RawList(WITHOUT, rules=RULES, same={"Marl M6 330X": "Marl M6 330"})
    before = vendor_lists.preview_list(context, "tarn", LIST, said)
    assert (before.match.dropped, before.match.added) == (("Quern Q5-740",), ())
    moved = {(move.release, move.was, move.becomes): move.devices for move in before.impact.moves}
    assert moved["9.1", "clear", "needs-exception"] == ("d1",)
    report = vendor_lists.load_list(context, ADMIN, "tarn", LIST, said, seen=before.revision)
    assert (report.revision, report.changed) == (before.revision + 1, True)
    again = vendor_lists.load_list(context, ADMIN, "tarn", LIST, RawList(WITHOUT, rules=RULES))
    assert again.changed is False  # what was said is remembered, and the list says the same
    assert [change.words for change in revisions.compare_revisions(context, "tarn", 1, 2)] != []
    assert revisions.compare_revisions(context, "tarn", 2, 2) == ()
    with pytest.raises(MissingError, match="no revision 9"):
        revisions.compare_revisions(context, "tarn", 1, 9)


def test_what_cannot_be_matched_says_why(context: Context) -> None:
    with pytest.raises(MissingError, match=f"There is: {LIST}"):
        vendor_lists.preview_list(context, "tarn", "other.csv", RawList(WITHOUT))
    with pytest.raises(BadInputError, match="cannot be read"):
        vendor_lists.preview_list(context, "tarn", LIST, RawList("a;b\n1;2\n", "csv"))
    with pytest.raises(BadInputError, match="does not stand in the list"):
        vendor_lists.preview_list(context, "tarn", LIST, RawList(WITHOUT, other=["Nobody"]))


def test_the_tasks_of_a_change_are_worked_off(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", {**GOOD, "disk.system_gib": 29}))
    held = granted(context, "d2", requirements=("storage",))
    text, lists = changed_sheet("at_least = 60, tolerance", "at_least = 20, tolerance")
    tasks.load_with_tasks(context, ADMIN, text, lists, "tarn.toml")
    found = tasks.list_tasks(context, "open")
    (look,) = [one for one in found if one.row.object == held]
    assert (look.row.kind, look.row.devices, look.row.owner) == ("look-again", ("d2",), "petra")
    assert [(item.object, item.people) for item in due_list(context, "petra") if item.kind == "sheet-task"] == [
        (look.id, {"petra"})
    ]
    given = tasks.change_task(context, ADMIN, look.id, owner="anselm")
    assert (given.row.owner, given.row.state) == ("anselm", "open")
    done = tasks.change_task(context, ADMIN, look.id, "done", note="It needs no exception now.")
    assert (done.row.state, done.row.note) == ("done", "It needs no exception now.")
    assert [item for item in due_list(context) if item.object == look.id] == []
    with pytest.raises(BadInputError, match="no active account"):
        tasks.change_task(context, ADMIN, look.id, owner="joss")
    with pytest.raises(MissingError):
        tasks.change_task(context, ADMIN, "TS-0999", "done")
