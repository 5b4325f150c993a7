"""The documentation is true: its commands run, its references are those of the code, its pictures are there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

from doorstone.api.people import TokenRequest
from doorstone.client import Client
from doorstone.core.conditions import parse
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import tarn
from tests.forking import forked_command
from tests.running import cli_environment

ROOT = Path(__file__).parent.parent
DOCS = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").rglob("*.md"))]
SHEETS = ROOT / "src" / "doorstone" / "demo" / "sheets"


def blocks(path: Path, kind: str) -> list[str]:
    return re.findall(rf"```{kind}\n(.*?)```", path.read_text(), re.DOTALL)


@pytest.fixture(scope="session")
def command(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    with forked_command(tmp_path_factory.mktemp("command") / "bin") as folder:
        yield folder


@pytest.mark.process
@pytest.mark.parametrize("guide", sorted((ROOT / "docs" / "guides").glob("*.md")), ids=lambda p: p.stem)
def test_the_commands_of_a_guide_run_as_printed(guide: Path, live: str, command: Path, tmp_path: Path) -> None:
    script = "set -e\n" + "\n".join(blocks(guide, "sh"))
    work = tmp_path / "work"
    work.mkdir()
    mine = cli_environment(live, tmp_path / "home") | {"SHEETS": str(SHEETS)}
    environment = os.environ | mine | {"PATH": f"{command}{os.pathsep}{mine['PATH']}"}
    done = subprocess.run(
        ["bash", "-c", script], cwd=work, env=environment, capture_output=True, text=True, timeout=150
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert "Traceback" not in done.stderr


def test_the_readmes_program_runs(live: str, password: str, capsys: pytest.CaptureFixture[str]) -> None:
    with Client(live) as client:
        client.sign_in("petra", password)
        secret = client.issue_token(TokenRequest(name="readme", role="viewer", days=1)).secret
    text = blocks(ROOT / "README.md", "python")[0]
    exec(text.replace("http://127.0.0.1:8640", live).replace("ds_...", secret or ""), {})
    lines = capsys.readouterr().out.splitlines()
    assert lines
    assert all(re.match(r"nbt-\d{3} 20\d\d-\d\d-\d\d ", line) for line in lines)


@pytest.mark.process
def test_the_references_are_those_of_the_code() -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "tools" / "reference.py", "--check"], capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stdout


def test_the_examples_of_conditions_are_conditions() -> None:
    lines = blocks(ROOT / "docs" / "reference" / "conditions.md", "toml")[0].strip().splitlines()
    assert len(lines) == 10
    for line in lines:
        data = tomllib.loads(f"condition = {line}")["condition"]
        assert parse(data, tarn().specs, tarn().lists).facts()


def test_the_examples_of_a_sheet_fit_into_one() -> None:
    text, lists = sheet_text()
    for block in blocks(ROOT / "docs" / "guides" / "1-describe-a-platform.md", "toml"):
        name = re.search(r'^id = "([^"]+)"', block, re.MULTILINE)
        assert name is not None
        table = block.splitlines()[0]
        parts = re.split(rf"(?m)^(?={re.escape(table)}$)", text)
        kept = [part for part in parts if f'id = "{name[1]}"' not in part.splitlines()[1]]
        assert len(kept) == len(parts) - 1
        read_sheet("\n".join([*kept, block]), lists)


@pytest.mark.parametrize("path", DOCS, ids=lambda p: str(p.relative_to(ROOT)))
def test_links_and_pictures_are_there(path: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", path.read_text()):
        assert (path.parent / target).exists(), target


def test_every_picture_is_linked_from_the_readme_and_there_are_few() -> None:
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*"))
    text = (ROOT / "README.md").read_text()
    assert len(pictures) < 20
    assert [p.name for p in pictures if p.name not in text] == []


@pytest.mark.process
def test_no_file_names_this_machine_or_a_registry() -> None:
    listed = subprocess.run(["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True)
    for name in listed.stdout.splitlines():
        path = ROOT / name
        if path.suffix in (".png", ".woff2") or not path.is_file():
            continue
        text = path.read_text("utf-8")
        assert "/work" + "/main" not in text, name
        assert not re.search(r"https?://[^\s\"']*(registry|pypi|npmjs|mirror)", text), name
