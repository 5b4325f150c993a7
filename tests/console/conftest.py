"""A headless Chromium and signed-in pages."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from doorstone.demo.seed import PASSWORD
from tests.running import CHROMIUM, CHROMIUM_FLAGS

SignIn = Callable[..., Page]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as driver:
        opened = driver.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        yield opened
        opened.close()


@pytest.fixture
def sign_in(browser: Browser, live: str) -> Iterator[SignIn]:
    """Opens the console as a person; any error that the page logs fails the test."""
    errors: list[str] = []
    contexts = []

    def call(name: str = "petra", *, width: int = 1280, theme: str = "light", at: str = "/") -> Page:
        context = browser.new_context(
            base_url=live,
            viewport={"width": width, "height": 800},
            color_scheme="dark" if theme == "dark" else "light",
            reduced_motion="reduce",
        )
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(15_000)
        page.on("pageerror", lambda error: errors.append(str(error)))
        page.on("console", lambda m: errors.append(m.text) if m.type == "error" and "status of" not in m.text else None)
        page.goto(at)
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("button", name="Sign out")).to_be_visible()
        return page

    yield call
    for context in contexts:
        context.close()
    assert errors == []
