"""The pages of readings and sorting: disputes, failure messages, fixes, the fleet's views, imports that are watched."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import expect

from doorstone.demo.seed import export_text
from tests.console.conftest import SignIn, go

pytestmark = pytest.mark.browser


def test_a_dispute_is_settled_with_a_reason(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/disputes")
    expect(page.get_by_role("status")).to_have_text("4 disputes")
    page.get_by_label("Believe assessor: on").check()
    page.get_by_label("Why is “on” right?").fill("Seen in firmware set-up this morning.")
    page.get_by_role("button", name="Settle it").click()
    expect(page.get_by_role("status")).to_have_text("3 disputes")
    go(page, "/devices/nbt-080?tab=findings")
    expect(page.get_by_text("Seen in firmware set-up this morning.").first).to_be_visible()


def test_a_failure_in_words_is_placed(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina", at="/sorting")
    camera = page.get_by_role("listitem").filter(has_text="The camera module")
    expect(camera).to_contain_text("It matches no requirement yet.")
    camera.get_by_label("Or a new requirement, with the id").fill("camera-module")
    camera.get_by_label("and the title").fill("A camera module that 9 knows")
    camera.get_by_role("button", name="Make it, unsorted").click()
    expect(camera).to_contain_text("Speaks of camera-module.")
    go(page, "/devices/nbt-064")
    expect(page.get_by_text("A camera module that 9 knows").first).to_be_visible()


def test_the_round_of_fixes_by_site_and_part(visit: SignIn) -> None:
    page = visit("odile", at="/fixes?site=Seed+Vault")
    expect(page.get_by_text("13 devices, 5 h 30 min, 152.00 for parts.")).to_be_visible()
    row = page.get_by_role("row", name=re.compile("nbt-108.*firmware-uefi"))
    expect(row).to_contain_text("step 1 of 2")
    with page.expect_download() as download:
        page.get_by_role("link", name="As a table (CSV)").click()
    text = Path(download.value.path()).read_text()
    assert text.splitlines()[0].startswith("site,action,kind,device")
    assert len(text.splitlines()) == 1 + 20


def test_a_devices_fixes_one_after_the_other(visit: SignIn) -> None:
    page = visit("odile", at="/devices/nbt-019?tab=fixes")
    expect(page.get_by_text("Fit 8 GiB of memory").first).to_be_visible()
    expect(page.get_by_role("tabpanel")).to_contain_text("No fix meets processor-listed, security-chip.")


def test_the_fleet_by_model_compared_and_supposed(visit: SignIn) -> None:
    page = visit("odile", at="/fleet?by=model&selection=Palm+house+slates")
    expect(page.get_by_role("row", name=re.compile("Tern Slate 2"))).to_be_visible()
    expect(page.get_by_role("region", name="Devices by model").locator("tbody tr")).to_have_count(1)
    page.get_by_label("Selection").select_option("")
    page.get_by_role("tab", name="Compare").click()
    page.get_by_label("Beside release").select_option("9.3")
    expect(page.get_by_role("row", name=re.compile("floored"))).to_contain_text("19")
    page.get_by_role("tab", name="What if").click()
    page.get_by_role("checkbox", name="Processor on the vendor's list").check()
    page.get_by_role("button", name="Count").click()
    after = page.get_by_role("region", name="Before and after")
    expect(after.get_by_role("row", name=re.compile("excepted"))).to_be_visible()


def test_a_foreign_table_is_tried_out_and_its_bad_lines_are_shown(sign_in: SignIn, tmp_path: Path) -> None:
    page = sign_in("petra", at="/readings")
    export, mapping = export_text()
    table, map_file = tmp_path / "inventory.csv", tmp_path / "map.toml"
    # In the export a chip is absent that the assessor saw on.
    table.write_text(export.replace("16,512,Enabled", "16,512,None").replace("10/01/2027", "17/01/2027"))
    map_file.write_text(mapping)
    page.get_by_label("File of readings").set_input_files(table)
    page.get_by_label("Mapping, if its columns are foreign").set_input_files(map_file)
    page.get_by_label("Only say what would change").check()
    page.get_by_label("Leave bad lines out instead of refusing the file").check()
    page.get_by_role("button", name="Try it out").click()
    expect(page.get_by_text("Nothing was changed: it was a dry run.")).to_be_visible(timeout=20_000)
    expect(page.get_by_text("security-chip on 1 device towards 9.1")).to_be_visible()
    rejected = page.get_by_role("region", name="Rejected lines").locator("tbody tr")
    expect(rejected).to_have_count(2)
    expect(rejected.first).to_contain_text("Security chip")
    expect(page).to_have_url(re.compile("import=IM-"))


def test_an_import_is_watched_and_can_be_cancelled(sign_in: SignIn, tmp_path: Path) -> None:
    page = sign_in("petra", at="/readings")
    facts = {"memory.mib": 8192, "os.platform": "tarn", "os.release": "8"}
    line = {"source": "collector", "taken_at": "2027-01-17T08:00:00", "facts": facts}
    big = tmp_path / "big.ndjson"
    with big.open("w") as file:
        for number in range(60_000):
            file.write(json.dumps({"device": f"big-{number:05d}", **line}) + "\n")
    page.get_by_label("File of readings").set_input_files(big)
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_role("progressbar", name="Checked")).to_be_visible(timeout=30_000)
    page.get_by_role("button", name="Cancel").click()
    expect(page.get_by_role("status")).to_contain_text("is cancelled", timeout=30_000)
    go(page, "/devices?words=big-00001")
    expect(page.get_by_text("No device fits. Take a filter away.")).to_be_visible()
