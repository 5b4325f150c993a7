"""Measures of the console in headless Chromium: what it loads first, and from an answer to what is drawn of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from playwright.sync_api import Page, sync_playwright
from tests.console.conftest import CHROMIUM

from benchmarks.fleet import PLATFORM, ROLES, SITES, TARGET, device
from benchmarks.load import percentile, service
from benchmarks.measures import Row, bound
from benchmarks.records import PASSWORD, Records

FLAGS = ["--no-sandbox", "--disable-gpu"]  # tests save processor time with more, at the cost of what is measured here
WATCH = """
window.answered = 0;
new PerformanceObserver((list) => {
  for (const entry of list.getEntries()) {
    if (/\\/api\\/v1\\/devices[?/]/.test(entry.name)) window.answered = Math.max(window.answered, entry.responseEnd);
  }
}).observe({ type: "resource", buffered: true });
"""
MORE = "[...document.querySelectorAll('button')].find((one) => one.textContent === 'More devices').click()"
OPEN = "(name) => [...document.querySelectorAll('a')].find((one) => one.textContent === name).click()"
DRAWN = """(wanted) => new Promise((done) => {
  const look = () => {
    const [selector, test, value] = wanted;
    const found = [...document.querySelectorAll(selector)].map((one) => one.textContent);
    const shown = {
      rows: () => found.length >= value,
      all: () => found.length > 0 && found.every((text) => text.startsWith(value)),
      some: () => found.some((text) => text.includes(value)),
    };
    if (shown[test]()) {
      requestAnimationFrame(() => setTimeout(() => answered(performance.now()), 0));
    } else {
      requestAnimationFrame(look);
    }
  };
  const answered = (drawn) => {
    if (window.answered > 0) done(drawn - window.answered);
    else setTimeout(() => answered(drawn), 10);
  };
  look();
})"""


def console(records: Records, times: int = 20) -> Iterator[Row]:
    with service(records.folder) as (port, _), sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        page = browser.new_context(
            base_url=f"http://127.0.0.1:{port}", viewport={"width": 1280, "height": 800}
        ).new_page()
        page.set_default_timeout(30_000)
        page.add_init_script(WATCH)
        page.goto("/")
        page.get_by_label("Name").fill("bench")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("button", name="Sign out").wait_for()
        loaded = page.evaluate(
            "performance.getEntriesByType('resource').filter((e) => e.name.endsWith('.js'))"
            ".reduce((sum, e) => sum + e.encodedBodySize, 0)"
        )
        yield bound("console: script bytes on first load, compressed", loaded / 1024, 250, "KB")
        listed = f"/devices?platform={PLATFORM}&release={TARGET}"
        taken = {"next page": _next_pages(page, listed, times), "filter": _filters(page, listed, times)}
        taken["open a device"] = _devices(page, listed, times)
        for name, found in taken.items():
            yield bound(f"console: {name}, answer to paint, p95", percentile(found, 0.95), 100, "ms")
        browser.close()


def _after(page: Page, act: Callable[[], object], selector: str, test: str, value: str | int) -> float:
    """Milliseconds from the end of the last answer to the frame that shows it, after something was clicked."""
    page.evaluate("window.answered = 0")
    act()
    return max(0.0, float(page.evaluate(DRAWN, [selector, test, value])))


def _next_pages(page: Page, listed: str, times: int) -> list[float]:
    """The second to the ninth page, and then from the first one again."""
    found = []
    for at in range(times):
        if at % 8 == 0:
            page.goto(listed)
        page.get_by_role("button", name="More devices").wait_for()
        found.append(_after(page, lambda: page.evaluate(MORE), "tbody tr", "rows", 50 * (at % 8 + 2)))
    return found


def _filters(page: Page, listed: str, times: int) -> list[float]:
    page.goto(listed)
    page.get_by_role("button", name="More devices").wait_for()
    sites, roles = (page.get_by_role("combobox", name=name) for name in ("Site", "Role"))
    role = ROLES[0]
    # Each once, for what was asked before is not asked again: with the role, the last site is asked as it is chosen.
    steps = [*(("", site) for site in SITES), *((role, site) for site in SITES[:-1])][:times]
    found = []
    for at, (with_role, site) in enumerate(steps):
        if at == len(SITES):
            roles.select_option(role)
        wanted = f"{site}{with_role}"
        found.append(_after(page, lambda: sites.select_option(site), "tbody tr td:nth-child(2)", "all", wanted))  # noqa: B023
    return found


def _devices(page: Page, listed: str, times: int) -> list[float]:
    found = []
    for at in range(times):
        name = device(at * 4)
        page.goto(f"{listed}&words={name}")
        page.get_by_role("link", name=name).wait_for()
        found.append(_after(page, lambda: page.evaluate(OPEN, name), "h1", "some", name))  # noqa: B023
    return found


__all__ = ["console"]
