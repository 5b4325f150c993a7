"""The house keeps its shape: which folder may import which, and how long a file may get."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "doorstone"
MAY_IMPORT = {
    "core": {"core"},
    "formats": {"formats", "core"},
    "store": {"store", "core"},
    "work": {"work", "store", "formats", "core"},
    "service": {"service", "work", "store", "formats", "core"},
    "client": {"client", "formats", "core"},
    "collect": {"collect", "core"},
    "cli": {"cli", "client", "formats", "core", "work", "service"},
    "demo": {"demo", "service", "work", "store", "formats", "core"},
}
# Without a service, the CLI works on its own: sorting a file, the first person, and running the service itself.
CLI_WITHOUT_SERVICE = {
    "sorting.py": {"work"},
    "people.py": {"work", "service"},
    "ledger.py": {"work", "service"},
    "backup.py": {"work"},
    "serving.py": {"service"},
    "collecting.py": {"collect"},
}
NEVER_IN_CORE = {
    "os", "io.open", "pathlib", "socket", "sqlite3", "flask", "typer", "httpx", "pydantic", "requests", "time",
    "random", "secrets", "subprocess", "threading", "logging", "rich", "urllib",
}  # fmt: skip


def imports(path: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def modules() -> list[Path]:
    return sorted(path for path in PACKAGE.rglob("*.py") if path.parent != PACKAGE)


@pytest.mark.parametrize("path", modules(), ids=lambda p: str(p.relative_to(PACKAGE)))
def test_imports_point_one_way(path: Path) -> None:
    home = path.relative_to(PACKAGE).parts[0]
    allowed = MAY_IMPORT[home]
    if home == "cli":
        allowed = {"cli", "client", "formats", "core"} | CLI_WITHOUT_SERVICE.get(path.name, set())
    for name in imports(path):
        parts = name.split(".")
        if parts[0] == "doorstone" and len(parts) > 1:
            assert parts[1] in allowed, f"{path.relative_to(PACKAGE)} imports {name}"
        assert parts[0] != "doorstone_standins"


@pytest.mark.parametrize("path", sorted((PACKAGE / "core").glob("*.py")), ids=lambda p: p.name)
def test_the_core_touches_nothing(path: Path) -> None:
    assert not {name.split(".")[0] for name in imports(path)} & NEVER_IN_CORE
    text = path.read_text()
    assert "date.today" not in text
    assert "datetime.now" not in text
    assert " open(" not in text


@pytest.mark.parametrize("path", sorted((ROOT / "src" / "doorstone_standins").glob("*.py")), ids=lambda p: p.name)
def test_the_stand_ins_share_nothing_with_the_product(path: Path) -> None:
    assert not any(name.split(".")[0] == "doorstone" for name in imports(path))
    assert "doorstone/" not in path.read_text()


def test_no_file_is_longer_than_600_lines() -> None:
    files = [*ROOT.glob("src/**/*.py"), *ROOT.glob("tests/**/*.py"), *ROOT.glob("console/src/**/*.ts*")]
    long = {f.name: n for f in files if f.name != "schema.d.ts" and (n := len(f.read_text().splitlines())) > 620}
    assert long == {}


def test_sql_stands_only_in_the_store() -> None:
    for path in modules():
        if path.relative_to(PACKAGE).parts[0] != "store":
            assert "SELECT " not in path.read_text(), path


def test_tests_are_a_quarter_to_a_third_of_the_code() -> None:
    def lines(*patterns: str) -> dict[Path, int]:
        files = {f for pattern in patterns for f in ROOT.glob(pattern) if f.name != "schema.d.ts"}
        return {f: sum(1 for line in f.read_text().splitlines() if line.strip()) for f in files}

    everything = lines(
        "src/**/*.py", "console/src/**/*.ts*", "tools/*.py", "benchmarks/*.py", "rehearsal/*.py", "tests/**/*.py"
    )
    written_as_tests = {f for f in everything if "tests" in f.relative_to(ROOT).parts or ".test." in f.name}
    tests = sum(everything[f] for f in written_as_tests)
    assert 0.25 <= tests / sum(everything.values()) <= 0.33  # of all lines, tests among them


@pytest.mark.process
def test_types_are_there_for_those_who_use_the_package() -> None:
    assert (PACKAGE / "py.typed").exists()
    done = subprocess.run([sys.executable, "-m", "doorstone.cli.main", "--version"], capture_output=True, text=True)
    assert done.stdout.startswith("doorstone ")
