"""Records of an earlier schema are brought to the newest one, and say the same as before."""

from __future__ import annotations

import json
import sqlite3
from array import array
from pathlib import Path

from doorstone.store import people
from doorstone.store.database import Database, migrate
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles
from doorstone.store.readings import contents as reading_contents
from doorstone.work.snapshot.contents import current_contents


def at_schema(path: Path, last: int) -> sqlite3.Connection:
    """A file as the program of schema `last` left it."""
    db = sqlite3.connect(path, isolation_level=None)
    db.create_function("sealed", 1, lambda text: "")
    assert migrate(db, last) == last
    return db


def test_readings_become_shared_contents(tmp_path: Path) -> None:
    path = tmp_path / "d.db"
    db = at_schema(path, 6)
    db.execute(
        "INSERT INTO profiles (id, platform, key, model, runs, own, picture)"
        " VALUES (5, 'tarn', 'k', 'M', '8', '', '{}')"
    )
    for name, site in (("d1", "north"), ("d2", "south")):
        db.execute("INSERT INTO devices (id, site, added_at, platform) VALUES (?, ?, 'then', 'tarn')", (name, site))
        db.execute("UPDATE devices SET profile = 5, stands_until = NULL WHERE id = ?", (name,))
    facts, early, late = '{"memory.mib": 4096}', "2027-01-10T08:00:00", "2027-01-12T08:00:00"
    rows = [
        ("d1", "file", early, facts, '{"storage": false}', '{"tpm.state": "no right"}', '["No chip"]'),
        ("d1", "file", late, '{"memory.mib": 8192}', "{}", "{}", "[]"),
        ("d2", "file", late, facts, "{}", "{}", "[]"),
    ]
    db.executemany(
        "INSERT INTO readings (device, source, taken_at, facts, verdicts, unread, texts) VALUES (?, ?, ?, ?, ?, ?, ?)",
        rows,
    )
    words = {early: {"verdicts": {"storage": False}}, late: {"facts": {"memory.mib": 8192}, "texts": []}}
    db.execute("INSERT INTO device_sources VALUES ('d1', 'file', ?)", (json.dumps(words),))
    db.execute(
        "INSERT INTO device_sources VALUES ('d2', 'file', ?)", (json.dumps({late: {"facts": json.loads(facts)}}),)
    )
    db.close()

    with Database(path).read() as db:
        history = device_store.readings(db, "d1")
        assert [(r.taken_at, r.facts, r.texts) for r in history] == [
            (late, {"memory.mib": 8192}, []),
            (early, {"memory.mib": 4096}, ["No chip"]),
        ]
        assert history[1].unread == {"tpm.state": "no right"}
        held = device_store.records(db, ["d1", "d2"])
        numbers = {n for row in held.values() for _, _, n in current_contents(row)}
        bodies = reading_contents.bodies(db, reading_contents.rows(db, numbers))
        told = {
            name: [(source, at, bodies[n]) for source, at, n in current_contents(row)] for name, row in held.items()
        }
        assert told == {
            "d1": [
                ("file", early, {"verdicts": {"storage": False}}),
                ("file", late, {"facts": {"memory.mib": 8192}, "texts": []}),
            ],
            "d2": [("file", late, {"facts": {"memory.mib": 4096}})],
        }
        assert (held["d2"].site, held["d2"].profile, held["d2"].added_at) == ("south", 5, "then")
        assert profiles.sizes(db, "tarn") == {5: 2}
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
        assert db.execute("PRAGMA foreign_keys").fetchone()[0] == 1


def test_the_news_that_people_had_chosen_come_along(tmp_path: Path) -> None:
    path = tmp_path / "records.db"
    db = at_schema(path, 20)
    db.execute(
        "INSERT INTO people (name, display, role, password_hash, added_at, told_of)"
        """ VALUES ('petra', 'Petra', 'technician', '', '2027-01-01', '["due", "request"]')"""
    )
    db.close()
    database = Database(path)
    with database.read() as now:
        petra = people.get(now, "petra")
    assert petra is not None
    assert petra.news == ("due", "request")
    database.close()


