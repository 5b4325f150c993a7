"""Devices in the records: counts move with them, pages join up to the whole, words are taken as they are written."""

from __future__ import annotations

import atexit
import itertools
import shutil
import sqlite3
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store.database import Database
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles
from doorstone.store.devices.devices import Record
from doorstone.store.readings.contents import more_of
from doorstone.work.snapshot.contents import ContentCache

SITES, ROLES, PLATFORMS = ("", "Herbarium", "Lodge"), ("", "desk", "field"), ("tarn", "fell")
NAMES = ("d1", "d2", "d3", "d4", "d5")


class UndoneError(Exception):
    """Raised to leave a transaction without a trace."""


@cache
def empty() -> Database:
    """Records that hold nothing, whatever was written to them and undone."""
    folder = Path(tempfile.mkdtemp())
    atexit.register(shutil.rmtree, folder)
    return Database(folder / "records.db")


@contextmanager
def records() -> Iterator[sqlite3.Connection]:
    """An open transaction on fresh records with two profiles per platform: 1 and 2 of tarn, 3 and 4 of fell."""
    with suppress(UndoneError), empty().write() as db:
        for platform in PLATFORMS:
            for model in ("Gate", "Orrin"):
                profiles.number_of(db, f"{platform} {model}", platform, model, "8", "", {"model": model})
        yield db
        raise UndoneError


def device(name: str, site: str = "", role: str = "", profile: int | None = 1, title: str = "") -> Record:
    platform = "" if profile is None else PLATFORMS[(profile - 1) // 2]
    model = "" if profile is None else ("Gate", "Orrin")[(profile - 1) % 2]
    return Record(name, title, site, role, 0, "2027-01-18", platform, model, "8", "field", profile, None, "[]", None)


def write(db: sqlite3.Connection, *now: Record) -> None:
    device_store.put(db, device_store.records(db, [record.id for record in now]), now)


states = st.builds(
    device,
    st.sampled_from(NAMES),
    st.sampled_from(SITES),
    st.sampled_from(ROLES),
    st.sampled_from([None, 1, 2, 3, 4]),
)
steps = st.lists(st.lists(states, max_size=5, unique_by=lambda record: record.id), max_size=8)


@pytest.mark.long
@settings(max_examples=40, deadline=None)
@given(steps)
def test_counts_are_those_of_the_devices_whatever_was_written(batches: list[list[Record]]) -> None:
    now: dict[str, Record] = {}
    with records() as db:
        for batch in batches:
            write(db, *batch)
            now.update({record.id: record for record in batch})
        placed = [record for record in now.values() if record.profile is not None]
        expected = Counter((r.platform, r.site, r.role, r.profile) for r in placed)
        kept = db.execute(
            "SELECT platform, site, role, profile, devices FROM profile_locations WHERE devices <> 0"
        ).fetchall()
        assert {tuple(row)[:4]: row[4] for row in kept} == dict(expected)
        sizes = dict(db.execute("SELECT id, devices FROM profiles WHERE devices <> 0").fetchall())
        assert sizes == dict(Counter(r.profile for r in placed))
        assert device_store.records(db, NAMES) == now
        for platform in PLATFORMS:
            mine = [r for r in placed if r.platform == platform]
            assert profiles.devices_by_platform(db).get(platform, 0) == len(mine)
            assert set(profiles.sites_and_roles(db, platform)) == {(r.site, r.role) for r in mine}


def test_the_count_of_changes_grows_only_when_something_changed() -> None:
    with records() as db:
        counted = [profiles.stamp(db).devices]
        for one in (device("d1"), device("d1"), device("d1", site="Lodge")):
            write(db, one)
            counted.append(profiles.stamp(db).devices)
        write(db)
        counted.append(profiles.stamp(db).devices)
    assert [after - before for before, after in itertools.pairwise(counted)] == [1, 0, 1, 0]


filters = st.builds(
    DeviceFilter,
    site=st.sampled_from(SITES),
    role=st.sampled_from(ROLES),
    words=st.sampled_from(["", "d", "1", "GATE d2"]),
)
chosen = st.none() | st.sets(st.sampled_from([1, 2, 3, 4]))


@pytest.mark.long
@settings(max_examples=40, deadline=None)
@given(st.lists(states, max_size=5, unique_by=lambda r: r.id), filters, chosen, st.booleans(), st.integers(1, 3))
def test_pages_join_up_to_what_fits_and_the_count_is_theirs(
    held: list[Record], where: DeviceFilter, wanted: set[int] | None, few: bool, size: int
) -> None:
    few = few and wanted is not None  # devices are gone through by profile only where profiles are named

    def fits(one: Record) -> bool:
        text = f"{one.id} {one.name} {one.site} {one.role} {one.model}".lower()
        return (
            one.platform == "tarn"
            and (not where.site or one.site == where.site)
            and (not where.role or one.role == where.role)
            and (wanted is None or one.profile in wanted)
            and all(word in text for word in where.words.lower().split())
        )

    expected = sorted(one.id for one in held if fits(one))
    with records() as db:
        write(db, *held)
        found: list[str] = []
        while page := device_store.find(db, "tarn", where, wanted, few, found[-1] if found else "", size):
            assert len(page) <= size
            found += [row.id for row in page]
        assert found == expected
        assert device_store.count(db, "tarn", where, wanted) == len(expected)


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        ("100%", ["d1"]),
        ("a_b", ["d2"]),
        ("back\\slash", ["d3"]),
        ("%", ["d1"]),
        ("_", ["d2"]),
        ("O'Hara", ["d4"]),
        ("o'hara lodge", ["d4"]),
        ("hara attic", []),
        ("überlauf", ["d6"]),
        ("ÜBERLAUF d6", ["d6"]),
        ("CAFÉ", ["d6"]),
    ],
)
def test_words_are_looked_for_as_they_are_written(words: str, expected: list[str]) -> None:
    with records() as db:
        write(
            db,
            device("d1", title="100% sure"),
            device("d2", title="a_b"),
            device("d3", title="back\\slash"),
            device("d4", site="Lodge", title="O'Hara's"),
            device("d5", title="axb 100"),
            device("d6", title="Überlauf, Café"),
        )
        found = device_store.find(db, "tarn", DeviceFilter(words=words), None, False, "", 50)
    assert [row.id for row in found] == expected


