"""The list of devices: filters that are chosen together, rows that are written over, strips that name their stones."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import urljoin

import pytest
from playwright.sync_api import Page, expect

from tests.console.conftest import SignIn

pytestmark = pytest.mark.browser

WORDS = {"met": "met", "fixable": "fixable", "installer-check": "installer check", "floor": "floor"}
CHOOSE = """(wanted) => {
  const setter = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set;
  for (const [label, value] of wanted) {
    const field = [...document.querySelectorAll("label")].find((one) => one.textContent.startsWith(label));
    const select = field.querySelector("select") ?? document.getElementById(field.htmlFor);
    setter.call(select, value);
    select.dispatchEvent(new Event("change", { bubbles: true }));
  }
}"""


def listed(page: Page, **where: str) -> list[dict[str, Any]]:
    """The items that the API lists to the person who is signed in."""
    answer = page.request.get(urljoin(page.url, "/api/v1/devices"), params={"platform": "tarn", "release": "9.1", **where})
    items: list[dict[str, Any]] = answer.json()["items"]
    return items


def test_two_filters_chosen_in_one_breath_both_hold(visit: SignIn) -> None:
    page = visit("odile", at="/devices?platform=tarn&release=9.1")
    expect(page.locator("tbody tr")).to_have_count(50)
    page.evaluate(CHOOSE, [["Site", "Herbarium"], ["State", "floored"], ["Role", "cataloguing"]])
    expect(page).to_have_url(re.compile("site=Herbarium"))
    expect(page).to_have_url(re.compile("state=floored"))
    expect(page).to_have_url(re.compile("role=cataloguing"))
    total = len(listed(page, site="Herbarium", state="floored", role="cataloguing"))
    expect(page.get_by_role("status")).to_have_text(f"{total} devices")


def test_another_filter_writes_the_right_devices_over_the_rows_that_stood_there(visit: SignIn) -> None:
    page = visit("odile", at="/devices?platform=tarn&release=9.1")
    for state in ("floored", "clear", "fixable"):
        page.get_by_label("State").select_option(state)
        wanted = listed(page, state=state)
        expect(page.locator("tbody tr")).to_have_count(len(wanted))
        links = page.locator("tbody tr td:first-child a")
        expect(links).to_have_text([item["id"] for item in wanted])
        assert [
            (link.get_attribute("href") or "").partition("?")[0] for link in links.all()
        ] == [f"/devices/{item['id']}" for item in wanted]  # fmt: skip
        for row, item in zip(page.locator("tbody tr").all(), wanted, strict=True):
            expect(row).to_contain_text(item["model"])
            expect(row.get_by_role("img")).to_have_attribute("aria-label", sentence(item["marks"]))


def sentence(marks: dict[str, str]) -> str:
    unmet = [f"{name}: {WORDS.get(mark, mark)}" for name, mark in marks.items() if mark != "met"]
    return ", ".join(unmet) or "every requirement met"


def test_a_strip_names_its_stones_once_somebody_points_at_it(visit: SignIn) -> None:
    page = visit("odile", at="/devices?platform=tarn&release=9.1&words=nbt-101")
    (item,) = listed(page, words="nbt-101")
    strip = page.locator("tbody tr").get_by_role("img")
    kinds = set(item["marks"].values())
    expect(strip.locator("path")).to_have_count(len(kinds))  # one path per kind of mark
    expect(strip.locator("title")).to_have_count(0)
    strip.hover()
    told = [f"{name}: {WORDS.get(mark, mark)}" for name, mark in item["marks"].items()]
    expect(strip.locator("title")).to_have_text(told)
    page.get_by_role("heading", name="Devices").hover()
    expect(strip.locator("title")).to_have_count(0)
