"""Tables against the ledger's entries: what was changed by hand is named, row by row."""

from __future__ import annotations

import sqlite3

import pytest

from doorstone.work import people
from doorstone.work.desk import Desk
from doorstone.work.ledger import check_ledger
from tests.asking import ADMIN

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
    ("UPDATE text_matches SET requirement = 'storage'", "has entries and is gone"),
    ("INSERT INTO text_matches VALUES ('tarn', 'no chip at all', 'storage', 'eve', '2027')",
     "requirement storage is there without an entry"),
    ("UPDATE risk_statements SET text = 'No risk at all.'", "risk 1 was changed without an entry"),
    ("UPDATE devices SET critical = 0 WHERE critical = 1", "criticality was changed without an entry"),
    ("UPDATE devices SET site = 'Herbarium' WHERE id = 'nbt-101'", "device nbt-101: site"),
    ("UPDATE devices SET role = 'spare' WHERE id = 'nbt-101'", "device nbt-101: site, role"),
    ("INSERT INTO devices (id, site, added_at) VALUES ('nbt-999', 'Herbarium', '2027')", "device nbt-999"),
    ("UPDATE imports SET by = 'eve' WHERE id = 1", "by was"),
    ("DELETE FROM ledger_states WHERE kind = 'person' AND object = 'odile'", "person odile is there without an entry"),
    ("UPDATE ledger_states SET state = REPLACE(state, 'viewer', 'administrator') WHERE object = 'odile'",
     "person odile: the state that its last entry left was altered"),
]  # fmt: skip


@pytest.mark.parametrize(("tamper", "named"), TAMPERINGS)
def test_a_row_that_was_changed_by_hand_is_named(demo: Desk, tamper: str, named: str) -> None:
    with demo.database.write() as db:
        db.execute("PRAGMA defer_foreign_keys = ON")
        before = db.total_changes
        db.execute(tamper)
        assert db.total_changes > before
    found = check_ledger(demo).faults
    assert any(named in fault for fault in found), found


def test_records_that_nobody_touched_hold(demo: Desk) -> None:
    assert check_ledger(demo).faults == ()


def test_an_older_row_with_its_older_state_is_named(demo: Desk) -> None:
    with demo.database.write() as db:
        row = tuple(db.execute("SELECT * FROM people WHERE name = 'odile'").fetchone())
        state = tuple(db.execute("SELECT * FROM ledger_states WHERE object = 'odile'").fetchone())
    version = people.get_person(demo, "odile").version
    people.change_person(demo, ADMIN, "odile", version, people.PersonChange(active=False))
    with demo.database.write() as db:
        for table, values in (("people", row), ("ledger_states", state)):
            db.execute(f"INSERT OR REPLACE INTO {table} VALUES ({', '.join('?' * len(values))})", values)  # noqa: S608
    assert any("its state is older than its last entry" in fault for fault in check_ledger(demo).faults)


def test_a_device_that_was_taken_out_is_named(demo: Desk) -> None:
    with sqlite3.connect(demo.database.path) as db:  # without the checks of foreign keys
        db.execute("DELETE FROM devices WHERE id = 'nbt-021'")
    db.close()
    assert "device nbt-021 has entries and is gone" in check_ledger(demo).faults
