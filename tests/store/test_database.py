from __future__ import annotations

import hashlib
import json
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import suppress
from importlib import resources
from pathlib import Path

import pytest

from doorstone.store import ledger
from doorstone.store.database import CACHE_KIB, WIDE_CACHE_KIB, Database, migrate
from doorstone.store.exceptions import exceptions


@pytest.fixture
def database(tmp_path: Path) -> Iterator[Database]:
    made = Database(tmp_path / "records" / "doorstone.db")
    yield made
    made.close()


def put(db: sqlite3.Connection, *names: str) -> None:
    for name in names:
        ledger.append(db, "2027-01-18T09:00:00", "petra", "test", "did", "thing", name, {"n": name})


def test_a_new_file_has_the_newest_schema_wal_and_foreign_keys(database: Database) -> None:
    with database.read() as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == 30
        assert db.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
        assert db.execute("PRAGMA foreign_keys").fetchone()[0] == 1
        assert migrate(db) == 30


def test_a_newer_schema_than_this_programs_is_refused(tmp_path: Path) -> None:
    Database(tmp_path / "d.db").close()
    with sqlite3.connect(tmp_path / "d.db") as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(RuntimeError, match="Use a newer program"):
        Database(tmp_path / "d.db")


def test_a_failed_use_case_leaves_nothing(database: Database) -> None:
    def fail() -> None:
        with database.write() as db:
            put(db, "a")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    with database.read() as db:
        assert ledger.last_seq(db) == 0


def test_a_foreign_key_is_held(database: Database) -> None:
    with pytest.raises(sqlite3.IntegrityError), database.write() as db:
        db.execute("INSERT INTO observations VALUES (1, 'gone', '2027-01-01', 'security', 'arrived', '', '', '', 'x')")


def test_writers_take_turns_and_none_is_lost(database: Database) -> None:
    def write() -> None:
        for _ in range(20):
            with database.write() as db:
                put(db, "x")
        database.close()

    threads = [threading.Thread(target=write) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    with database.read() as db:
        assert ledger.last_seq(db) == 80
        assert list(ledger.faults(db)) == []


# ------------------------------------------------------------------- ledger


def test_the_ledger_refuses_changes(database: Database) -> None:
    with database.write() as db:
        put(db, "a")
    for statement in ("UPDATE ledger SET actor = 'x'", "DELETE FROM ledger"):
        with pytest.raises(sqlite3.IntegrityError, match="append-only"), database.write() as db:
            db.execute(statement)


@pytest.mark.parametrize(
    ("tamper", "faults"),
    [
        ("UPDATE ledger SET body = '{}' WHERE seq = 2", ["entry 2 was altered"]),
        ("UPDATE ledger SET actor = 'anselm' WHERE seq = 3", ["entry 3 was altered"]),
        ("DELETE FROM ledger WHERE seq = 2", ["entry 2 is missing"]),
        ("DELETE FROM ledger WHERE seq = 4", ["entry 4 is missing at the end"]),
        ("DELETE FROM ledger WHERE seq >= 3", ["entries 3 to 4 are missing at the end"]),
        ("DELETE FROM ledger_head", ["the seal of the last entry is missing"]),
        ("UPDATE ledger_head SET seq = 3", ["the seal of the last entry was altered"]),
        (
            "UPDATE ledger SET seq = CASE seq WHEN 2 THEN 103 ELSE 102 END WHERE seq IN (2, 3)",
            ["entries 2 to 3 are missing", "entry 102 was altered", "entry 103 was altered"],
        ),
    ],
)
def test_tampering_is_found_and_named(database: Database, tamper: str, faults: list[str]) -> None:
    with database.write() as db:
        put(db, "a", "b", "c", "d")
    with database.write() as db:
        db.execute("DROP TRIGGER ledger_keeps")
        db.execute("DROP TRIGGER ledger_stays")
        db.execute(tamper)
    with database.read() as db:
        found = list(ledger.faults(db))
    assert set(faults) <= set(found)


def test_a_chain_that_is_written_anew_does_not_fit_the_seal(database: Database) -> None:
    with database.write() as db:
        put(db, "a", "b")
    with database.write() as db:
        db.execute("DROP TRIGGER ledger_keeps")
        row = dict(db.execute("SELECT * FROM ledger WHERE seq = 2").fetchone()) | {"actor": "anselm"}
        names = ("seq", "at", "actor", "via", "action", "kind", "object", "body", "previous")
        digest = ledger.entry_hash(*(row[name] for name in names))
        db.execute("UPDATE ledger SET actor = 'anselm', hash = ? WHERE seq = 2", (digest,))
    with database.read() as db:
        assert list(ledger.faults(db)) == [
            "entry 2 is not the one that was sealed: the chain was written anew",
            "entry 2 is not the one in the head beside the records",
        ]
    with pytest.raises(ledger.LedgerBrokenError, match="was written anew"), database.write() as db:
        put(db, "c")


def test_an_older_file_is_sealed_when_it_is_first_opened_and_its_conditions_are_kept(tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "old.db") as old:
        for number in ("0001_start", "0002_profiles"):
            old.executescript((resources.files("doorstone.store.migrations") / f"{number}.sql").read_text())
        old.execute(
            "INSERT INTO exceptions (platform, release, up_to, reason, risk_text, acknowledged_by, conditions, owner,"
            " start_on, expires_on, review_on, state, requester, requested_at) VALUES ('tarn', '9.1', 0, 'r', 'x', 'p',"
            " 'Locked.', 'p', '2026-01-01', '2027-01-01', '2026-06-01', 'approved', 'p', '2026-01-01')"
        )
        values = (1, "2026-01-01", "p", "t", "did", "thing", "a", '{"devices": ["d1"]}', ledger.START)
        old.execute("INSERT INTO ledger VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", (*values, ledger.entry_hash(*values)))
        old.execute("PRAGMA user_version = 2")
    old.close()
    database = Database(tmp_path / "old.db")
    with database.read() as db:
        assert list(ledger.faults(db)) == []
        assert [entry.object for entry in ledger.story(db, "device", "d1")] == ["a"]
        kept = exceptions.get(db, 1)
    assert kept is not None
    assert [(c.text, c.due_on) for c in kept.conditions] == [("Locked.", "2026-06-01")]


def test_entries_come_newest_first_and_by_object(database: Database) -> None:
    with database.write() as db:
        put(db, "a", "b", "a")
    with database.read() as db:
        assert [entry.object for entry in ledger.entries(db, None, 10)] == ["a", "b", "a"]
        assert [entry.seq for entry in ledger.entries(db, 3, 1)] == [2]
        assert [entry.seq for entry in ledger.entries(db, None, 10, "thing", "a")] == [3, 1]
        assert ledger.entries(db, None, 1)[0].body == {"n": "a"}


def test_the_first_entry_follows_zeros_and_a_hash_is_worked_out_from_its_parts(database: Database) -> None:
    with database.write() as db:
        put(db, "a")
    with database.read() as db:
        row = db.execute("SELECT * FROM ledger").fetchone()
    parts = [1, "2027-01-18T09:00:00", "petra", "test", "did", "thing", "a", '{"n": "a"}', "0" * 64]
    assert row["previous"] == "0" * 64
    assert row["hash"] == hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def test_a_connection_has_more_room_for_as_long_as_it_is_needed(database: Database) -> None:
    def pages() -> int:
        return int(database.connection.execute("PRAGMA cache_size").fetchone()[0])

    assert pages() == -CACHE_KIB
    with suppress(ValueError), database.wide():
        assert pages() == -WIDE_CACHE_KIB
        raise ValueError
    assert pages() == -CACHE_KIB
