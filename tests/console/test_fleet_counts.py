"""Counts agree from page to page: overview, device list, fleet and who runs what without permission."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.console.conftest import SignIn, go, settled

STATES = ("clear", "fixable", "excepted", "needs-exception", "floored", "unsettled")
WORDS = {"needs-exception": "needing an exception"}


def devices(page: Page) -> int:
    """How many devices the page says that it lists."""
    return int(re.match(r"([\d,]+) devices?", page.get_by_role("status").first.inner_text())[1].replace(",", ""))  # type: ignore[index]


def test_pages_count_the_same_devices(visit: SignIn) -> None:
    page = settled(visit("odile", at="/"))
    tiles = {state: page.locator(f'a[href="/devices?state={state}"]').inner_text() for state in STATES}
    counts = {state: int(text.split()[0]) for state, text in tiles.items()}
    assert sum(counts.values()) == 180
    bars = [one.get_attribute("aria-label") or "" for one in page.locator("section", has_text="Sites").get_by_role("img").all()]
    excepted = [int(found[1]) for bar in bars if (found := re.search(r"(\d+) excepted", bar))]
    assert sum(excepted) == counts["excepted"] > 0
    without = int(re.match(r"\d+", page.get_by_role("link", name=re.compile(r"^\d+ devices?$")).inner_text())[0])  # type: ignore[index]
    for state in STATES:
        go(page, f"/devices?state={state}")
        assert devices(settled(page)) == counts[state], state
    for by in ("site", "model", "role", "runs"):
        go(page, f"/fleet?by={by}")
        settled(page)
        for state in STATES:
            expect(page.get_by_text(re.compile(rf"\b{counts[state]} {WORDS.get(state, state)}")).first).to_be_visible()
    go(page, "/uncovered")
    assert devices(settled(page)) == without
