"""What comes after an upgrade, in the console: follow-ups, drift, scenarios, what if, a plan, media."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn, go

pytestmark = pytest.mark.browser


def test_what_ends_going_back_is_asked_a_second_time(sign_in: SignIn) -> None:
    page = sign_in(at="/devices/nbt-102?tab=after")
    step = page.get_by_role("listitem").filter(has_text="The previous release's folder is removed")
    step.get_by_text("Record the outcome").click()
    record = step.get_by_role("button", name="Record")
    expect(record).to_be_disabled()
    step.get_by_label("This ends going back, and is meant").check()
    record.click()
    expect(step).to_contain_text("done")
    expect(step).to_contain_text("petra, 18 Jan 2027")


def test_drift_attribution_and_history_stand_beside_the_standing(visit: SignIn) -> None:
    page = visit(at="/devices/nbt-102?tab=after")
    expect(page.get_by_text("Drifted since: setup/compat/accept was right, is missing.")).to_be_visible()
    expect(page.get_by_text("alone makes driver updates")).to_be_visible()
    expect(page.get_by_role("img", name="Seen from 16 Nov 2026 to 19 Nov 2026")).to_be_visible()


def test_a_viewer_sees_follow_ups_and_can_record_nothing(visit: SignIn) -> None:
    page = visit("odile", at="/devices/nbt-101?tab=after")
    expect(page.get_by_text("How it runs")).to_be_visible()
    expect(page.get_by_text("Record the outcome")).to_have_count(0)


def test_a_device_under_three_assumptions_and_what_its_ways_cost(visit: SignIn) -> None:
    page = visit(at="/devices/nbt-012?tab=forecast")
    expect(page.get_by_text("it is the last release published by 2027-01-18.")).to_be_visible()
    row = page.get_by_role("row").filter(has_text="Carry by exception")
    expect(row).to_contain_text("30 Nov 2027")
    expect(row).to_contain_text("111.72")
    expect(row).to_contain_text("12.41")


def test_what_if_an_override_went_on(visit: SignIn) -> None:
    page = visit(at="/forecast")
    page.get_by_label("The override").fill("compat-drop-in")
    page.get_by_role("button", name="Suppose").click()
    expect(page.get_by_text("Nothing was changed.")).to_contain_text(re.compile(r"[1-9]\d* devices? stay serviced longer, 0 "))
    page.get_by_label("The override").fill("no-such")
    page.get_by_role("button", name="Suppose").click()
    expect(page.get_by_role("alert")).to_contain_text("does not know 'no-such'")


def test_a_plan_follows_its_budget_and_stands_in_the_address(visit: SignIn) -> None:
    page = visit(at="/plan?budget=0")
    expect(page.get_by_role("status")).to_contain_text("0 of 0 buys 497.6 serviced device-months for 180 devices")
    page.get_by_label("Budget").fill("5000")
    expect(page.get_by_role("status")).to_contain_text("4987.2 of 5000 buys 2580")
    page.get_by_label("paid servicing").click()
    expect(page).to_have_url(re.compile("without=extend"))
    expect(page.get_by_role("table", name="")).not_to_contain_text("paid servicing")


def test_the_media_and_their_plan(visit: SignIn) -> None:
    page = visit(at="/media")
    expect(page.get_by_role("row").filter(has_text="MD-0003")).to_contain_text("it holds 9.0, though 9.1 was asked for")
    expect(page.get_by_text("no media of 9.1 with desk is in cy")).to_be_visible()
    page.get_by_label("Site").select_option("Orrin Field Station")
    expect(page.get_by_role("heading", name="MD-0001: 9.1, en")).to_be_visible()
    expect(page.get_by_role("heading", name="MD-0002")).to_have_count(0)


def test_a_kit_with_other_media_and_settings_for_afterwards(sign_in: SignIn) -> None:
    page = sign_in(at="/devices/nbt-021?tab=kit")
    gate = page.get_by_role("listitem").filter(has_text="Base language equals the media's")
    expect(gate).to_contain_text("holds")
    page.get_by_label("Media").select_option("MD-0002")
    expect(gate).to_contain_text("stops")
    page.get_by_label("Carried over").select_option("files")
    expect(gate).to_contain_text("holds")
    page.get_by_label("Northmere's start-up settings").check()
    page.get_by_role("button", name="Make the kit for 9.1, in-place").click()
    expect(page.get_by_role("button", name="after/system.ini")).to_be_visible()


def test_a_days_attempts_are_recorded_all_or_none(sign_in: SignIn) -> None:
    page = sign_in(at="/kits")
    lines = page.get_by_label("One a line, in the order of the first line")
    expect(page.get_by_text("attempts completed").first).to_be_visible()  # until all is there, the button moves
    first = "device,kit,outcome,refused_by,started_at,ended_at,media,tool_version,seen\n"
    good = 'nbt-071,,abandoned,,2027-01-18T06:00,2027-01-18T06:20,MD-0001,set-up 9.1.3,"The power, all of it, went."'
    lines.fill(f"{first}{good}\nnbt-999,,completed,,2027-01-18T07:00,2027-01-18T07:20,,,")
    page.get_by_role("button", name="Record them").click()
    expect(page.get_by_role("alert")).to_contain_text("line 3, nbt-999: There is no device")
    lines.fill(first + good)
    page.get_by_role("button", name="Record them").click()
    expect(page.get_by_text("1 attempt recorded.")).to_be_visible()
    go(page, "/devices/nbt-071?tab=after")
    expect(page.get_by_text("The power, all of it, went.", exact=True)).to_be_visible()


def test_the_plan_is_saved_as_a_table(visit: SignIn) -> None:
    page = visit(at="/plan?budget=1000")
    with page.expect_download() as download:
        page.get_by_role("button", name="As a table (CSV)").click()
    assert download.value.suggested_filename == "plan.csv"
    text = download.value.path().read_text()
    assert text.splitlines()[0] == "way,model,count,each,cost,months_each,how"
