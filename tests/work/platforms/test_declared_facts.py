"""A fact that a sheet declares otherwise than before: lasting or passing, with another tolerance, in another unit."""

from __future__ import annotations

import pytest

from doorstone.core.facts import FactSpec, FactType
from doorstone.core.platforms.declared_facts import unfit_values
from doorstone.demo.seed import sheet_text
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.due.due_list import due_list
from doorstone.work.platforms import revisions
from doorstone.work.platforms.impact import StateMove, sheet_impact
from doorstone.work.snapshot.settling import roll
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import ADMIN, line, on, read
from tests.build import GOOD

SCRATCH = """
[[fact]]
name = "scratch.size"
type = "integer"
unit = "MiB"
title = "Scratch space"
"""
ROOMY = """
[[requirement]]
id = "scratch"
title = "Scratch space"
from = "9.0"
condition = { fact = "scratch.size", at_least = 50 }
enforced_at = ["set-up"]
sort = [ { from = "9.0", as = "installer-check" } ]
because = "Set-up asks for it."
"""


def sheet(fact: str = SCRATCH) -> tuple[str, dict[str, str]]:
    text, lists = sheet_text()
    return text.replace(
        "# ---------------------------------------------------------------- releases", fact, 1
    ) + ROOMY, lists


@pytest.fixture
def fleet(context: Context) -> Context:
    """`old` was read 77 days ago, `new` three; `apart` by two sources that differ by 4 %."""
    revisions.load_sheet(context, ADMIN, *sheet(), "tarn.toml")
    facts = {**GOOD, "scratch.size": 60}
    read(context, line("new", facts), line("apart", {**facts, "scratch.size": 51}))
    fresh = {k: facts[k] for k in ("disk.free_gib", "os.pending_updates", "os.restart_pending", "os.old_drivers")}
    read(context, line("old", facts, at="2026-11-02T08:00:00"), line("old", fresh, at="2027-01-15T08:00:00"))
    read(context, line("apart", {"scratch.size": 49}, source="assessor"))
    return context


def states(context: Context) -> dict[str, str]:
    now = snapshot(context)
    platform = now.sheets["tarn"].platform
    return {row.id: now.stands(row, platform, "9.1").state for row in now.rows(["old", "new", "apart"])}


def test_a_fact_that_becomes_passing_ages_at_once_and_back(fleet: Context) -> None:
    assert states(fleet) == {"old": "clear", "new": "clear", "apart": "unsettled"}
    before = snapshot(fleet).forecast("old")
    passing = sheet(SCRATCH + "lasting = false\n")
    foretold = sheet_impact(fleet, *passing, "tarn.toml")
    assert StateMove("tarn", "9.1", "clear", "unsettled", 1, ("old",)) in foretold.moves
    revisions.load_sheet(fleet, ADMIN, *passing, "tarn.toml")
    assert states(fleet) == {"old": "unsettled", "new": "clear", "apart": "unsettled"}
    after = snapshot(fleet).forecast("old")
    assert before is not None
    assert after is not None
    assert (str(before.technical.runway), str(after.technical.runway)) == ("2029-06-30", "2027-02-28")
    (due,) = [item for item in due_list(fleet) if item.kind == "reading-expired"]
    # 30 days after 2 November the value still counts; the day after that is 3 December.
    assert (due.on.isoformat(), due.words) == (
        "2026-12-03",
        "old: readings at Herbarium expired, the first on 2026-12-03; the state is unsettled until the device is read "
        "again",
    )
    revisions.load_sheet(fleet, ADMIN, *sheet(), "tarn.toml")
    assert states(fleet) == {"old": "clear", "new": "clear", "apart": "unsettled"}


def test_another_tolerance_of_a_fact_moves_the_states_that_it_settles(fleet: Context) -> None:
    close = sheet(SCRATCH + 'tolerance = "5%"\n')
    foretold = sheet_impact(fleet, *close, "tarn.toml")
    assert StateMove("tarn", "9.1", "unsettled", "clear", 1, ("apart",)) in foretold.moves
    revisions.load_sheet(fleet, ADMIN, *close, "tarn.toml")
    assert states(fleet)["apart"] == "clear"


@pytest.mark.parametrize("way", ["at once", "after it was dropped"])
def test_another_unit_is_refused_while_values_in_the_old_one_are_stored(fleet: Context, way: str) -> None:
    if way == "after it was dropped":
        revisions.load_sheet(fleet, ADMIN, *sheet_text(), "tarn.toml")
    other = sheet(SCRATCH.replace("MiB", "GiB"))
    for attempt in (sheet_impact, lambda c, *args: revisions.load_sheet(c, ADMIN, *args)):
        with pytest.raises(BadInputError) as refused:
            attempt(fleet, *other, "tarn.toml")
        (error,) = refused.value.errors
        assert error.detail == "scratch.size changes its unit from MiB to GiB, and 3 values are stored in MiB"
        assert "another name" in error.hint


def test_a_type_that_stored_values_do_not_fit_is_refused() -> None:
    before, after = FactSpec("scratch.kind", FactType.TEXT), FactSpec("scratch.kind", FactType.FLAG)
    assert unfit_values(before, after, []) is None
    assert unfit_values(before, after, ["yes", "no"]) is None
    found = unfit_values(before, after, ["yes", "spinning"])
    assert found is not None
    assert found[0].startswith("scratch.kind cannot hold the stored value 'spinning' any more")


def test_a_reading_that_expires_is_announced_days_ahead(fleet: Context) -> None:
    revisions.load_sheet(fleet, ADMIN, *sheet(SCRATCH + "lasting = false\n"), "tarn.toml")
    read(fleet, line("old", {"scratch.size": 60}))

    def due(day: str) -> list[tuple[str, str, tuple[str, ...]]]:
        roll(on(fleet, day))
        found = [item for item in due_list(on(fleet, day)) if item.kind in ("reading-expires", "reading-expired")]
        return [(item.kind, item.on.isoformat(), tuple(item.words.split(":")[0].split(" and "))) for item in found]

    # Read on 15 January, valid for 30 days, through 14 February. `apart` is unsettled by a dispute, not by age.
    assert due("2027-02-06") == []
    assert due("2027-02-07") == [("reading-expires", "2027-02-14", ("new", "old"))]
    assert due("2027-02-14") == [("reading-expires", "2027-02-14", ("new", "old"))]
    # From the 15th on the reading of `apart` has expired too, which ended its dispute.
    assert due("2027-02-15") == [("reading-expired", "2027-02-15", ("apart, new", "old"))]