def test_contents_count_their_readings_and_take_fewer_bytes(tmp_path: Path) -> None:
    path = tmp_path / "records.db"
    db = at_schema(path, 22)
    db.execute("INSERT INTO fact_names VALUES (1, 'memory.mib'), (2, 'tpm.state')")
    db.execute("""INSERT INTO fact_values VALUES (300, 1, '8192'), (70000, 1, '4096'), (7, 2, '"on"')""")
    db.execute("""INSERT INTO content_shapes VALUES (1, '["memory.mib","tpm.state"]')""")
    codes = {1: array("I", [300, 7]).tobytes(), 2: array("I", [70000, 7]).tobytes()}
    for number, held in codes.items():
        db.execute("INSERT INTO reading_contents VALUES (?, ?, 1, ?, '', 0)", (number, -number, held))
    early, late = "2027-01-10T08:00:00", "2027-01-12T08:00:00"
    current = {
        "d1": [["file", late, 1]],
        "d2": [["file", early, 1]],
        "d3": [["file", early, 1], ["other", late, 1]],
    }
    for name, words in current.items():
        db.execute(
            "INSERT INTO devices (id, added_at, platform, current_contents, last_read_at)"
            " VALUES (?, 'then', 'tarn', ?, ?)",
            (name, json.dumps(words), late),
        )
        db.executemany(
            "INSERT INTO readings (device, source, taken_at, content) VALUES (?, ?, ?, ?)",
            [(name, source, at, number) for source, at, number in words],
        )
    db.close()

    with Database(path).write() as db:
        assert [tuple(row) for row in db.execute("SELECT id, readings, LENGTH(codes) FROM reading_contents")] == [
            (1, 4, 5),  # 2 values: a byte for the list, three for 300, one for 7
            (2, 0, 7),  # five for 70000
        ]
        kept = reading_contents.rows(db, [1, 2])
        assert reading_contents.bodies(db, kept) == {
            1: {"facts": {"memory.mib": 8192, "tpm.state": "on"}},
            2: {"facts": {"memory.mib": 4096, "tpm.state": "on"}},
        }  # fmt: skip
        found = [row[0] for row in db.execute("SELECT digest FROM reading_contents ORDER BY id")]
        assert [number >> 32 for number in found] == [300, 70000]
        digests = dict(zip(kept.values(), found, strict=True))
        assert reading_contents.numbers_of(db, digests, {}) == {kept[1]: 1, kept[2]: 2}
        rows = device_store.records(db, current)
        assert {name: [list(one) for one in current_contents(row)] for name, row in rows.items()} == current
        assert rows["d1"].current_contents == "file 1"
        assert [row.facts["memory.mib"] for row in device_store.readings(db, "d3")] == [8192, 8192]


def test_long_rows_find_another_place_and_say_the_same(tmp_path: Path) -> None:
    path = tmp_path / "d.db"
    db = at_schema(path, 24)
    db.execute("PRAGMA foreign_keys = OFF")  # of an exception that is not there
    approvals = [
        (1, "anselm", "2027-01-18T09:00:00", "", "[]", "x" * 90_000),
        (1, "ada", "2027-01-17", "n", "[]", "{}"),
    ]
    changes = [("device", "d1", 2, "{}", "s2"), ("exception", "EX-0001", 1, "y" * 90_000, "s1")]
    db.executemany("INSERT INTO exception_approvals VALUES (?, ?, ?, ?, ?, ?)", approvals)
    db.executemany("INSERT INTO ledger_changes VALUES (?, ?, ?, ?, ?)", changes)
    db.close()
    now = at_schema(path, 25)
    assert sorted(now.execute("SELECT * FROM exception_approvals")) == sorted(approvals)
    assert sorted(now.execute("SELECT * FROM ledger_changes")) == sorted(changes)
    now.close()
