"""Tables against the ledger's entries: what was changed by hand is named, row by row."""

from __future__ import annotations

import sqlite3
import time
from pathlib import Path

import pytest

from doorstone.store import ledger, notifications
from doorstone.store import ledger_changes as states_store
from doorstone.work.context.context import Context
from doorstone.work.exceptions import activity, decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.ledger.entries import check_ledger
from doorstone.work.notifications import webhooks
from doorstone.work.people import people
from tests.asking import ADMIN, ANSELM, PETRA, asked, line, read
from tests.build import CHIPLESS
from tests.tampering import listed, run

TAMPERINGS = [
    ("UPDATE exceptions SET state = 'approved', decided_by = 'anselm' WHERE id = 3", "exception EX-0003"),
    ("UPDATE exceptions SET expires_on = '2099-12-31' WHERE id = 1", "expires_on was 2027-09-01, is 2099-12-31"),
    ("UPDATE exceptions SET owner = 'petra' WHERE id = 2", "owner was joss, is petra"),
    ("UPDATE exception_devices SET device = 'nbt-112' WHERE exception = 6", "exception EX-0006"),
    ("UPDATE exception_requirements SET requirement = 'storage' WHERE exception = 3 AND requirement = 'security-chip'",
     "exception EX-0003"),
    ("UPDATE exception_approvals SET person = 'odile' WHERE exception = 1", "exception EX-0001"),
    ("DELETE FROM exception_conditions WHERE exception = 6", "exception EX-0006"),
    ("DELETE FROM exception_comments WHERE exception = 7", "exception EX-0007"),
    ("UPDATE people SET role = 'administrator' WHERE name = 'odile'", "role was viewer, is administrator"),
    ("UPDATE people SET active = 1 WHERE name = 'joss'", "active was 0, is 1"),
    ("UPDATE people SET password_hash = 'x' WHERE name = 'petra'", "person petra was changed without an entry"),
    ("UPDATE people SET sites = '{\"Herbarium\": \"approver\"}' WHERE name = 'petra'", "person petra"),
    ("INSERT INTO people (name, display, role, password_hash, added_at) VALUES ('eve', 'E', 'viewer', '', '2027')",
     "person eve is there without an entry"),
    ("INSERT INTO tokens (name, person, role, digest, issued_at, expires_on)"
     " VALUES ('t', 'petra', 'technician', 'd', '2027', '2099-01-01')", "token TK-0001 is there without an entry"),
    ("UPDATE decisions SET sort = 'floor' WHERE id = 1", "sort was installer-check, is floor"),
    ("DELETE FROM decisions WHERE id = 1", "decision SD-0001 has entries and is gone"),
    ("UPDATE settlements SET value = '\"off\"' WHERE id = 1", "settlement ST-0001"),
    ("UPDATE attempts SET outcome = 'completed' WHERE id = 2", "outcome was refused, is completed"),
    ("UPDATE observations SET result = 'arrived', reason = '' WHERE id = 3", "observation OB-0003"),
    ("UPDATE media SET sha256 = 'f' WHERE id = 1", "media MD-0001"),
    ("UPDATE followups SET state = 'open' WHERE id = 1", "followup FU-0001"),
    ("UPDATE kits SET expires_on = '2099-01-01' WHERE id = 1", "kit KT-0001"),
    ("UPDATE sheets SET text = text || ' ' WHERE platform = 'tarn' AND revision = 2", "sheet tarn"),
    ("UPDATE message_matches SET requirement = 'storage'", "has entries and is gone"),
    ("INSERT INTO message_matches VALUES ('tarn', 'no chip at all', 'storage', 'eve', '2027')",
     "requirement storage is there without an entry"),
    ("UPDATE risk_statements SET text = 'No risk at all.'", "risk 1 was changed without an entry"),
    ("UPDATE devices SET critical = 0 WHERE critical = 1", "criticality was changed without an entry"),
    ("UPDATE devices SET site = 'Herbarium' WHERE id = 'nbt-101'", "device nbt-101: site"),
    ("UPDATE devices SET role = 'spare' WHERE id = 'nbt-101'", "device nbt-101: site, role"),
    ("INSERT INTO devices (id, site, added_at) VALUES ('nbt-999', 'Herbarium', '2027')", "device nbt-999"),
    ("UPDATE imports SET by = 'eve' WHERE id = 1", "by was"),
    ("DELETE FROM ledger_changes WHERE kind = 'person' AND object = 'odile'", "person odile is there without an entry"),
    ("UPDATE ledger_changes SET change = REPLACE(change, 'viewer', 'administrator') WHERE object = 'odile'",
     "person odile: what entry"),
    ("DELETE FROM ledger_changes WHERE kind = 'exception' AND object = 'EX-0001' AND seq ="
     " (SELECT MIN(seq) FROM ledger_changes WHERE object = 'EX-0001')", "exception EX-0001: what entry"),
]  # fmt: skip


