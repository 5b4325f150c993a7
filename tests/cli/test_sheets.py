"""A sheet comes out of the service as it went in, with everything beside it."""

from __future__ import annotations

from pathlib import Path

from doorstone.work.context.context import Context
from doorstone.work.platforms.revisions import load_sheet
from tests.asking import ADMIN
from tests.running import Run


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
