"""The pages of exceptions, what is due, oneself, webhooks and people, as the people of Northmere use them."""

from __future__ import annotations

import time
import re
from pathlib import Path

import httpx
import pyotp
import pytest
from icalendar import Calendar
from playwright.sync_api import expect

from doorstone.demo.seed import PASSWORD
from tests.console.conftest import SignIn, go

pytestmark = pytest.mark.browser


def test_a_selection_is_asked_for_and_who_cannot_have_it_is_left_out(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/exceptions/new?selection=Palm+house+slates")
    page.get_by_label("The same requirements for all, as ticked").check()
    page.get_by_role("checkbox", name="6 GiB of memory asked by set-up").check()
    page.get_by_label(re.compile("^Devices")).fill("nbt-064")
    page.get_by_role("button", name="Who could have it?").click()
    answer = page.get_by_role("status").filter(has_text="could have it")
    expect(answer).to_contain_text("nbt-064, memory-set-up: 6 GiB of memory asked by set-up: the device meets it")
    page.get_by_label("Leave out the devices that cannot have it").check()
    page.get_by_label("Reason").fill("The slates show labels in the palm house.")
    page.get_by_role("button", name="Add a condition").click()
    page.get_by_label("What is to be kept").fill("They stay in the palm house")
    page.get_by_role("button", name="Add a condition").click()
    page.get_by_label("Condition 2, kept when").select_option("the disk is encrypted")
    page.get_by_label(re.compile("acknowledge both word for word")).check()
    page.get_by_role("button", name="Request the exception").click()
    expect(page.get_by_role("heading", name="EX-0010")).to_be_visible()
    kept = page.get_by_role("region").or_(page.locator("section")).filter(has_text="Conditions to keep").last
    expect(kept).to_contain_text("They stay in the palm house")
    expect(kept).to_contain_text("disk.encrypted yes")


def test_each_device_of_a_selection_gets_what_it_needs_in_the_fewest_exceptions(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/exceptions/new?selection=Palm+house+slates")
    page.get_by_label(re.compile("^Devices")).fill("nbt-101")
    page.get_by_role("button", name="What would be requested?").click()
    said = page.get_by_role("status").filter(has_text="would be requested")
    expect(said).to_contain_text(re.compile(r"\d+ exceptions? would be requested for \d+ devices?, none for \d+\."))
    expect(said).to_contain_text("memory-set-up")
    page.get_by_label("Reason").fill("The slates show labels in the palm house.")
    page.get_by_label(re.compile("acknowledge both word for word")).check()
    page.get_by_role("button", name="Request the exceptions").click()
    expect(page.get_by_role("link", name="EX-0010")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("EX-0010.*memory-set-up"))).to_be_visible()


def test_an_approver_asks_back_approves_a_part_and_attests(sign_in: SignIn) -> None:
    approver = sign_in("anselm", at="/exceptions/EX-0003")
    approver.get_by_label("Comment").fill("Is the desk to be replaced?")
    approver.get_by_label("Ask the requester back; it waits for the answer").check()
    approver.get_by_role("button", name="Ask back").click()
    expect(approver.get_by_text(", asked back")).to_be_visible()
    petra = sign_in("petra", at="/due")
    petra.get_by_role("link", name="EX-0003").click()
    petra.get_by_label("Your answer").fill("In autumn.")
    petra.get_by_role("button", name="Answer").click()
    expect(petra.get_by_text("petra answered: “In autumn”.")).to_be_visible()
    approver.reload()
    approver.get_by_text("Approve only a part").click()
    approver.get_by_label("processor-listed").uncheck()
    approver.get_by_role("button", name="Approve").click()
    expect(approver.get_by_role("alert")).to_contain_text("takes a reason for the rest")
    approver.get_by_label("Note").fill("The list is looked at apart.")
    approver.get_by_role("button", name="Approve").click()
    expect(approver.get_by_text("Asked for and not approved")).to_be_visible()


def test_the_second_of_two_approvers_finishes_it(sign_in: SignIn) -> None:
    anselm = sign_in("anselm", at="/exceptions/EX-0006")
    expect(anselm.get_by_text("You have approved it; it waits for another approver.")).to_be_visible()
    expect(anselm.get_by_role("button", name="Approve")).to_have_count(0)
    wilhelmina = sign_in("wilhelmina", at="/exceptions/EX-0006")
    wilhelmina.get_by_role("button", name="Approve").click()
    expect(wilhelmina.get_by_text("Approved by wilhelmina")).to_be_visible()
    wilhelmina.get_by_role("button", name=re.compile("It is kept")).click()
    expect(wilhelmina.get_by_text("attested on 2027-01-18")).to_be_visible()


def test_what_is_stale_gets_a_second_look(sign_in: SignIn) -> None:
    page = sign_in("anselm", at="/exceptions/EX-0005")
    expect(page.get_by_role("region", name="Stale")).to_contain_text("storage: disk.system_gib was 58 GiB, is 29 GiB")
    page.get_by_text("What if it is revoked?").click()
    expect(page.get_by_text("No device relies on it.")).to_be_visible()
    page.get_by_label("Note").fill("Tried with the smaller disk.")
    page.get_by_role("button", name="Let it stand").click()
    expect(page.get_by_role("region", name="Stale")).to_have_count(0)
    go(page, "/devices/nbt-047?tab=exceptions")
    expect(page.get_by_role("listitem").filter(has_text="64 GB system disk")).to_contain_text("permitted")


def test_an_owner_is_replaced_and_what_lapsed_is_shown(sign_in: SignIn) -> None:
    page = sign_in("anselm", at="/due")
    page.get_by_role("row", name=re.compile("owner joss has left")).get_by_role("link").click()
    page.get_by_text("Review it, renew it, or make somebody else answer for it").click()
    page.get_by_label("Who is to answer for it").select_option("Petra Lindqvist-Oake")
    page.get_by_role("button", name="Transfer").click()
    expect(page.get_by_text("anselm made petra the owner instead of joss.")).to_be_visible()
    go(page, "/exceptions/EX-0008")
    expect(page.get_by_text("doorstone noted that it lapsed on 2027-01-18, after its last day.")).to_be_visible()


def test_the_page_to_print_opens_with_its_own_policy(visit: SignIn) -> None:
    page = visit("odile", at="/exceptions/EX-0001")
    with page.context.expect_page() as opened:
        page.get_by_role("link", name="Page to print").click()
    sheet = opened.value
    expect(sheet.get_by_role("heading", name="Exception EX-0001")).to_be_visible()
    assert sheet.evaluate("getComputedStyle(document.querySelector('h2')).borderBottomStyle") == "solid"


def test_evidence_is_attached_with_the_hash_of_a_file(sign_in: SignIn, tmp_path: Path) -> None:
    page = sign_in("petra", at="/exceptions/EX-0001")
    file = tmp_path / "order.txt"
    file.write_text("one station\n")
    page.get_by_text("Attach by link").click()
    page.get_by_label("What it is").fill("The order")
    page.get_by_label("Link", exact=True).fill("https://northmere.example/orders/9")
    page.get_by_label("The same as a file").set_input_files(file)
    page.get_by_role("button", name="Attach").click()
    item = page.get_by_role("listitem").filter(has_text="SHA-256")
    expect(item).to_contain_text("cd9ad1c53afc0087d273fbf84c1eda5298837990e3a0f7ebcb762c45949998fb")


def test_oneself_is_told_and_has_a_calendar(sign_in: SignIn, live: str) -> None:
    page = sign_in("petra")
    page.get_by_role("link", name="Petra Lindqvist-Oake").click()
    page.get_by_label("Mail address").fill("petra@northmere.example")
    page.get_by_label("I am asked back").check()
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_label("I am asked back")).to_be_checked()
    page.get_by_role("button", name="Make an address").click()
    address = page.get_by_role("status").locator("code").inner_text().strip()
    feed = httpx.get(address)
    assert feed.status_code == 200
    assert Calendar.from_ical(feed.text).walk("VEVENT")
    page.get_by_role("button", name="Revoke it").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Revoke it").click()
    expect(page.get_by_role("button", name="Make an address")).to_be_visible()
    assert httpx.get(address).status_code == 404