@pytest.mark.parametrize(("tamper", "named"), TAMPERINGS)
def test_a_row_that_was_changed_by_hand_is_named(demo: Context, tamper: str, named: str) -> None:
    with demo.database.write() as db:
        db.execute("PRAGMA defer_foreign_keys = ON")
        before = db.total_changes
        db.execute(tamper)
        assert db.total_changes > before
    found = check_ledger(demo).faults
    assert any(named in fault for fault in found), found


def test_records_that_nobody_touched_hold(demo: Context) -> None:
    assert check_ledger(demo).faults == ()


def test_an_older_row_whose_last_change_is_taken_away_is_named(demo: Context) -> None:
    with demo.database.write() as db:
        row = tuple(db.execute("SELECT * FROM people WHERE name = 'odile'").fetchone())
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, people.PersonChange(active=False))
    with demo.database.write() as db:
        db.execute(f"INSERT OR REPLACE INTO people VALUES ({', '.join('?' * len(row))})", row)  # noqa: S608
        newest = "SELECT MAX(seq) FROM ledger_changes WHERE object = 'odile'"
        db.execute(f"DELETE FROM ledger_changes WHERE object = 'odile' AND seq = ({newest})")  # noqa: S608
    assert any("person odile: what its last entry" in fault for fault in check_ledger(demo).faults)


def test_an_approval_that_another_objects_entry_ended_cannot_be_put_back(demo: Context) -> None:
    """The last change of EX-0001 belongs to an entry of a device, so that no entry of its own speaks of it."""
    with demo.database.write() as db:
        approvals = [tuple(row) for row in db.execute("SELECT * FROM exception_approvals WHERE exception = 1")]
    assert approvals
    with demo.database.write() as db:
        db.execute("DELETE FROM exception_approvals WHERE exception = 1")
        ledger.append(db, demo.now(), "anselm", "api", "device changed", "device", device_of_one(db), {})
    assert check_ledger(demo).faults == ()
    with demo.database.write() as db:
        sealed = tuple(db.execute("SELECT * FROM changes_head").fetchone())
        newest = "SELECT MAX(seq) FROM ledger_changes WHERE object = 'EX-0001'"
        db.execute(f"DELETE FROM ledger_changes WHERE object = 'EX-0001' AND seq = ({newest})")  # noqa: S608
        marks = ", ".join("?" * len(approvals[0]))
        db.executemany(f"INSERT INTO exception_approvals VALUES ({marks})", approvals)  # noqa: S608
    count = sealed[3]
    assert check_ledger(demo).faults == (f"of {count} changes that entries made, 1 is missing",)
    with demo.database.write() as db:
        db.execute("UPDATE changes_head SET count = count - 1")
    assert check_ledger(demo).faults == ("the seal of what entries changed was altered",)
    with demo.database.write() as db:
        db.execute("DELETE FROM changes_head")
    assert check_ledger(demo).faults == ("the seal of what entries changed is missing",)


def test_the_seal_of_all_changes_from_an_earlier_day_is_named(demo: Context) -> None:
    with demo.database.read() as db:
        earlier = tuple(db.execute("SELECT * FROM changes_head").fetchone())
    with demo.database.write() as db:
        ledger.append(db, demo.now(), "anselm", "api", "device changed", "device", device_of_one(db), {})
    with demo.database.write() as db:
        db.execute("INSERT OR REPLACE INTO changes_head VALUES (?, ?, ?, ?, ?, ?)", earlier)
    said = f"the seal of what entries changed belongs to entry {earlier[1]}, which is not the last one"
    assert check_ledger(demo).faults == (said,)


def device_of_one(db: sqlite3.Connection) -> str:
    """A device that EX-0001 names."""
    return str(db.execute("SELECT device FROM exception_devices WHERE exception = 1 ORDER BY 1").fetchone()[0])


