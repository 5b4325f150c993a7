"""The command line of media and of what comes after an upgrade: what it prints, and how it refuses."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.running import SHEET, Run, data


def rows(done: Any) -> Any:
    return data(done)


def test_media_are_recorded_checked_verified_and_withdrawn(run: Run, tmp_path: Path) -> None:
    image = tmp_path / "tarn-9.1-fy.img"
    image.write_bytes(b"stone" * 1000)
    about = ("-p", "tarn", "-r", "9.1", "--edition", "desk", "--language", "fy")
    found = rows(run("media", "add", image, *about, "--format", "json", by="petra"))
    name = found["id"]
    assert (found["size"], found["verified"], found["defects"]) == (5000, False, ["its SHA-256 is not verified"])
    assert run("media", "check", image, name, by="petra").returncode == 0
    image.write_bytes(b"stone" * 999)
    other = run("media", "check", image, name, by="petra")
    assert (other.returncode, "is not" in " ".join(other.stderr.split())) == (1, True)
    wrong = run("media", "verify", name, "0" * 64, by="petra")
    assert (wrong.returncode, "has another SHA-256" in wrong.stderr) == (3, True)
    assert rows(run("media", "verify", name, found["sha256"], "--format", "json", by="petra"))["verified"]
    assert rows(run("media", "withdraw", name, "--why", "The stick is lost.", "--format", "json", by="petra"))[
        "withdrawn"
    ]
    listed = {m["id"] for m in rows(run("media", "list", "-p", "tarn", "--format", "json", by="petra"))}
    assert name not in listed
    assert run("media", "add", image, *about, "--published", "f" * 64, by="petra").returncode == 3
    assert run("media", "list", by="odile").returncode == 0


def test_a_media_plan_for_a_site_names_what_is_missing(look: Run) -> None:
    found = rows(look("media", "plan", "-p", "tarn", "--site", "Herbarium", "--format", "json", by="odile"))
    assert [use["media"] for use in found["uses"]] == ["MD-0001", "MD-0002"]
    assert [m["why"] for m in found["mismatches"]] == ["cannot take 9.1: a floor", "runs 9.1 already"]
    text = look("media", "plan", "-p", "tarn", "nbt-013", by="odile").stdout
    assert "MD-0002" in text
    assert "1 × 8 GB, Glasshouse" in text


def test_what_an_override_puts_in_is_previewed_without_a_service(look: Run) -> None:
    found = rows(look("sheet", "preview", SHEET, "packed-stick", "--format", "json"))
    assert found["media/tarn/packed.ini"].endswith("[system]\npacked = true\n")
    patch = rows(look("sheet", "preview", SHEET.with_name("brindle.toml"), "small-plates", "--format", "json"))
    assert json.loads(patch["settings/system.patch.json"])[0] == {
        "op": "test", "path": "/scratch/plates", "value": "full",
    }  # fmt: skip
    gone = look("sheet", "preview", SHEET, "no-such")
    assert (gone.returncode, "has no override 'no-such'" in gone.stderr) == (5, True)


def test_follow_ups_are_listed_and_what_ends_rollback_asks_twice(run: Run) -> None:
    found = rows(run("follow-up", "list", "nbt-102", "--format", "json", by="petra"))
    old = next(step for step in found["steps"] if step["kind"] == "ends-rollback")
    refused = run("follow-up", "settle", old["id"], "done", by="petra")
    assert (refused.returncode, "confirm" in refused.stderr) == (3, True)
    done = rows(run("follow-up", "settle", old["id"], "done", "--confirm", "--format", "json", by="petra"))
    assert done["state"] == "done"
    assert run("follow-up", "settle", old["id"], "skipped", by="petra").returncode == 4
    assert run("follow-up", "settle", old["id"], "done", by="odile").returncode == 6


def test_drift_is_kept_from_standard_input_and_shown(run: Run, tmp_path: Path) -> None:
    text = run("follow-up", "verified", "nbt-102", by="odile").stdout
    assert "accept missing" in text
    assert "right, now missing" in text
    bad = tmp_path / "report.json"
    bad.write_text("{}")
    refused = run("follow-up", "verified", "nbt-102", bad, by="petra")
    assert (refused.returncode, "is not what verify prints" in " ".join(refused.stderr.split())) == (4, True)


def test_a_days_attempts_and_observations_come_from_files_all_or_none(run: Run, tmp_path: Path) -> None:
    day = tmp_path / "day.csv"
    head = "device,outcome,refused_by,started_at,ended_at\n"
    day.write_text(f"{head}nbt-064,refused,processor-listed,2027-01-18T06:00,2027-01-18T06:30\nnbt-064,flew,,x,y\n")
    refused = run("attempt", "import", day, by="petra")
    assert (refused.returncode, "line 3, outcome" in " ".join(refused.stderr.split())) == (4, True)
    day.write_text(f"{head}nbt-064,refused,processor-listed,2027-01-18T06:00,2027-01-18T06:30\n")
    made = rows(run("attempt", "import", day, "--format", "json", by="petra"))
    assert [(a["device"], a["words"]) for a in made["items"]] == [("nbt-064", "refused on 9.1, try 1")]
    draft = rows(run("attempt", "draft", "nbt-064", "--format", "json", by="petra"))
    assert (draft["number"], draft["met"]) == (2, ["Try 1, 2027-01-18: refused by processor-listed"])
    rates = rows(run("attempt", "rates", "--by", "release", "--format", "json", by="odile"))
    assert rates[0]["key"] == "tarn 9.1"
    seen = tmp_path / "seen.ndjson"
    one = {"device": "nbt-101", "seen_on": "2027-01-18", "update_class": "driver", "result": "arrived"}
    seen.write_text(json.dumps(one) + "\n" + json.dumps({**one, "device": "nbt-999"}) + "\n")
    refused = run("observe", "import", seen, by="petra")
    assert (refused.returncode, "line 2, nbt-999" in " ".join(refused.stderr.split())) == (4, True)
    seen.write_text(json.dumps(one) + "\n")
    for recorded in (1, 0):
        made = rows(run("observe", "import", seen, "--format", "json", by="petra"))
        assert (made["recorded"], made["known"]) == (recorded, 1 - recorded)


@pytest.mark.long
def test_scenarios_suppose_and_plan_say_what_they_rest_on(look: Run) -> None:
    text = look("scenarios", "nbt-101", by="odile").stdout
    assert "pessimistic" in text
    assert "EX-0001" in text
    found = rows(look("scenarios", "nbt-012", "--format", "json", by="odile"))
    assert {way["way"]: way["per_month"] for way in found["ways"]} == {
        "stay": None, "extend": "5.50", "except": "12.41", "replace": "15.99",
    }  # fmt: skip
    one = rows(look("suppose", "nbt-012", "--ends", "compat-drop-in=", "--format", "json", by="odile"))
    assert (one["before"]["technical"]["runway"], one["after"]["technical"]["runway"]) == ("2027-11-30", "2029-06-30")
    later = look("suppose", "-p", "tarn", "--published", "9.2=2027-05-01", by="odile")
    assert later.returncode == 0
    assert look("suppose", "nbt-012", "--ends", "compat-drop-in", by="odile").returncode == 2
    unknown = look("suppose", "nbt-012", "--fixed", "no-such", by="odile")
    assert (unknown.returncode, "does not know 'no-such'" in unknown.stderr) == (4, True)
    plan = rows(look("plan", "5000", "-p", "tarn", "--format", "json", by="odile"))
    assert float(plan["cost"]) <= 5000
    assert float(plan["months"]) <= float(plan["at_most"])
    table = look("plan", "100", "-p", "tarn", "--format", "csv", by="odile").stdout.splitlines()
    assert table[0] == "way,model,count,each,cost,months_each,how"
    assert look("plan", "a lot", "-p", "tarn", by="odile").returncode == 2


@pytest.mark.long
def test_a_budget_paper_counts_every_device_once_in_every_form(look: Run, tmp_path: Path) -> None:
    paper = rows(look("budget", "8000", "2000", "-p", "tarn", "--format", "json", by="odile"))
    assert [one["budget"] for one in paper["budgets"]] == ["2000", "8000"]
    for one in paper["budgets"]:
        assert (sum(one["ways"].values()), float(one["cost"]) <= float(one["budget"])) == (180, True)
    later = paper["replacements"]
    quarters = {one["label"]: (one["devices"], one["cost"]) for one in later["quarters"]}
    assert quarters["2027 Q4"] == (34, "21760.00")  # the devices of EX-0002 and their like, whose override ends at 9.2
    assert sum(n for n, _ in quarters.values()) + later["beyond"] + sum(later["unknown"].values()) == 180
    table = look("budget", "8000", "-p", "tarn", "--format", "csv", by="odile").stdout.splitlines()
    assert [line.split(",")[0] for line in table] == ["quarter", *quarters]
    page = tmp_path / "paper.html"
    assert look("budget", "8000", "--page", str(page), by="odile").returncode == 0
    assert page.read_text().count("2027 Q4") == 1
    for wrong in (["a lot"], ["NaN"], ["-5"], ["1", "2", "3", "4", "5", "6", "7"]):
        refused = look("budget", *wrong, "-p", "tarn", by="odile")
        assert (refused.returncode in (2, 3, 4), "Something failed" in refused.stderr) == (True, False), refused.stderr


def test_gates_sets_and_kits_take_media_and_settings(run: Run) -> None:
    held = {g["id"]: g["result"] for g in rows(run("kit", "gates", "nbt-021", "--format", "json", by="petra"))}
    assert held["base-language"] == "holds"
    dutch = run("kit", "gates", "nbt-021", "--media", "MD-0002", "--format", "json", by="petra")
    assert {g["id"]: g["result"] for g in rows(dutch)}["base-language"] == "stops"
    sets = rows(run("kit", "sets", "nbt-021", "--format", "json", by="petra"))
    assert [one["id"] for one in sets] == ["quiet-start", "locked-disk"]
    made = rows(run("kit", "make", "nbt-021", "--set", "quiet-start", "--format", "json", by="petra"))
    assert (made["media"], made["sets"]) == ("MD-0001", ["quiet-start"])
    refused = run("kit", "make", "nbt-021", "--media", "MD-0003", by="petra")
    assert (refused.returncode, "media.release 9.0" in refused.stderr) == (3, True)


def test_kits_are_made_for_a_selection_and_the_others_named(run: Run) -> None:
    saved = run("selection", "save", "gate desks", "-p", "tarn", "--words", "Fallow 340", by="petra")
    assert saved.returncode == 0, saved.stderr
    cases = rows(run("kit", "cases", "--selection", "gate desks", "-r", "9.1", "--format", "json", by="odile"))
    how = ("kit", "make", "--selection", "gate desks", "--each", "-r", "9.1", "--format", "json")
    tried, made = rows(run(*how, "-n", by="petra")), rows(run(*how, by="petra"))
    assert [kit["devices"] for kit in made["made"]] == [case["devices"] for case in cases["cases"]]
    assert [kit["devices"] for kit in tried["made"]] == [case["devices"] for case in cases["cases"]]
    assert {"nbt-021", "nbt-042", "nbt-133"} <= {name for kit in made["made"] for name in kit["devices"]}
    assert [one["pointer"] for one in made["refused"]] == [one["pointer"] for one in cases["refused"]]
    shown = run("kit", "make", "nbt-021", "nbt-012", "--each", "-r", "9.1", by="petra").stdout
    assert "No kit for" in shown
    assert run("kit", "make", "--each", by="petra").returncode == 4
