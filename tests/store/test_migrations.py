"""Records of an earlier schema are brought to the newest one, and say the same as before."""

from __future__ import annotations

import json
import sqlite3
from importlib import resources
from pathlib import Path

from doorstone.store import people
from doorstone.store.database import Database
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles
from doorstone.store.readings import contents as reading_contents


def at_schema(path: Path, last: int) -> sqlite3.Connection:
    """A file as the program of schema `last` left it."""
    db = sqlite3.connect(path, isolation_level=None)
    reading_contents.migrating(db)
    db.create_function("sealed", 1, lambda text: "")
    folder = resources.files("doorstone.store.migrations")
    for entry in sorted(folder.iterdir(), key=lambda e: e.name):
        if entry.name.endswith(".sql") and int(entry.name[:4]) <= last:
            db.executescript(entry.read_text("utf-8"))
    db.execute(f"PRAGMA user_version = {last}")
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
        numbers = {n for row in held.values() for _, _, n in json.loads(row.current_contents)}
        bodies = reading_contents.bodies(db, reading_contents.rows(db, numbers))
        told = {
            name: [(source, at, bodies[n]) for source, at, n in json.loads(row.current_contents)]
            for name, row in held.items()
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
