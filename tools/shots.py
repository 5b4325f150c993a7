"""Remakes docs/screenshots from a freshly seeded demo: console pages and commands, 1280 wide."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.text import Text

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.console.conftest import CHROMIUM, CHROMIUM_FLAGS
from tests.running import cli_environment, running

from doorstone.demo.seed import seed

OUT = Path(__file__).parent.parent / "docs" / "screenshots"
PASSWORD = "northmere-2027"

PAGES: list[tuple[str, str, int]] = [
    ("overview", "/", 800),
    ("devices", "/devices?state=needs-exception", 800),
    ("device", "/devices/nbt-012", 1000),
    ("device-floor", "/devices/nbt-030", 1000),
    ("sorting", "/sorting?open=security-chip", 800),
    ("exception", "/exceptions/EX-0001", 1180),
    ("due", "/due?all=1", 800),
    ("account", "/devices/nbt-101?tab=exceptions", 1100),
    ("request", "/exceptions/new?device=nbt-012&requirement=security-chip&requirement=processor-listed", 1450),
    ("media", "/media", 1000),
    ("kit", "/kits/KT-0003", 1000),
    ("after", "/devices/nbt-102?tab=after", 1500),
    ("device-forecast", "/devices/nbt-021?tab=forecast", 1250),
    ("plan", "/plan", 900),
    ("forecast", "/forecast", 800),
    ("fleet", "/fleet", 1170),
    ("disputes", "/disputes", 800),
]
COMMANDS: list[tuple[str, list[str]]] = [
    ("cli-help", ["--help"]),
    ("cli-device", ["device", "show", "nbt-012"]),
]


def shoot(page: Page, name: str, height: int, folder: Path) -> None:
    page.set_viewport_size({"width": 1280, "height": height})
    page.wait_for_load_state("networkidle")
    page.screenshot(path=folder / f"{name}.png")


def console_shots(
    address: str, folder: Path, only: Callable[[str], bool], theme: str = "light", width: int = 1280
) -> None:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        page = browser.new_page(viewport={"width": width, "height": 800}, color_scheme=theme, reduced_motion="reduce")
        page.goto(address)
        page.get_by_label("Name").fill("petra")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Overview").wait_for()
        for name, path, height in PAGES:
            if only(name):
                page.goto(address + path)
                page.wait_for_load_state("networkidle")
                if width == 1280:
                    shoot(page, name, height, folder)
                else:
                    page.screenshot(path=folder / f"{name}-{width}.png", full_page=True)
        browser.close()


def command_shots(address: str, folder: Path, only: Callable[[str], bool], home: Path) -> None:
    environment = (
        os.environ | cli_environment(address, home) | {"FORCE_COLOR": "1", "COLUMNS": "110", "TERM": "xterm-256color"}
    )
    subprocess.run(["doorstone", "sign-in", "petra"], env=environment, check=True, capture_output=True)
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        page = browser.new_page(viewport={"width": 1100, "height": 400})
        for name, words in COMMANDS:
            if only(name):
                done = subprocess.run(
                    ["doorstone", *words], env=environment, check=True, capture_output=True, text=True
                )
                console = Console(record=True, width=112, file=io.StringIO())
                console.print(Text(f"$ doorstone {' '.join(words)}", style="bold"))
                console.print(Text.from_ansi(done.stdout + done.stderr))
                html = console.export_html(inline_styles=True)
                page.set_content(html.replace("<body>", "<body style='padding:14px;background:#fbf9f5'>"))
                page.screenshot(path=folder / f"{name}.png", full_page=True)
        browser.close()


def main() -> None:
    wanted = set(sys.argv[1:])
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as scratch:
        seed(Path(scratch) / "data")
        with running(Path(scratch) / "data") as service:
            console_shots(service.address, OUT, lambda name: not wanted or name in wanted)
            command_shots(service.address, OUT, lambda name: not wanted or name in wanted, Path(scratch))
    print(f"Remade {OUT}")


if __name__ == "__main__":
    main()
