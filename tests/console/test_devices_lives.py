"""Devices out of service in the console: taken out with a reason, listed with what is left to do, and back again."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn, go

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
    go(page, "/lives?life=replaced")
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
    go(page, "/exceptions/EX-0003")
    expect(page.get_by_text("withdrawn").first).to_be_visible()


def test_many_devices_move_or_retire_after_each_was_seen(sign_in: SignIn) -> None:
    page = sign_in("anselm", at="/devices")
    page.get_by_text("Many at once").click()
    page.get_by_label("And these devices").fill("nbt-101, nbt-104 nbt-999")
    page.get_by_label("New site").fill("Library")
    page.get_by_label("Why").fill("The stacks move.")
    page.get_by_role("button", name="See what happens").click()
    expect(page.get_by_role("alert")).to_contain_text("There is no device 'nbt-999'")
    page.get_by_label("And these devices").fill("nbt-101, nbt-104")
    page.get_by_role("button", name="See what happens").click()
    happens = page.get_by_role("region", name="What happens")
    expect(happens.get_by_role("row", name="nbt-101")).to_contain_text("is Library")
    expect(happens.get_by_role("row", name="nbt-101")).to_contain_text("look again at EX-0001")
    page.get_by_role("button", name="Do it for 2 devices").click()
    expect(page.get_by_text("2 devices changed.")).to_be_visible()
    go(page, "/devices?site=Library")
    expect(page.get_by_role("region", name="Devices").locator("tbody tr")).to_have_count(2)
