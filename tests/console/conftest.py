"""One headless Chromium per worker, and pages of people who are signed in."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from doorstone.demo.seed import PASSWORD
from tests.running import Running

SignIn = Callable[..., Page]
expect.set_options(timeout=20_000)  # a busy machine is slow, and what is expected comes all the same
CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
CHROMIUM_FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
_COOKIES: dict[tuple[str, str], Any] = {}
"""The session of a person at a service, begun once."""
READ = """() => document.querySelector("h1") !== null
  && ![...document.querySelectorAll("[role=status]")].some((one) => /^Reading .*…$/.test(one.textContent))"""


def settled(page: Page) -> Page:
    """The page, once its heading stands there and nothing on it is still being read."""
    page.wait_for_function(READ)
    return page


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as driver:
        opened = driver.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        yield opened
        opened.close()


@contextmanager
def _signed_in(browser: Browser, service: Running) -> Iterator[SignIn]:
    """Opens the console as a person; any error that a page logs fails the test."""
    errors: list[str] = []
    contexts: list[BrowserContext] = []

    def call(name: str = "petra", *, width: int = 1280, theme: str = "light", at: str = "/") -> Page:
        context = browser.new_context(
            base_url=service.address,
            viewport={"width": width, "height": 800},
            color_scheme="dark" if theme == "dark" else "light",
            reduced_motion="reduce",
        )
        contexts.append(context)
        key = (str(service.data), name)  # a port may come again, a folder does not
        if key not in _COOKIES:
            signed = context.request.post(
                "/api/v1/session", data={"name": name, "password": PASSWORD}, headers={"X-Doorstone-Console": "1"}
            )
            assert signed.ok, signed.text()
            _COOKIES[key] = context.cookies()
        context.add_cookies(_COOKIES[key])
        page = context.new_page()
        page.set_default_timeout(30_000)
        page.on("pageerror", lambda error: errors.append(str(error)))
        page.on("console", lambda m: errors.append(m.text) if m.type == "error" and "status of" not in m.text else None)
        page.goto(at)
        return page

    yield call
    for context in contexts:
        context.close()
    assert errors == []


@pytest.fixture
def sign_in(browser: Browser, service: Running) -> Iterator[SignIn]:
    """Pages of a service that the test may change."""
    with _signed_in(browser, service) as call:
        yield call


@pytest.fixture
def visit(browser: Browser, shown: Running) -> Iterator[SignIn]:
    """Pages of the shared service, for a test that only reads."""
    with _signed_in(browser, shown) as call:
        yield call
