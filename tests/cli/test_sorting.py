"""Sorting a file on the command line, with no service at all."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest

from doorstone.demo.fleet import build_fleet, ndjson
from tests.running import SHEET, Run, data


@pytest.fixture
def fleet_file(tmp_path: Path) -> Path:
    file = tmp_path / "fleet.ndjson"
    file.write_text(ndjson(build_fleet()))
    return file


def test_sort_works_with_no_service_at_all(look: Run, fleet_file: Path) -> None:
    words = ["sort", fleet_file, "--sheet", SHEET, "--as-of", "2027-01-18"]
    found = data(look(*words, "--format", "json", DOORSTONE_SERVER="http://127.0.0.1:1"))
    assert isinstance(found, list)
    states = [device["state"] for device in found]
    assert {state: states.count(state) for state in set(states)} == {
        "clear": 39, "fixable": 33, "needs-exception": 84, "floored": 19, "unsettled": 5,
    }  # fmt: skip
    table = look(*words, "--release", "9.0")
    assert "for 9.0" in table.stdout
    assert "180 devices sorted for Tarn Desktop 9.0 as of 2027-01-18." in table.stderr


def test_sort_as_csv_opens_safely_in_a_spreadsheet(look: Run, tmp_path: Path) -> None:
    file = tmp_path / "one.ndjson"
    facts = {"os.release": "=cmd|' /C calc'!A0", "os.platform": "tarn"}
    file.write_text(json.dumps({"device": "d1", "source": "file", "taken_at": "2027-01-17", "facts": facts}))
    done = look("sort", file, "--sheet", SHEET, "--as-of", "2027-01-18", "--format", "csv")
    rows = list(csv.reader(io.StringIO(done.stdout)))
    assert rows[1][1].startswith("'=")


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("bad.csv", "device,taken_at,memory.mib\nx,2027-01-11,8\n", "The column 'source' is missing"),
        ("bad.csv", "device,source,taken_at,memory.mib\nx,file,2027-01-11,8 Gbit\n", "line 2, memory.mib"),
        ("bad.ndjson", '{"device": "x", "source": "fi', "It is cut off"),
    ],
)
def test_sort_names_bad_lines(look: Run, tmp_path: Path, name: str, text: str, words: str) -> None:
    file = tmp_path / name
    file.write_text(text)
    done = look("sort", file, "--sheet", SHEET)
    assert (done.returncode, done.stdout) == (4, "")
    assert words in done.stderr


def test_sort_for_an_unknown_release_names_those_there_are(look: Run, fleet_file: Path) -> None:
    done = look("sort", fleet_file, "--sheet", SHEET, "--release", "11")
    assert done.returncode == 5
    assert "Use one of 8, 9.0, 9.1, 9.2, 9.3" in done.stderr


def test_bytes_that_are_no_text_are_refused(look: Run, tmp_path: Path) -> None:
    file = tmp_path / "x.csv"
    file.write_bytes(b"device,source,taken_at\n\x80abc,file,2027-01-17\n")
    done = look("sort", file, "--sheet", SHEET)
    assert (done.returncode, "line 2" in done.stderr) == (4, True)
