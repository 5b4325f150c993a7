"""Readings ingested in batches, one by one, in any order: the same devices, the same places, the same counts."""

from __future__ import annotations

import json
import random
import shutil
import tempfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content
from doorstone.demo.seed import WILHELMINA, sheet_text
from doorstone.formats.sheet import read_sheet
from doorstone.store.database import Database
from doorstone.store.devices import devices as device_store
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.class_cases import IngestCache
from doorstone.work.snapshot.contents import NewReading
from doorstone.work.snapshot.settling import Settler
from tests.build import GOOD, tarn

NOW = datetime(2027, 1, 18, 9)
CLASSES = Classifier(tarn(), NOW.date())
Line = tuple[str, str, int, dict[str, Any], str]  # device, source, days ago, facts, site

FACTS: list[dict[str, Any]] = [
    dict(GOOD), {**GOOD, "tpm.state": "off"}, {"memory.mib": 4096}, {"disk.free_gib": 9, "tpm.state": "absent"},
    {"os.platform": "nowhere"}, {**GOOD, "machine.model": "Fallow 120"},
]  # fmt: skip


def lines() -> st.SearchStrategy[Line]:
    return st.tuples(
        st.sampled_from(["d1", "d2", "d3", "d4"]),
        st.sampled_from(["collector", "assessor", "operator"]),
        st.integers(0, 70),
        st.sampled_from(FACTS),
        st.sampled_from(["", "north", "south"]),
    )


def distinct(found: list[Line]) -> list[Line]:
    return list(
        {(device, source, days): (device, source, days, *rest) for device, source, days, *rest in found}.values()
    )


def ingested(
    empty: Path, readings: list[Line], size: int, shared: bool
) -> tuple[dict[str, tuple[Any, ...]], dict[Any, int]]:
    """Ingest readings, so many at a time; the devices as they then stand, and the counts that are kept."""
    with tempfile.TemporaryDirectory() as folder:
        copied = shutil.copytree(empty, Path(folder) / "records")
        context = Context(Database(copied / "doorstone.db"), FixedClock(NOW))
        known = IngestCache() if shared else None
        for at in range(0, len(readings), size):
            with context.database.write() as db:
                settler = Settler(context, db, known)
                settler.ingest([_reading(settler, one) for one in readings[at : at + size]])
                known = settler.known if shared else None
        with context.database.read() as db:
            rows = device_store.records(db, ["d1", "d2", "d3", "d4"])
            keys = dict(db.execute("SELECT id, key FROM profiles").fetchall())
            sites = dict(db.execute("SELECT id, site FROM devices").fetchall())
            counted = {
                (keys[r["profile"]], r["site"]): r["devices"]
                for r in db.execute("SELECT profile, site, devices FROM profile_locations WHERE devices <> 0")
            }
            in_all = {
                keys[r["id"]]: r["devices"] for r in db.execute("SELECT id, devices FROM profiles WHERE devices > 0")
            }
            contents = dict(db.execute("SELECT key, content FROM profiles WHERE platform = 'tarn'").fetchall())
            stand = {}
            for name, row in rows.items():
                seen = (row.platform, row.model, row.running_release, keys.get(row.profile or 0), row.stands_until)
                view = Settler(context, db).view(name)
                stand[name] = (*seen, view.values())
                if row.platform == "tarn":  # told by numbers of values, or looked at alone: the same class
                    assert seen[3] == CLASSES.of(profile_content("tarn", CLASSES.names, view))
        context.database.close()
    really: dict[Any, int] = {}
    for name, row in stand.items():
        if row[3]:
            really[row[3], sites[name]] = really.get((row[3], sites[name]), 0) + 1
        assert all(CLASSES.of(json.loads(text)) == key for key, text in contents.items())
    assert counted == really
    assert in_all == {key: sum(n for (k, _), n in really.items() if k == key) for key, _ in really}
    return stand, really


@pytest.mark.parametrize("days", [0, 40, 400])
def test_the_first_device_of_a_class_stands_for_it_as_it_is_settled(days: int, context: Context) -> None:
    every: list[dict[str, Any]] = [
        {**GOOD, "machine.model": "Fallow 120", "memory.mib": mib, "cpu.features": ["sse4", "avx2"]}
        for mib in (1, 9000)
    ]
    with context.database.write() as db:
        settler = Settler(context, db, IngestCache())
        for at, facts in enumerate([GOOD, *every]):
            settler.ingest([_reading(settler, (f"d{at}", "collector", days, facts, ""))])
            (profile,) = db.execute("SELECT profile FROM devices WHERE id = ?", (f"d{at}",)).fetchone()
            (content,) = db.execute("SELECT content FROM profiles WHERE id = ?", (profile,)).fetchone()
            view = Settler(context, db).view(f"d{at}")
            assert json.loads(content) == profile_content("tarn", CLASSES.names, view)


def _reading(settler: Settler, one: Line) -> NewReading:
    device, source, days, facts, site = one
    number = settler.known.contents.number_of(settler.db, facts)
    taken_at = (NOW - timedelta(days=days)).isoformat()
    return NewReading(device, source, taken_at, number, {"site": site} if site else None)


