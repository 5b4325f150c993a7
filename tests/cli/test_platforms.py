"""Sheets on the command line: checked without a service, loaded, shown, and written out as they went in."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from doorstone.work.context.context import Context
from doorstone.work.platforms.revisions import load_sheet
from tests.asking import ADMIN
from tests.running import SHEET, Run, data


def test_a_sheet_written_to_a_folder_is_loaded_elsewhere_as_it_is(look: Run, context: Context, tmp_path: Path) -> None:
    folder = tmp_path / "carried"
    written = look("sheet", "show", "brindle", "--into", folder, by="odile")
    assert written.returncode == 0, written.stderr
    shown = look("sheet", "show", "brindle", by="odile").stdout
    files = {path.name: path.read_text() for path in folder.iterdir()}
    assert files.pop("brindle.toml") == shown
    assert files, "brindle has lists beside it"
    report = load_sheet(context, ADMIN, shown, files, "brindle.toml")
    assert (report.platform, report.revision) == ("brindle", 1)
    again = look("sheet", "show", "brindle", "--into", folder, by="odile")
    assert (again.returncode, "is there already" in " ".join(again.stderr.split())) == (3, True)


def test_a_sheet_is_checked_without_a_service(look: Run, tmp_path: Path) -> None:
    found = data(look("sheet", "check", SHEET, "--format", "json"))
    assert found == {"platform": "tarn", "releases": 5, "requirements": 11, "overrides": 11, "gates": 14}
    (tmp_path / "tarn-9-processors.csv").write_text("Quern Q5-740\n")
    beside = shutil.copytree(SHEET.parent, tmp_path / "beside")
    (beside / "stray.csv").write_bytes(b"\xff\xfe not this sheet's")  # named nowhere, so it is not read
    assert look("sheet", "check", beside / SHEET.name).returncode == 0
    bad = tmp_path / "bad.toml"
    bad.write_text(SHEET.read_text().replace('"cpu.arch"', '"cpu.arhc"'))
    done = look("sheet", "check", bad)
    assert done.returncode == 4
    assert "Unknown fact 'cpu.arhc'" in done.stderr
    assert "Did you mean cpu.arch?" in " ".join(done.stderr.split())
    assert json.loads(look("sheet", "schema").stdout)["title"] == "Door Stone platform sheet"


def test_sheets_are_listed_shown_and_loaded(run: Run) -> None:
    assert "tarn" in run("sheet", "list", by="odile").stdout
    assert run("sheet", "show", "tarn", by="odile").stdout == SHEET.read_text()
    again = run("sheet", "load", SHEET, by="wilhelmina")
    assert "already loaded; nothing changed" in again.stderr