def test_hooks_are_added_tried_and_removed(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina")
    page.get_by_role("link", name="Webhooks").click()
    page.get_by_label("Address").fill("http://127.0.0.1:9/told")
    page.get_by_label("Events").fill("weather")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("There are no events 'weather'")
    page.get_by_label("Events").fill("exception, kit")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("status").filter(has_text="shown this once")).to_contain_text("dh_")
    page.get_by_role("button", name=re.compile("Try")).click()
    page.get_by_role("button", name=re.compile("Log")).click()
    expect(page.get_by_role("row", name=re.compile("webhook.tried"))).to_be_visible()
    page.get_by_role("button", name=re.compile("Remove")).click()
    page.get_by_role("alertdialog").get_by_role("button", name="Remove").click()
    expect(page.get_by_text(re.compile("^removed"))).to_be_visible()


def test_a_person_gets_a_greater_role_at_a_site_and_leaves(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina", at="/people")
    odile = page.get_by_role("listitem").filter(has_text="Odile Marchbank")
    odile.get_by_text("Change").click()
    odile.get_by_label("Greater at").select_option("Herbarium")
    odile.get_by_role("button", name="Set it for the site").click()
    expect(odile).to_contain_text("technician at Herbarium")
    odile.get_by_text("Change").click()
    odile.get_by_role("button", name="Shut odile out").click()
    asked = page.get_by_role("alertdialog", name="Shut odile out?")
    expect(asked).to_contain_text("their tokens and calendar address stop working at once")
    asked.get_by_role("button", name="Shut odile out").click()
    expect(page.get_by_text("Odile Marchbank")).to_have_count(0)


def test_an_approver_changes_what_rules_rest_on_and_the_approval_is_stale(sign_in: SignIn) -> None:
    technician = sign_in("petra", at="/devices/nbt-013?tab=facts")
    expect(technician.get_by_role("region", name="Facts")).to_be_visible()
    expect(technician.get_by_text("Change site, role or criticality")).to_have_count(0)
    page = sign_in("anselm", at="/devices/nbt-013?tab=facts")
    page.get_by_text("Change site, role or criticality").click()
    change = page.get_by_role("button", name="Change it")
    expect(change).to_be_disabled()
    page.get_by_label("Critical to the organisation").check()
    page.get_by_label("Why").fill("The house's climate log moved here.")
    change.click()
    expect(page.get_by_text("· critical")).to_be_visible()
    go(page, "/exceptions/EX-0005")
    expect(page.get_by_role("region", name="Stale")).to_contain_text("critical was no, is yes")


def test_sign_ins_are_listed_for_administrators(sign_in: SignIn) -> None:
    page = sign_in("wilhelmina", at="/people")
    expect(page.get_by_role("listitem").filter(has_text="wilhelmina signed in")).to_be_visible()
    other = sign_in("anselm", at="/people")
    expect(other.get_by_role("heading", name="Tokens")).to_be_visible()
    expect(other.get_by_role("heading", name="Sign-ins")).to_have_count(0)


def test_a_second_factor_is_set_up_and_asked_for(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/me")
    page.get_by_role("button", name="Set one up").click()
    made = pyotp.parse_uri(page.get_by_role("status").locator("code").inner_text())
    assert isinstance(made, pyotp.TOTP)
    page.get_by_label("The code that it shows now").fill(made.now())
    page.get_by_role("button", name="Confirm it").click()
    expect(page.get_by_text("It is set.")).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill("petra")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("A code is needed as well")
    page.get_by_label("Code").fill(made.at(int(time.time()) + 30))  # a code counts once
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
