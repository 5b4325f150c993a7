"""Every page: axe finds nothing in light and in dark, nothing spills over at 390 wide, in one visit."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.console.conftest import SignIn, go, settled

pytestmark = pytest.mark.browser
AXE = Path(__file__).parent.parent.parent / "console" / "node_modules" / "axe-core" / "axe.min.js"
RULES = {"type": "tag", "values": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]}
COLOURS = {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}
"""What can differ between two themes of the same page."""
PAGES = {
    "the beginning": ["/", "/sheets", "/tasks?state=all", "/readings", "/readings?import=IM-0004", "/disputes", "/me"],
    "devices": ["/devices", "/devices?state=unsettled", "/devices/nbt-012", "/devices/nbt-080", "/fixes", "/ledger"],
    "one device": [
        "/devices/nbt-030?tab=findings",
        "/devices/nbt-012?tab=facts",
        "/devices/nbt-019?tab=fixes",
        "/devices/nbt-101?tab=exceptions",
        "/devices/nbt-047?tab=exceptions",
        "/devices/nbt-012?tab=kit",
        "/devices/nbt-101?tab=after",
        "/devices/nbt-021?tab=forecast",
        "/devices/nbt-195?tab=facts",
    ],
    "the fleet": ["/sorting?open=security-chip", "/fleet", "/fleet?view=compare", "/fleet?view=what-if", "/people", "/doctor?deep=1"],
    "exceptions": ["/exceptions", "/exceptions/EX-0001", "/exceptions/EX-0005", "/exceptions/EX-0006", "/due?all=1", "/uncovered", "/unplaced", "/lives"],
    "requests": [
        "/exceptions/EX-0008",
        "/exceptions/new?device=nbt-012",
        "/exceptions/new?renews=EX-0001",
        "/exceptions/new?selection=Palm+house+slates",
        "/webhooks",
    ],
    "upgrades": ["/media", "/kits", "/kits/KT-0002", "/forecast", "/plan", "/budget-paper"],
}


def axe(page: Page, rules: dict[str, Any], *, left_out: Sequence[str] = ()) -> list[tuple[str, str]]:
    """What axe finds: the rule and the element. Of a long table it looks at eight rows: the others are drawn alike."""
    found: dict[str, Any] = page.evaluate(
        """([rules, exclude]) => axe.run({ exclude }, { runOnly: rules, resultTypes: ["violations"], preload: false })""",
        [rules, [["tbody tr:nth-of-type(n+9)"], *([one] for one in left_out)]],
    )
    return [(v["id"], node["html"][:120]) for v in found["violations"] for node in v["nodes"]]


@pytest.mark.parametrize("group", PAGES)
def test_pages_are_accessible_in_both_themes_and_fit_a_narrow_screen(visit: SignIn, group: str) -> None:
    page = visit("wilhelmina", at="/me")
    settled(page).evaluate(AXE.read_text())
    found: dict[str, object] = {}
    for path in PAGES[group]:
        menu = [] if path == "/" else ["nav"]  # which is the same on every page
        page.set_viewport_size({"width": 1280, "height": 800})
        page.emulate_media(color_scheme="light")
        go(page, path)
        settled(page)
        found[f"{path} is not whole"] = page.get_by_text("Not all of this page could be read").all_inner_texts()
        found[f"{path} in light"] = axe(page, RULES, left_out=menu)
        page.emulate_media(color_scheme="dark")
        expect(page.locator("html")).to_have_attribute("data-theme", "dark")
        found[f"{path} in dark"] = axe(page, COLOURS, left_out=menu)
        page.set_viewport_size({"width": 390, "height": 800})
        width = page.evaluate("document.documentElement.scrollWidth")
        found[f"{path} is wide"] = [] if width <= 390 else [width]
    assert {place: problems for place, problems in found.items() if problems} == {}


def test_signing_in_is_accessible(browser: Browser, live: str) -> None:
    page = browser.new_page(base_url=live)
    page.goto("/")
    expect(page.get_by_label("Name")).to_be_visible()
    page.evaluate(AXE.read_text())
    assert axe(page, RULES) == []
    page.close()