def test_a_reading_of_the_same_device_source_and_time_replaces_the_one_before() -> None:
    with records() as db:
        write(db, device("d1"))
        first, second = (
            ContentCache().number_of(db, {"memory.mib": mib}, more)
            for mib, more in ((4096, ""), (8192, more_of({}, None, ["No chip"])))
        )
        at = "2027-01-18T09:00:00"
        device_store.add_readings(db, [("d1", source, at, first, None, True) for source in ("collector", "operator")])
        device_store.add_readings(db, [("d1", "collector", at, second, None, True)])
        found = {row.source: (dict(row.facts), list(row.texts)) for row in device_store.readings(db, "d1")}
    assert found == {"collector": ({"memory.mib": 8192}, ["No chip"]), "operator": ({"memory.mib": 4096}, [])}


def test_a_reading_of_nobody_is_not_kept() -> None:
    with records() as db, pytest.raises(sqlite3.IntegrityError, match="FOREIGN KEY"):
        device_store.add_readings(db, [("gone", "collector", "2027-01-18T09:00:00", 1, None, True)])


days = st.sampled_from(["", "2027-01-01T09:00:00", "2027-01-01T10:00:00", "2027-02-01T09:00:00", "2027-05-01T09:00:00"])


@given(st.lists(st.tuples(days, st.none() | st.sampled_from(["2027-01-31", "2027-02-14", "2027-03-01"]))))
def test_what_has_aged_out_is_found_whenever_it_was_read(rows: list[tuple[str, str | None]]) -> None:
    with records() as db:
        made = [
            device(f"d{n:02}")._replace(last_read_at=read, stands_until=until) for n, (read, until) in enumerate(rows)
        ]
        write(db, *made)
        for day in ("2027-01-31", "2027-02-01", "2027-02-15", "2027-04-01"):
            expected = [row.id for row in made if row.stands_until is not None and row.stands_until < day]
            assert profiles.fallen(db, day) == expected