def test_what_an_exception_was_at_each_of_its_entries_is_recomputed(context: Context) -> None:
    read(context, line("nbt-1", CHIPLESS), line("nbt-2", CHIPLESS))
    name = exceptions.request(context, PETRA, asked("nbt-1", "nbt-2")).id
    decisions.decide(context, ANSELM, name, "approve", "for one term", 1)
    activity.comment(context, PETRA, name, "Seen.")
    with context.database.read() as db:
        seqs = [row["seq"] for row in db.execute("SELECT seq FROM ledger WHERE object = ? ORDER BY seq", (name,))]

        def state_at(seq: int | None) -> states_store.State | None:
            return states_store.replay(states_store.changes_of(db, "exception", name, seq))

        states = [state_at(seq) or {} for seq in seqs]
        assert state_at(seqs[0] - 1) is None
        assert state_at(None) == states[-1]
    assert [state["state"] for state in states] == ["requested", "approved", "approved"]
    assert [state["decided_by"] for state in states] == [None, "anselm", "anselm"]
    assert [len(state.get("exception_comments", ())) for state in states] == [0, 0, 1]
    assert [[row[1] for row in state["exception_devices"]] for state in states] == [["nbt-1", "nbt-2"]] * 3


def test_entries_under_the_former_name_of_a_kind_go_on_counting(context: Context) -> None:
    with context.database.write() as db:
        number = notifications.add_webhook(
            db, "https://tickets.northmere.example/in", (), "sealed", "odile", context.now()
        )
        ledger.append(db, context.now(), "odile", "api", "hook added", "hook", f"HK-{number:04d}", {})
    webhooks.remove_webhook(context, ADMIN, "HK-0001")
    with context.database.read() as db:
        kept = [tuple(row) for row in db.execute("SELECT kind, object FROM ledger_changes WHERE object = 'HK-0001'")]
        named = [entry.action for entry in ledger.story(db, "webhook", "HK-0001")]
        listed = [[entry.action for entry in ledger.entries(db, None, 9, kind)] for kind in ("webhook", "hook")]
    assert kept == [("hook", "HK-0001"), ("webhook", "HK-0001")]
    assert named == ["hook added", "webhook removed"]
    assert listed == [["webhook removed", "hook added"]] * 2
    assert [fault for fault in check_ledger(context).faults if "hook" in fault] == []
    with context.database.write() as db:
        db.execute("UPDATE webhooks SET active = 1")
    assert "webhook HK-0001 was changed without an entry: active was 0, is 1" in check_ledger(context).faults


def test_no_secret_stands_in_a_change(demo: Context) -> None:
    people.set_password(demo, ADMIN, "petra", None, "quiet-harbour-stones")
    with demo.database.read() as db:
        kept = "".join(row["change"] for row in db.execute("SELECT change FROM ledger_changes"))
        secrets = [row[0] for row in db.execute("SELECT password_hash FROM people UNION SELECT digest FROM tokens")]
    assert all(secret not in kept for secret in secrets if secret)
    assert "argon2" not in kept


@pytest.mark.parametrize("tamper", ["", "UPDATE exceptions SET expires_on = '2099-12-31' WHERE id = 1"])
def test_states_of_an_older_schema_are_compared_before_they_are_carried_over(demo: Context, tamper: str) -> None:
    with demo.database.write() as db:
        objects = db.execute("SELECT DISTINCT kind, object FROM ledger_changes").fetchall()
        db.execute("CREATE TABLE ledger_states (kind, object, seq, state, seal)")
        for row in objects:
            text = states_store._state_before(db, row["kind"], row["object"])
            db.execute(
                "INSERT INTO ledger_states VALUES (:k, :o, 1, :s, sealed(:k || ' ' || :o || ' 1 ' || :s))",
                {"k": row["kind"], "o": row["object"], "s": text},
            )
        db.execute("DELETE FROM ledger_changes")
        if tamper:
            db.execute(tamper)
        states_store.keep_all(db)
    assert check_ledger(demo).faults == (
        ("exception EX-0001 is there without an entry of the ledger",) if tamper else ()
    )


def test_a_device_that_was_taken_out_is_named(demo: Context) -> None:
    with sqlite3.connect(demo.database.path) as db:  # without the checks of foreign keys
        db.execute("DELETE FROM devices WHERE id = 'nbt-021'")
    db.close()
    assert "device nbt-021 has entries and is gone" in check_ledger(demo).faults


@pytest.mark.long
def test_a_change_by_hand_is_named_or_listed_as_one_that_is_not(seeded_data: Path) -> None:
    """One row of every table of the demo is changed, taken out or exchanged, with another seed at every run."""
    seed = time.time_ns() // 1000
    found = run(seeded_data, 0, seed, each=1)
    assert found.faults == [], f"seed {seed}"
    assert found.named.total() > 15
    assert found.listed.total() > 5


def test_the_list_of_what_is_outside_the_ledger_names_tables_and_columns_that_are_there(demo: Context) -> None:
    with demo.database.read() as db:
        there = {row[0] for row in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")}
        there |= {f"{table}.{row[1]}" for table in list(there) for row in db.execute(f"PRAGMA table_info({table})")}
    assert listed() - there == set()
    assert "exceptions" not in listed()
