"""The bench's own parts: the made-up fleet, what a row says, how load is counted."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from benchmarks import curves_page, fleet
from benchmarks.load import percentile
from benchmarks.measures import bound, cells, in_turns, ratio, same, table
from benchmarks.pages import pages

ROOT = Path(__file__).parent.parent


def test_the_made_up_sheet_has_what_the_measures_speak_of() -> None:
    platform = fleet.platform()
    assert (len(platform.releases), len(platform.requirements), len(platform.overrides)) == (12, 14, 20)
    memory = [fleet.platform(mib).requirement("memory").condition.data()["at_least"] for mib in (6144, 8192)]
    assert memory == [6144, 8192]


def test_the_fleet_is_the_same_for_the_same_seed_and_no_two_readings_are_equal() -> None:
    one, other = fleet.build(5_000, 300), fleet.build(5_000, 300)
    assert one == other
    assert len({json.dumps(facts) for facts in one.kinds}) == len(set(one.shares)) == 300
    today, tomorrow = (list(map(json.loads, one.lines(day))) for day in (0, 1))
    assert len(today) == 5_000 + 150  # three in a hundred are known from a second source
    said = [json.dumps(line["facts"], sort_keys=True) for line in today if line["source"] == "collector"]
    assert len(set(said)) == 5_000
    assert all(a["facts"] != b["facts"] for a, b in zip(today, tomorrow, strict=True) if a["source"] == "collector")
    line = next(line for line in today if line["device"] == "mb-0000017")
    assert line["facts"] == one.facts(17)
    assert fleet.columns(one)["cpu.features"][17] == ";".join(line["facts"]["cpu.features"])
    assert len({tuple(line["facts"]) for line in today if line["source"] == "collector"}) > 100  # orders of keys


@pytest.mark.parametrize(("share", "expected"), [(0.95, 95), (0.99, 99), (0.5, 50), (1.0, 100)])
def test_percentiles_are_values_that_were_measured(share: float, expected: int) -> None:
    assert percentile(list(range(1, 101))[::-1], share) == expected


def test_a_row_holds_its_value_against_its_target() -> None:
    faster = ratio("leaf", "peer", 2.0, 8.0, 0.5)
    slower = ratio("leaf", "peer", 8.0, 2.0, 0.5)
    alone = bound("memory", 120, 400, "MiB")
    assert [row.holds for row in (faster, slower, alone)] == [True, False, True]
    assert cells(faster) == ("leaf", "2 ms", "8 ms (peer)", "0.25", "≤ 0.5", "yes")
    assert cells(alone) == ("memory", "120 MiB", "-", "-", "≤ 400 MiB", "yes")
    assert table([faster, slower, alone]).row_count == 3


def test_both_sides_run_in_turns_after_a_warm_up() -> None:
    ran: list[str] = []
    in_turns(lambda: ran.append("ours"), lambda: ran.append("baseline"), 3)
    assert ran == ["ours", "baseline"] * 4


def test_a_result_that_differs_stops_the_run() -> None:
    same("counts", {"clear": 1}, {"clear": 1})
    with pytest.raises(AssertionError, match="counts"):
        same("counts", {"clear": 1}, {"clear": 2})


def test_no_devices_page_is_asked_for_twice() -> None:
    asked = pages(100_000)["one device's page"]
    assert len(asked) == len(set(asked)) > 1_000


@pytest.mark.parametrize(("name", "mark"), [("last.json", "table"), ("last-full.json", "full")])
def test_the_page_of_the_last_run_says_what_was_written_down(name: str, mark: str) -> None:
    last = json.loads((ROOT / "benchmarks" / name).read_text("utf-8"))
    page = (ROOT / "docs" / "performance.md").read_text("utf-8")
    rows = re.findall(r"^\| (.+?) \|", page.split(f"<!-- {mark} -->")[1].split("<!-- end -->")[0], flags=re.M)
    assert [row["measure"] for row in last["rows"]] == rows[1:]
    assert len(rows) > 20


def test_the_curves_of_the_page_are_those_that_were_written_down() -> None:
    last = json.loads((ROOT / "benchmarks" / "last.json").read_text("utf-8"))
    page = (ROOT / "docs" / "performance.md").read_text("utf-8")
    assert page.split("<!-- curves -->\n")[1].split("\n<!-- end -->")[0] == curves_page.markdown(last["curves"])
    first = curves_page.markdown({"days": [{"days": 1, "import": 587.4, "bytes": 1149.2}]}).splitlines()
    assert first[2] == "| 1 | 587 | 1,149 |"
