"""One headless Chromium per worker, and pages of people who are signed in."""

from __future__ import annotations

import os
import shutil
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, ConsoleMessage, Page, expect, sync_playwright

from doorstone.demo.seed import PASSWORD
from tests.running import Running, running

SignIn = Callable[..., Page]
expect.set_options(timeout=20_000)  # a busy machine is slow, and what is expected comes all the same
CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium") or "/usr/bin/chromium"
"""Chromium as Debian packs it; without a window of its own where that is there, as it draws a page for a third less."""
CHROMIUM_FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--font-render-hinting=none",  # letters as wide as in a window
    "--in-process-gpu",
    "--js-flags=--single-threaded",
    "--disable-site-isolation-trials",  # pages of one test after another stay in one process
    "--process-per-site",
    "--renderer-process-limit=1",
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


def go(page: Page, path: str) -> None:
    """Another address of the same service, without loading the console anew, as its links do.

    By way of one that is no page: what stands there afterwards is of the new page alone.
    """
    for each in ("/nowhere", path):
        page.evaluate(
            "path => { history.pushState(null, '', path); dispatchEvent(new PopStateEvent('popstate')) }", each
        )
        gone = page.get_by_text("There is no such page.")
        expect(gone).to_have_count(1 if each == "/nowhere" else 0)


def settled(page: Page) -> Page:
    """The page, once its heading stands there and nothing on it is still being read."""
    page.wait_for_function(READ, polling=50)
    return page


@pytest.fixture(scope="session")
def port() -> int:
    """A port of the worker's own, which no system gives away by itself."""
    for port in range(15_000 + os.getpid() % 10_000, 32_000):
        with suppress(OSError), socket.socket() as probe:
            probe.bind(("127.0.0.1", port))
            return port
    raise AssertionError("no port is free")


@pytest.fixture
def service(demo_data: Path, port: int) -> Iterator[Running]:
    """A service that a test may change, at the address of the one before: the browser has its scripts compiled."""
    with running(demo_data, port=port) as made:
        yield made


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as driver:
        opened = driver.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        yield opened
        opened.close()


class Window:
    """A page that one test after another uses, each as someone of its own: a page of a new process costs seconds."""

    def __init__(self, browser: Browser) -> None:
        self._context = browser.new_context(reduced_motion="reduce")
        self.errors: list[str] = []
        self.page = self._context.new_page()
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.page.on("console", self._hear)

    def _hear(self, message: ConsoleMessage) -> None:
        if message.type == "error" and "status of" not in message.text:
            self.errors.append(message.text)

    def open(self, service: Running, name: str, width: int, theme: str, at: str) -> Page:
        key = (str(service.data), name)  # a port may come again, a folder does not
        if key not in _COOKIES:
            signed = self._context.request.post(
                f"{service.address}/api/v1/session",
                data={"name": name, "password": PASSWORD},
                headers={"X-Doorstone-Console": "1"},
            )
            assert signed.ok, signed.text()
            _COOKIES[key] = self._context.cookies()
        self._context.clear_cookies()
        self._context.add_cookies(_COOKIES[key])
        self.page.set_default_timeout(30_000)
        self.page.set_viewport_size({"width": width, "height": 800})
        self.page.emulate_media(color_scheme="dark" if theme == "dark" else "light")
        self.page.goto(f"{service.address}{at}")
        return self.page

    def clear(self) -> None:
        """Leaves nothing to whoever comes next: no other page, route, cookie or word kept by the console."""
        for other in self._context.pages:
            if other is not self.page:
                other.close()
        self.page.unroute_all()
        self.page.evaluate("localStorage.clear(); sessionStorage.clear()")
        self.page.goto("about:blank")
        self._context.clear_cookies()
        self.errors.clear()


Windows = list[Window]
"""Those that nobody uses."""


@pytest.fixture(scope="session")
def windows() -> Windows:
    return []


@contextmanager
def _signed_in(browser: Browser, windows: Windows, service: Running) -> Iterator[SignIn]:
    """Opens the console as a person; any error that a page logs fails the test."""
    used: list[Window] = []

    def call(name: str = "petra", *, width: int = 1280, theme: str = "light", at: str = "/") -> Page:
        used.append(windows.pop() if windows else Window(browser))
        return used[-1].open(service, name, width, theme, at)

    yield call
    errors = [error for window in used for error in window.errors]
    for window in used:
        window.clear()
    windows += used
    assert errors == []


@pytest.fixture
def sign_in(browser: Browser, windows: Windows, service: Running) -> Iterator[SignIn]:
    """Pages of a service that the test may change."""
    with _signed_in(browser, windows, service) as call:
        yield call


@pytest.fixture
def visit(browser: Browser, windows: Windows, shown: Running) -> Iterator[SignIn]:
    """Pages of the shared service, for a test that only reads."""
    with _signed_in(browser, windows, shown) as call:
        yield call