@pytest.mark.long
@settings(max_examples=15, deadline=None)
@given(st.lists(lines(), min_size=1, max_size=12).map(distinct), st.integers(1, 12))
def test_batches_and_what_is_remembered_change_nothing(empty_data: Path, readings: list[Line], size: int) -> None:
    assert ingested(empty_data, readings, size, shared=True) == ingested(empty_data, readings, 1, shared=False)


@pytest.mark.long
@settings(max_examples=10, deadline=None)
@given(st.lists(lines(), min_size=2, max_size=8).map(distinct), st.randoms(use_true_random=False))
def test_the_order_in_which_readings_arrive_changes_nothing(empty_data: Path, readings: list[Line], draw: Any) -> None:
    placed = [(*one[:4], "") for one in readings]
    shuffled = list(placed)
    draw.shuffle(shuffled)
    assert ingested(empty_data, placed, 3, shared=True) == ingested(empty_data, shuffled, 3, shared=True)


@pytest.mark.parametrize("seed", [3, 14, 159])
def test_devices_of_several_sources_are_in_the_class_in_which_they_would_be_alone(tmp_path: Path, seed: int) -> None:
    """Sources that agree within a tolerance, or do not; some words are too old, some devices have a source for each."""
    draw = random.Random(seed)
    context = Context(Database(tmp_path / "d.db"), FixedClock(NOW))
    text, lists = sheet_text()  # of facts that a class rests on one is to be passing
    text = text.replace(
        '{ fact = "graphics.vulkan", at_least_version = "1.2" }', '{ fact = "disk.free_gib", at_least = 40 }'
    )
    revisions.load_sheet(context, WILHELMINA, text, lists, "tarn.toml")
    classes = Classifier(read_sheet(text, lists), NOW.date())
    values: dict[str, list[Any]] = {
        "memory.mib": [8192, 8150, 6000], "disk.system_gib": [60, 29], "tpm.version": ["2.0", "1.2"],
        "tpm.state": ["on", "off"], "firmware.secure_boot": ["on", "off"], "machine.model": ["Fallow 430"],
        "cpu.arch": ["x86-64", "x86"], "disk.free_gib": [20, 21, 200], "os.platform": ["tarn", "tarn", "nowhere"],
    }  # fmt: skip
    with context.database.write() as db:
        settler = Settler(context, db, IngestCache())
        for _ in range(3):
            made = []
            for number in range(200):
                source, days = draw.choice(["collector", "assessor", "operator"]), draw.choice([0, 1, 2, 29, 31, 60])
                some = {name: draw.choice(held) for name, held in values.items() if draw.random() < 0.2}
                whole = {**GOOD, **some} if draw.random() < 0.5 else some or {"memory.mib": 4096}
                made.append(_reading(settler, (f"d{number}", source, days, whole, "")))
            settler.ingest(made)
        keys = dict(db.execute("SELECT id, key FROM profiles").fetchall())
        apart = 0
        for name, row in device_store.records(db, device_store.ids(db)).items():
            view = Settler(context, db).view(name)
            apart += any(fact.rivals for fact in view.facts.values())
            alone = classes.of(profile_content("tarn", classes.names, view))
            assert keys.get(row.profile or 0) == (alone if view.text("os.platform") == "tarn" else None), name
    assert apart > 5
    context.database.close()


def test_facts_that_are_compared_and_tested_alone_too_count_as_they_are(tmp_path: Path) -> None:
    """Two values that both fail the test of a fact may still be the same as another fact, or not."""
    context = Context(Database(tmp_path / "d.db"), FixedClock(NOW))
    text, lists = sheet_text()
    needs = 'needs = { fact = "os.edition", is = "estate" }'
    same = 'needs = { all = [{ fact = "os.arch", same_as = "cpu.arch" }, { fact = "cpu.arch", is = "x86-64" }] }'
    assert needs in text
    text = text.replace(needs, same)
    revisions.load_sheet(context, WILHELMINA, text, lists, "tarn.toml")
    classes = Classifier(read_sheet(text, lists), NOW.date())
    with context.database.write() as db:
        settler = Settler(context, db, IngestCache())
        pairs = [(cpu, os) for cpu in ("x86-64", "x86", "arm64") for os in ("x86-64", "x86", "arm64")]
        facts = [{**GOOD, "cpu.arch": cpu, "os.arch": os} for cpu, os in pairs]
        settler.ingest([_reading(settler, (f"d{n}", "collector", 0, one, "")) for n, one in enumerate(facts)])
        settler.ingest([_reading(settler, (f"e{n}", "collector", 0, one, "")) for n, one in enumerate(facts)])
        more = [(f"e{n}", "assessor", 1, {"os.arch": one["os.arch"]}, "") for n, one in enumerate(facts)]
        settler.ingest([_reading(settler, one) for one in [*more, ("f", "assessor", 1, {"memory.mib": 4096}, "")]])
        keys = dict(db.execute("SELECT id, key FROM profiles").fetchall())
        for name, row in device_store.records(db, [f"{at}{n}" for at in "de" for n in range(len(pairs))]).items():
            view = Settler(context, db).view(name)
            assert keys[row.profile or 0] == classes.of(profile_content("tarn", classes.names, view)), (
                name,
                pairs[int(name[1:])],
            )
    context.database.close()
