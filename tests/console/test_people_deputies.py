"""Deputies in the console: named on one's own page, chosen in the frame, shown on what they decided."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn

pytestmark = pytest.mark.browser


def test_a_deputy_is_named_and_decides_in_the_persons_place(sign_in: SignIn) -> None:
    page = sign_in("anselm", at="/me")
    page.get_by_label("Who decides in my place").select_option("odile")
    page.get_by_label("Why").fill("I am on leave.")
    page.get_by_label("Last day").fill("2027-01-29")
    page.get_by_role("button", name="Name my deputy").click()
    expect(page.get_by_text("18 Jan 2027 through 29 Jan 2027, today: I am on leave.")).to_be_visible()
    other = sign_in("odile", at="/exceptions/EX-0003")
    expect(other.get_by_role("button", name="Approve")).to_have_count(0)
    other.get_by_label("Acting for").select_option("anselm")
    expect(other.get_by_text("Odile Marchbank, in place of anselm")).to_be_visible()
    other.get_by_role("button", name="Approve").first.click()
    expect(other.get_by_text("Approved by odile, in place of anselm")).to_be_visible()
    other.get_by_label("Acting for").select_option("myself")
    expect(other.get_by_role("link", name="Odile Marchbank")).to_be_visible()
