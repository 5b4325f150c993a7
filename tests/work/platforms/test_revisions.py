"""A changed sheet moves the devices that it tells apart, and no others: whatever they are and whatever it changes."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from doorstone.store.database import Database
from doorstone.store.devices import devices as device_store
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.snapshot import settling
from doorstone.work.snapshot.settling import Settler
from tests.asking import ADMIN, line, read
from tests.build import GOOD, NOON

EDITS = [
    ("at_least = 6144", "at_least = 8192"),
    ("at_least = 6144", "at_least = 5120"),
    ('fact = "disk.system_gib", at_least = 60, tolerance = "3%"', 'fact = "disk.system_gib", at_least = 400'),
    ('fact = "tpm.version", at_least_version = "2.0"', 'fact = "tpm.version", at_least_version = "1.2"'),
    ('has_all = ["avx2", "bmi2", "fma", "movbe"]', 'has_all = ["avx2"]'),
    ('needs = { fact = "os.edition", is = "estate" }', 'needs = { fact = "cpu.features", has_all = ["avx2"] }'),
    ('needs = { fact = "os.edition", is = "estate" }', 'needs = { fact = "cpu.arch", same_as = "os.arch" }'),
    ('{ fact = "cpu.arch", is = "x86-64" }', '{ fact = "disk.free_gib", at_least = 10 }'),
    ('{ fact = "graphics.vulkan", at_least_version = "1.2" }', '{ fact = "disk.free_gib", at_least = 40 }'),
]
"""Two no longer test a fact alone that is looked at all the same; the last two look at one that no requirement looked
at before, and no longer at another."""

OWN = {
    "memory.mib": st.sampled_from([4096, 5200, 6100, 7000, 8192, 16384]),
    "disk.system_gib": st.sampled_from([28, 59, 100, 476]),
    "disk.free_gib": st.sampled_from([5, 20, 200]),
    "os.arch": st.sampled_from(["x86-64", "x86"]),
    "cpu.arch": st.sampled_from(["x86-64", "x86"]),
    "os.edition": st.sampled_from(["desk", "estate"]),
    "tpm.version": st.sampled_from(["1.2", "2.0"]),
    "tpm.state": st.sampled_from(["on", "off"]),
    "cpu.features": st.sampled_from([["avx2"], ["avx2", "bmi2", "fma", "movbe"], ["aes"]]),
}
Fleet = list[tuple[str, dict[str, Any], str]]


def fleets() -> st.SearchStrategy[Fleet]:
    some = st.fixed_dictionaries({}, optional=OWN)
    one = st.tuples(some, st.sampled_from(["collector", "assessor"]), st.sampled_from([1, 2, 3, 4, 5, 6]))
    return st.lists(one, min_size=2, max_size=12).map(
        lambda made: list({(f"d{n}", source): (f"d{n}", facts, source) for facts, source, n in made}.values())
    )


def edited(*edits: tuple[str, str]) -> tuple[str, dict[str, str]]:
    text, lists = sheet_text()
    for old, new in edits:
        text = text.replace(old, new)
    return text, lists


def stands(context: Context) -> dict[str, tuple[Any, ...]]:
    with context.database.read() as db:
        keys = dict(db.execute("SELECT id, key FROM profiles").fetchall())
        rows = device_store.records(db, device_store.ids(db))
        return {name: (keys.get(row.profile or 0), row.stands_until) for name, row in rows.items()}


@pytest.mark.long
@settings(max_examples=12, deadline=None)
@given(fleets(), st.lists(st.lists(st.sampled_from(EDITS), max_size=2), min_size=1, max_size=3))
def test_each_device_is_in_the_class_in_which_it_would_be_alone(
    empty_data: Path, fleet: Fleet, sheets: list[Any]
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        copied = shutil.copytree(empty_data, Path(folder) / "records")
        context = Context(Database(copied / "doorstone.db"), FixedClock(NOON))
        read(context, *(line(name, {**GOOD, **facts}, source=source) for name, facts, source in fleet))
        for edits in sheets:
            revisions.load_sheet(context, ADMIN, *edited(*edits), "tarn.toml")
            found = stands(context)
            with context.database.write() as db:
                settler = Settler(context, db)
                classes = settler.by.classifier("tarn")
                assert isinstance(classes, Classifier)
                for name in found:
                    content = profile_content("tarn", classes.names, settler.view(name))
                    assert found[name][0] == classes.of(content), (name, edits)
                sizes = dict(db.execute("SELECT key, devices FROM profiles WHERE devices > 0").fetchall())
                assert sizes == {key: [k for k, _ in found.values()].count(key) for key, _ in found.values()}
                settling.place(context, db, found)
            assert stands(context) == found
        context.database.close()


def test_only_devices_of_torn_classes_are_looked_at(context: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    sizes = {"d0": 2048, "d1": 7000, "d2": 7100, "d3": 8192}
    read(context, *(line(name, {**GOOD, "memory.mib": mib}) for name, mib in sizes.items()))
    placed: list[str] = []
    monkeypatch.setattr(revisions, "place", lambda _, __, devices: placed.extend(devices))
    revisions.load_sheet(context, ADMIN, *edited(("at_least = 6144", "at_least = 5000")), "tarn.toml")
    assert placed == []  # nobody lies between the old threshold and the new
    revisions.load_sheet(context, ADMIN, *edited(("at_least = 6144", "at_least = 8000")), "tarn.toml")
    # d1 stands for those who met it: it fails now, and so does d2; d3 still meets it.
    assert placed == ["d3"]


@pytest.mark.parametrize("edit", EDITS, ids=lambda edit: edit[1][:60])
def test_each_kind_of_change_leaves_devices_where_they_would_be_alone(context: Context, edit: tuple[str, str]) -> None:
    own = [
        {"memory.mib": 7000}, {"memory.mib": 8192, "os.arch": "x86"}, {"os.edition": "estate"}, {"os.arch": "x86-64"},
        {"disk.free_gib": 5, "tpm.version": "1.2"}, {"cpu.features": ["avx2"], "disk.system_gib": 100},
    ]  # fmt: skip
    read(context, *(line(f"d{n}", {**GOOD, **facts}) for n, facts in enumerate(own)))
    revisions.load_sheet(context, ADMIN, *edited(edit), "tarn.toml")
    found = stands(context)
    with context.database.write() as db:
        settler = Settler(context, db)
        classes = settler.by.classifier("tarn")
        alone = {name: classes.of(profile_content("tarn", classes.names, settler.view(name))) for name in found}
    assert {name: key for name, (key, _) in found.items()} == alone


def test_what_classes_rest_on_beside_single_outcomes() -> None:
    frames = [Classifier(read_sheet(*edited(*edits)), NOON.date()).frame for edits in ([], [EDITS[0]], [EDITS[6]])]
    assert frames[0] == frames[1]  # another threshold
    assert frames[0] != frames[2]  # a test of two facts
