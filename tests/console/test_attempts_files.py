"""Records from a file in the console: tried out, what is wrong is named row by row, then recorded."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn, go

pytestmark = pytest.mark.browser


def test_a_file_is_tried_out_corrected_and_recorded(sign_in: SignIn, tmp_path: Path) -> None:
    file = tmp_path / "fixes.csv"
    file.write_text("device,title,outcome\nnbt-007,Switch the chip,perhaps\n")
    page = sign_in("petra", at="/readings")
    page.get_by_label("What the rows are").select_option("fixes")
    page.get_by_label("File of records").set_input_files(file)
    page.get_by_role("button", name="Try the records out").click()
    expect(page.get_by_role("alert")).to_contain_text("line 2, outcome")
    expect(page.get_by_role("button", name="Record", exact=True)).to_be_disabled()
    page.get_by_label("File of records").set_input_files([])
    file.write_text("device,title\nnbt-007,Switch the security chip on in firmware set-up\n")
    page.get_by_label("File of records").set_input_files(file)
    page.get_by_role("button", name="Try the records out").click()
    expect(page.get_by_text("1 row would be recorded.")).to_be_visible()
    page.get_by_role("button", name="Record 1 row").click()
    expect(page.get_by_text("1 row recorded.")).to_be_visible()
    go(page, "/devices/nbt-007?tab=fixes")
    expect(page.get_by_text("Switch the security chip on in firmware set-up").first).to_be_visible()
