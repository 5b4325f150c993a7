"""The rehearsal of some of the demo fleet: in the world as the sheets have it, and in one that holds surprises."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import pytest
from rehearsal.drive import Rehearsal
from rehearsal.explain import differences, unexplained

from doorstone.store.database import Database
from doorstone.work import sorting
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context

pytestmark = pytest.mark.long
D = date.fromisoformat


@pytest.fixture(scope="module")
def true_world(tmp_path_factory: pytest.TempPathFactory) -> Rehearsal:
    only = {"nbt-007", "nbt-012", "nbt-030", "nbt-058", "nbt-120", "nbt-145", "nbt-181", "nbt-184", "nbt-190"}
    return Rehearsal(tmp_path_factory.mktemp("rehearsal"), only=only).run()


def test_no_forecast_is_wrong_no_kit_refused_no_follow_up_missing(true_world: Rehearsal) -> None:
    assert [str(miss) for miss in true_world.misses] == []
    assert true_world.moves["by-exception"] >= 5
    assert true_world.moves["after-fix"] >= 1
    assert true_world.moves["offered"] >= 5
    assert true_world.moves["clean"] == 1  # another word size once; from then on its releases are offered
    # Every runway came as it was foretold.
    assert true_world.foretold == {device: true_world.held.get(device) for device in true_world.foretold}
    assert true_world.foretold["nbt-012"] == D("2027-11-30")  # the chip's override ends at 9.2
    assert true_world.foretold["nbt-058"] == D("2028-09-30")  # graphics become a floor at 9.3
    assert true_world.foretold["nbt-030"] == D("2027-02-28")  # a floor
    assert true_world.foretold["nbt-184"] == D("2028-08-31")  # a station, by the bridge loader


@pytest.fixture(scope="module")
def surprises(tmp_path_factory: pytest.TempPathFactory) -> Rehearsal:
    folder = tmp_path_factory.mktemp("surprises")
    made = Rehearsal(folder, "surprising", {"nbt-021", "nbt-058", "nbt-064"})
    made.machines["nbt-064"].change(signed_loading="absent")  # an override of the vendor's, and nothing else to except
    return made.run(D("2028-03-01"))


def test_each_surprise_is_noticed_within_a_check_interval_and_none_absorbed(surprises: Rehearsal) -> None:
    # Security updates stop for unlisted processors on 1 October 2027: the due list names the device within 60 days.
    noticed = surprises.noticed["nbt-021 security"]
    assert D("2027-10-01") <= noticed <= D("2027-10-01") + timedelta(days=60)
    # Plain drawing ends a release early: set-up refuses, and the attempt is evidence.
    told = {(miss.device, miss.happened) for miss in surprises.misses if miss.what == "forecast"}
    # Every difference that is counted has its cause in that world.
    found = differences(surprises)
    assert len(found) >= 3
    assert unexplained(found) == []
    assert unexplained([replace(found[0], why="")]) != []
    assert ("nbt-058", "refused by graphics-level") in told
    # Signed loading becomes a floor at 9.2: it does not start, and the sort has evidence against it.
    assert any(device == "nbt-064" and "failed-to-start" in what for device, what in told)
    context = Context(
        Database(surprises.folder / "doorstone.db"), FixedClock(surprises.context(D("2028-03-01")).clock.now())
    )
    rows = {row.requirement: row for row in sorting.sorting_table(context, "tarn", "9.2")}
    assert rows["graphics-level"].refused >= 1
    assert rows["secure-boot"].failed_to_start >= 1
    assert "failed to start" in rows["secure-boot"].against
