"""Contents and parsed values that pieces of work share: as long as what they rest on, and never what was undone."""

from __future__ import annotations

from doorstone.demo.seed import sheet_text
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.settling import contents
from doorstone.work.snapshot.settling_rules import settling_rules
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import line, read
from tests.build import GOOD
from tests.conftest import ADMIN


def test_a_transaction_that_writes_has_contents_of_its_own(context: Context) -> None:
    shared = contents(context)
    with context.database.write():
        mine = contents(context)
        assert mine is contents(context)
        assert mine is not shared
    with context.database.write():
        assert contents(context) is not mine
    assert contents(context) is shared


def test_what_was_undone_is_not_believed_under_numbers_given_out_again(context: Context) -> None:
    with context.database.undone():
        read(context, line("d1", {**GOOD, "memory.mib": 4001}))
        assert snapshot(context).view("d1").value("memory.mib") == 4001
    read(context, line("d1", {**GOOD, "memory.mib": 4002}))
    assert snapshot(context).view("d1").value("memory.mib") == 4002


def test_parsed_values_outlive_an_entry_of_the_ledger_and_end_with_the_sheets(context: Context) -> None:
    def held() -> object:
        with context.database.read() as db:
            return settling_rules(context, db).values

    read(context, line("d1", GOOD))
    before = held()
    read(context, line("d2", GOOD))
    assert held() is before
    text, lists = sheet_text()
    revisions.load_sheet(context, ADMIN, text + "\n# seen\n", lists, "tarn.toml")
    assert held() is not before
