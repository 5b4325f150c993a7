"""Devices out of service in the console: taken out with a reason, listed with what is left to do, and back again."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn

pytestmark = pytest.mark.browser


def test_a_device_is_retired_listed_and_brought_back(sign_in: SignIn) -> None:
    page = sign_in("petra", at="/devices/nbt-103?tab=facts")
    page.get_by_text("Set aside, retire or replace it").click()
    page.get_by_label("What happens").select_option("replaced")
    page.get_by_label("Why").fill("Its board is broken.")
    page.get_by_label("By which device").fill("nbt-194")
    page.get_by_role("button", name="Replace it").click()
    expect(page.get_by_role("alert")).to_contain_text("nbt-194 is retired itself")
    page.get_by_label("By which device").fill("nbt-064")
    page.get_by_role("button", name="Replace it").click()
    banner = page.get_by_role("region", name="Not in service")
    expect(banner).to_contain_text("Replaced since 18 Jan 2027 by nbt-064. Its board is broken.")
    page.goto("/lives?life=replaced")
    row = page.get_by_role("row").filter(has_text="nbt-103")
    expect(row).to_contain_text("not erased yet")
    expect(page.get_by_role("status")).to_have_text("2 devices")
    row.get_by_role("link", name="nbt-103").click()
    page.get_by_text("Bring it back, or change what it is").click()
    page.get_by_label("What happens").select_option("replaced")
    page.get_by_label("Why").fill("Erased with the vault's tool.")
    page.get_by_label("Who erased its data").fill("petra")
    page.get_by_role("button", name="Data erased").click()
    expect(banner).to_contain_text("petra erased its data")
    page.get_by_text("Bring it back, or change what it is").click()
    page.get_by_label("What happens").select_option("in-service")
    page.get_by_label("Why").fill("It was only the fan.")
    page.get_by_role("button", name="Bring it back").click()
    expect(banner).to_have_count(0)
    page.goto("/exceptions/EX-0003")
    expect(page.get_by_text("withdrawn").first).to_be_visible()
