"""Older records are named: by the head beside them, and by an anchor on another disk."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from doorstone.store.database import Database
from doorstone.store.ledger import LedgerBrokenError
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.exceptions import activity
from doorstone.work.ledger.entries import check_ledger
from doorstone.work.operations import backup
from tests.asking import ANSELM
from tests.conftest import NOW


def opened(data: Path, anchor: Path | None = None) -> Context:
    return Context(Database(data / "doorstone.db", anchor=anchor), FixedClock(NOW))


def written(data: Path, anchor: Path | None, text: str) -> None:
    """A day of the service: a comment, and a round."""
    context = opened(data, anchor)
    activity.comment(context, ANSELM, "EX-0001", text)
    context.database.write_anchor(context.now())
    context.database.close()


def saved(data: Path, into: Path) -> Path:
    into.mkdir()
    for name in ("doorstone.db", "doorstone.db-wal", "ledger.head"):
        if (data / name).exists():
            shutil.copy(data / name, into / name)
    return into


def put_back(data: Path, older: Path) -> None:
    for name in ("doorstone.db", "doorstone.db-wal", "doorstone.db-shm", "ledger.head"):
        (data / name).unlink(missing_ok=True)
    for file in older.iterdir():
        shutil.copy(file, data / file.name)


def remove_head(data: Path) -> None:
    (data / "ledger.head").unlink()


def empty_head(data: Path) -> None:
    (data / "ledger.head").write_text("")


@pytest.mark.parametrize(
    ("tamper", "said"),
    [
        (remove_head, "the head beside the records is missing: put ledger.head back, or restore a backup"),
        (empty_head, "the head beside the records cannot be read"),
    ],
)
def test_records_without_a_head_beside_them_are_named_and_take_no_write(
    demo_data: Path, tamper: Callable[[Path], None], said: str
) -> None:
    tamper(demo_data)
    context = opened(demo_data)
    assert check_ledger(context).faults == (said,)
    with pytest.raises(LedgerBrokenError, match=said[:30]):
        activity.comment(context, ANSELM, "EX-0001", "written past it")
    context.database.close()


def test_new_records_have_a_head_from_the_start(tmp_path: Path) -> None:
    Database(tmp_path / "doorstone.db").close()
    assert json.loads((tmp_path / "ledger.head").read_text()) == {"seq": 0, "hash": "", "seal": ""}


def test_older_records_with_their_older_head_are_named_by_an_anchor(demo_data: Path, tmp_path: Path) -> None:
    anchor = tmp_path / "elsewhere" / "anchor"
    anchor.parent.mkdir()
    written(demo_data, anchor, "the first day")
    older = saved(demo_data, tmp_path / "older")
    written(demo_data, anchor, "the second day")
    assert [line.split()[1].split(":")[0] for line in anchor.read_text().splitlines()] == ["104", "105"]

    put_back(demo_data, older)
    alone = opened(demo_data)
    assert check_ledger(alone).faults == ()  # they are whole in themselves
    alone.database.close()
    context = opened(demo_data, anchor)
    assert check_ledger(context).faults == (
        "entry 105 is in the anchor and is missing here: these are older records, or their end was cut off",
    )
    with pytest.raises(LedgerBrokenError, match="entry 105 is in the anchor"):
        activity.comment(context, ANSELM, "EX-0001", "written past it")
    context.database.close()


def test_a_history_that_was_written_anew_is_named_by_every_line_of_an_anchor(demo_data: Path, tmp_path: Path) -> None:
    anchor = tmp_path / "anchor"
    older = saved(demo_data, tmp_path / "older")
    written(demo_data, anchor, "the true one")
    put_back(demo_data, older)
    written(demo_data, None, "another one")
    context = opened(demo_data, anchor)
    assert check_ledger(context).faults == ("entry 104 is not the one in the anchor",)
    context.database.close()
    anchor.write_text("2027-01-18T09:00:00 rubbish\n")
    context = opened(demo_data, anchor)
    assert check_ledger(context).faults == ("the anchor cannot be read",)
    context.database.close()


def test_a_round_adds_nothing_where_nothing_changed(demo: Context, tmp_path: Path) -> None:
    demo.database.anchor = None
    demo.database.write_anchor(demo.now())
    database = Database(demo.database.path, anchor=tmp_path / "anchor")
    for _ in range(3):
        database.write_anchor(demo.now())
    assert len((tmp_path / "anchor").read_text().splitlines()) == 1
    database.close()


def test_a_backup_has_the_head_of_its_records(demo: Context, tmp_path: Path) -> None:
    backup.make_backup(demo.database.path.parent, tmp_path / "backup.tar")
    backup.restore_backup(tmp_path / "backup.tar", tmp_path / "restored")
    context = opened(tmp_path / "restored")
    assert check_ledger(context).faults == ()
    context.database.close()
