"""The console as people use it, in headless Chromium against a real service."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from doorstone.demo.fleet import build_fleet, ndjson
from doorstone.service.config import Config, open_context
from doorstone.work.people import people
from doorstone.work.context.actor import Actor
from tests.console.conftest import SignIn, go, settled
from tests.running import start_service, stop

pytestmark = pytest.mark.browser
BESIDE = ("tarn.toml", "tarn-9-processors.csv", "tarn-packed.ini")

# ------------------------------------------------------------------ the walk


def test_the_walk_as_a_person_clicks_it(sign_in: SignIn) -> None:
    # The technician finds a device that needs an exception and asks for one.
    page = sign_in("petra")
    page.get_by_role("link", name=re.compile("needs an exception")).click()
    page.get_by_label("Search").fill("climate nbt-012")
    expect(page.get_by_role("status")).to_have_text("1 device")
    page.get_by_role("link", name="nbt-012").click()
    expect(page.get_by_role("region", name="Course")).to_contain_text("Except it")
    page.get_by_role("link", name="Request an exception for 2 checks").click()
    expect(page.get_by_role("checkbox", name="Security chip, TPM 2.0, switched on")).to_be_checked()
    page.get_by_label("Reason").fill("Runs the palm house until the new controller comes.")
    page.get_by_label("Expiry").fill("2027-09-30")
    request = page.get_by_role("button", name="Request the exception")
    expect(request).to_be_disabled()
    page.get_by_label(re.compile("acknowledge both word for word")).click()
    request.click()
    expect(page).to_have_url(re.compile("/exceptions/EX-0010"))
    expect(page.get_by_text("It waits for an approver who did not ask.")).to_be_visible()
    expect(page.get_by_role("button", name="Approve")).to_have_count(0)

    # No kit before the approval.
    go(page, "/devices/nbt-012?tab=kit")
    settled(page)  # what is read above the button moves it
    page.get_by_role("button", name="Make the kit for 9.1, in-place").click()
    expect(page.get_by_role("alert")).to_contain_text("has no approved exception in force")

    # The approver finds it waiting and approves.
    approver = sign_in("anselm")
    approver.get_by_role("link", name="EX-0010").click()
    approver.get_by_label("Note").fill("Agreed until autumn.")
    approver.get_by_role("button", name="Approve").click()
    expect(approver.get_by_role("heading", name="EX-0010").locator("..")).to_contain_text("approved, in force")

    # The technician makes the kit and reads its files.
    page.get_by_role("button", name="Make the kit for 9.1, in-place").click()
    expect(page).to_have_url(re.compile(r"/kits/KT-\d+"))
    expect(page.get_by_role("heading", name="Runbook: Tarn Desktop 9.1 on nbt-012")).to_be_visible()
    page.get_by_role("button", name="settings/system.ini").click()
    expect(page.locator("pre")).to_contain_text("accept = security-chip; processor-listed")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download the kit").click()
    assert re.fullmatch(r"KT-\d+\.zip", download.value.suggested_filename)

    # The forecast now counts the approval.
    go(page, "/devices/nbt-012?tab=forecast")
    expect(page.get_by_text("until 30 Sept 2027", exact=True)).to_be_visible()
    expect(page.get_by_text("exception EX-0010 lapses on 2027-09-30.")).to_be_visible()


def test_a_declined_request_keeps_its_reason(sign_in: SignIn) -> None:
    page = sign_in("anselm", at="/exceptions/EX-0003")
    page.get_by_role("button", name="Decline").click()
    expect(page.get_by_role("alert")).to_contain_text("To decline an exception takes a reason")
    page.get_by_label("Note").fill("Replace it this spring instead.")
    page.get_by_role("button", name="Decline").click()
    expect(page.get_by_text("“Replace it this spring instead.”")).to_be_visible()
    expect(page.get_by_text("Nothing for you to decide.")).to_be_visible()


def test_a_device_that_fails_a_floor_is_offered_no_exception(visit: SignIn) -> None:
    page = visit("petra", at="/devices/nbt-030")
    expect(page.get_by_text("No exception can carry this device to 9.1.")).to_be_visible()
    expect(page.get_by_role("link", name=re.compile("Request an exception"))).to_have_count(0)
    course = page.get_by_role("region", name="Course")
    expect(course).to_contain_text("Retire")
    expect(course).to_contain_text("floor at 9.1: Instruction level x86-64-v3")


def test_an_administrator_sorts_and_sees_it_at_once(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina", at="/sorting?open=storage")
    page.get_by_label("It is").select_option("floor")
    page.get_by_label("Only for the model").fill("Orrin Box")
    page.get_by_label("Note").fill("It ran out of space on the bench.")
    page.get_by_role("button", name="Decide").click()
    expect(page.get_by_text(re.compile("SD-0002 floor for model Orrin Box"))).to_be_visible()


def test_a_viewer_is_offered_nothing_to_change(visit: SignIn) -> None:
    page = visit("odile", at="/devices/nbt-019")
    settled(page)
    expect(page.get_by_role("link", name=re.compile("Request an exception"))).to_have_count(0)
    go(page, "/devices/nbt-019?tab=kit")
    settled(page)
    expect(page.get_by_role("button", name=re.compile("Make the kit"))).to_have_count(0)
    go(page, "/sorting?open=storage")
    expect(page.get_by_text("An administrator decides how it is sorted.")).to_be_visible()


def test_a_dispute_is_shown_side_by_side(visit: SignIn) -> None:
    page = visit("odile", at="/devices/nbt-080")
    sides = page.get_by_role("region", name="nbt-080: what sources say of TPM").locator("tbody tr")
    expect(sides).to_have_text([re.compile("collector.*off.*unmet"), re.compile("assessor.*on.*met")])


def test_standing_is_shown_per_class(visit: SignIn) -> None:
    page = visit("odile", at="/devices/nbt-101?tab=after")
    row = page.get_by_role("row", name=re.compile("^release"))
    expect(row).to_contain_text("withheld")
    expect(row).to_contain_text("as expected")
    expect(page.get_by_text("Try 1: completed")).to_be_visible()


# ------------------------------------------------------ state, words, errors


def test_every_state_is_in_the_address(visit: SignIn) -> None:
    page = visit("odile", at="/devices")
    page.get_by_label("State").select_option("clear")
    page.get_by_label("Site").select_option("Visitor Gate")
    expect(page).to_have_url(re.compile(r"state=clear.*site=Visitor\+Gate"))
    expect(page.get_by_role("status")).to_have_text("7 devices")
    page.reload()
    expect(page.get_by_role("status")).to_have_text("7 devices")
    page.get_by_label("Towards release").select_option("9.2")
    expect(page).to_have_url(re.compile("release=9.2"))
    page.get_by_role("link", name="Overview").click()
    expect(page.get_by_role("heading", name="180 devices against 9.2")).to_be_visible()


def test_more_devices_are_read_on_request(visit: SignIn) -> None:
    page = visit("odile", at="/devices")
    settled(page)
    rows = page.locator("tbody tr")
    expect(rows).to_have_count(50)
    page.get_by_role("button", name="More devices").click()
    expect(rows).to_have_count(100)


def test_empty_and_missing_are_said_in_words(visit: SignIn) -> None:
    page = visit("odile", at="/devices?words=unicorn")
    expect(page.get_by_text("No device fits. Take a filter away.")).to_be_visible()
    go(page, "/devices/gone")
    expect(page.get_by_role("alert")).to_contain_text("There is no device 'gone'")
    go(page, "/exceptions?state=revoked")
    expect(page.get_by_text("No exception is revoked.")).to_be_visible()
    go(page, "/nowhere")
    expect(page.get_by_text("There is no such page.")).to_be_visible()


def test_a_wrong_password_is_said_in_words(sign_in: SignIn, live: str) -> None:
    page = sign_in("odile")
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill("odile")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Name and password do not fit")


def test_a_service_that_is_gone_is_said_in_words(visit: SignIn) -> None:
    page = visit("odile")
    page.route("**/api/v1/forecast**", lambda route: route.fulfill(status=502, body="<html>"))
    page.get_by_role("link", name="Forecast").click()
    expect(page.get_by_role("alert")).to_contain_text("The service did not answer as expected")
    page.unroute_all()
    page.get_by_role("button", name="Read again").click()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_list_beside_the_page_that_cannot_be_read_is_said_and_read_again(visit: SignIn) -> None:
    page = visit("petra")
    page.route("**/api/v1/selections", lambda route: route.fulfill(status=502, body="<html>"))
    page.get_by_role("link", name="Fixes").click()
    expect(page.get_by_role("heading", name="Fixes", level=1)).to_be_visible()
    expect(page.get_by_role("alert")).to_contain_text("Not all of this page could be read. Missing: selections.")
    page.unroute_all()
    page.get_by_role("button", name="Read again").click()
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_label("Selection").get_by_role("option", name="Palm house slates")).to_have_count(1)


# ------------------------------------------------------------------- access


def test_the_keyboard_reaches_everything(visit: SignIn) -> None:
    page = visit("petra", at="/devices/nbt-012")
    settled(page)
    page.keyboard.press("Tab")
    expect(page.get_by_role("link", name="To the page")).to_be_focused()
    page.get_by_role("tab", name="Findings").focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", name="Fixes")).to_be_focused()
    expect(page).to_have_url(re.compile("tab=fixes"))
    go(page, "/exceptions/new?device=nbt-012")
    box = page.get_by_role("checkbox", name="Security chip, TPM 2.0, switched on")
    box.focus()
    page.keyboard.press("Space")
    expect(box).to_be_checked()
    go(page, "/devices/nbt-012?tab=kit")
    page.get_by_role("radio", name="in-place").focus()
    page.keyboard.down("ArrowRight")  # held until the focus has moved, as a finger does
    expect(page.get_by_role("radio", name="clean")).to_be_focused()
    page.keyboard.up("ArrowRight")
    expect(page).to_have_url(re.compile("route=clean"))


def test_the_colours_can_be_chosen_and_are_kept(visit: SignIn) -> None:
    page = visit("odile")
    page.get_by_role("radio", name="dark").click()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")


# --------------------------------------------------- readings, records, people


def test_a_technician_imports_a_file_and_a_bad_one_changes_nothing(sign_in: SignIn, tmp_path: Path) -> None:
    page = sign_in("petra")
    page.get_by_role("link", name="Readings").click()
    bad = tmp_path / "bad.csv"
    bad.write_text("device,source,taken_at,memory.mib\nn-1,file,2027-01-17,8 Gbit\n")
    page.get_by_label("File of readings").set_input_files(bad)
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_text(re.compile("IM-0007 is refused"))).to_be_visible(timeout=20_000)
    bad_line = page.get_by_role("region", name="Rejected lines").locator("tbody tr")
    expect(bad_line).to_have_text([re.compile("2memory.mib'Gbit' is not a unit of memory.mib")])
    good = tmp_path / "good.csv"
    good.write_text("device,source,taken_at,os.platform,os.release\nn-1,file,2027-01-17,tarn,8\n")
    page.get_by_label("File of readings").set_input_files(good)
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_role("status")).to_contain_text("1 reading of 1 device, 1 of them new.", timeout=20_000)
    page.get_by_role("link", name="To the devices").click()
    page.get_by_label("Search").fill("n-1")
    expect(page.get_by_role("link", name="n-1", exact=True)).to_be_visible()


def test_an_administrator_loads_a_sheet_with_its_list(sign_in: SignIn, tmp_path: Path) -> None:
    page = sign_in("wilhelmina", at="/sheets")
    sheets = Path(__file__).parent.parent.parent / "src" / "doorstone" / "demo" / "sheets"
    wrong = tmp_path / "tarn.toml"
    wrong.write_text((sheets / "tarn.toml").read_text().replace('"cpu.arch"', '"cpu.arhc"'))
    page.get_by_label("Sheet and lists").set_input_files([wrong, sheets / "tarn-9-processors.csv", sheets / "tarn-packed.ini"])
    look = page.get_by_role("button", name="See what it changes")
    look.click()
    expect(page.get_by_role("alert")).to_contain_text("Unknown fact 'cpu.arhc'")
    page.get_by_label("Sheet and lists").set_input_files([sheets / name for name in BESIDE])
    look.click()
    expect(page.get_by_role("status")).to_have_text("This is revision 2 of Tarn Desktop, already loaded.")
    text = (sheets / "tarn.toml").read_text()
    wrong.write_text(text.replace('"disk.system_gib", at_least = 60,', '"disk.system_gib", at_least = 110,'))
    page.get_by_label("Sheet and lists").set_input_files([wrong, sheets / "tarn-9-processors.csv", sheets / "tarn-packed.ini"])
    look.click()
    expect(page.get_by_role("status")).to_contain_text("storage")
    page.get_by_role("button", name="Load it as revision 3").click()
    expect(page.get_by_role("status").filter(has_text="tarn, revision 3 is loaded.")).to_be_visible(timeout=60_000)


def test_attempts_and_observations_are_recorded_where_they_are_read(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/devices/nbt-071?tab=after")
    page.get_by_text("Record what was seen").click()
    page.get_by_role("combobox", name="Seen").select_option("not-offered")
    page.get_by_label("Because").select_option("phased")
    page.get_by_role("combobox", name="Updates").select_option("release")
    page.get_by_role("button", name="Record").first.click()
    expect(page.get_by_role("row", name=re.compile("^release"))).to_contain_text("not-offered phased")
    page.get_by_text("Record an attempt").click()
    expect(page.get_by_label("Outcome")).to_have_value("")  # nothing is filled in for the person to click through
    page.get_by_role("button", name="Record").last.click()
    expect(page.get_by_text("No attempt is recorded.")).to_be_visible()
    page.get_by_label("Outcome").select_option("completed")
    expect(page.get_by_text("nbt-071 runs 9.1 from then on, and its follow-ups begin.")).to_be_visible()
    page.get_by_label("Outcome").select_option("abandoned")
    expect(page.get_by_text("Nothing counts as tried.")).to_be_visible()
    page.get_by_label("Started").fill("2027-01-17T08:00")
    page.get_by_label("Ended").fill("2027-01-17T08:30")
    page.get_by_label("What was seen").fill("The stick was forgotten.")
    page.get_by_role("button", name="Record").last.click()
    expect(page.get_by_text("Try 1: abandoned")).to_be_visible()


def test_a_requester_edits_the_terms_and_withdraws(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/exceptions/new?device=nbt-103&requirement=security-chip&requirement=processor-listed")
    page.get_by_label("Reason").fill("Same case as nbt-101, which runs well.")
    page.get_by_label(re.compile("acknowledge both word for word")).click()
    page.get_by_role("button", name="Request the exception").click()
    page.get_by_text("Edit the terms").click()
    page.get_by_label("Owner").fill("wilhelmina")
    page.get_by_role("button", name="Keep the edit").click()
    expect(page.get_by_text(re.compile("petra edited the terms"))).to_be_visible()
    page.get_by_role("button", name="Withdraw").click()
    expect(page.get_by_text("petra withdrew the request.")).to_be_visible()


def test_people_and_tokens_are_kept_by_an_administrator(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina")
    page.get_by_role("link", name="People").click()
    page.get_by_label("Name to sign in with").fill("tamsin")
    page.get_by_label("Full name").fill("Tamsin Gale")
    page.get_by_label("Password").fill("short")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_role("alert")).to_contain_text("Use 10 to 200 characters")
    page.get_by_label("Password").fill("long enough for all")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_text("Tamsin Gale (tamsin)")).to_be_visible()
    page.get_by_label("What it is for").fill("nightly report")
    page.get_by_role("button", name="Issue for 90 days").click()
    expect(page.get_by_role("status")).to_contain_text("shown this once: ds_")
    token = page.get_by_role("listitem").filter(has_text="nightly report")
    token.get_by_role("button", name=re.compile("Revoke")).click()
    asked = page.get_by_role("alertdialog", name=re.compile(r"^Revoke TK-\d+\?$"))
    expect(asked).to_contain_text("refused from now on")
    asked.get_by_role("button", name="Cancel").click()
    expect(token).not_to_contain_text("revoked on")
    token.get_by_role("button", name=re.compile("Revoke")).click()
    asked.get_by_role("button", name="Revoke").click()
    expect(token).to_contain_text("revoked on 18 Jan 2027")


def test_a_first_administrator_starts_with_a_sheet_and_readings(browser: Any, tmp_path: Path) -> None:
    context = open_context(Config(data=tmp_path / "data"))
    people.add_person(context, Actor("local", "administrator", "local"), "first", "", "administrator", "long enough pw")
    process, address = start_service(tmp_path / "data")
    page = browser.new_page(base_url=address)
    try:
        page.goto("/")
        page.get_by_label("Name").fill("first")
        page.get_by_label("Password").fill("long enough pw")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("heading", name="Start with a sheet")).to_be_visible()
        sheets = Path(__file__).parent.parent.parent / "src" / "doorstone" / "demo" / "sheets"
        page.get_by_label("Sheet and lists").set_input_files([sheets / name for name in BESIDE])
        page.get_by_role("button", name="See what it changes").click()
        expect(page.get_by_role("status")).to_have_text("This is the first sheet of Tarn Desktop.")
        page.get_by_role("button", name="Load it as revision 1").click()
        expect(page.get_by_text("No device has been read yet.")).to_be_visible()
        page.get_by_role("link", name="Readings page").click()
        fleet = tmp_path / "fleet.ndjson"
        fleet.write_text(ndjson(build_fleet()))
        page.get_by_label("File of readings").set_input_files(fleet)
        page.get_by_role("button", name="Import").click()
        expect(page.get_by_role("status")).to_contain_text("244 readings of 180 devices, 180 of them new.", timeout=30_000)
    finally:
        page.close()
        assert stop(process) == 0


def test_the_list_of_pages_shows_where_one_is(visit: SignIn) -> None:
    page = visit("wilhelmina", at="/webhooks")
    listed = page.get_by_role("navigation", name="Pages")
    expect(listed.get_by_role("link", name="Webhooks")).to_be_in_viewport(ratio=0.95)
    go(page, "/uncovered")
    expect(listed.locator("[data-beside]")).to_have_text("Exceptions")
