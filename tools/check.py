"""`make check FILE=...`: format, lint, types and the tests that concern one file, and nothing else."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
BIN = Path(sys.executable).parent
SOURCES = ("src", "benchmarks", "rehearsal")


def main(name: str) -> int:
    path = Path(name).resolve()
    if not path.is_file() or not path.is_relative_to(ROOT):
        print(f"There is no file {name!r} here. Name one: make check FILE=src/doorstone/core/facts.py", file=sys.stderr)
        return 2
    if path.suffix in (".ts", ".tsx", ".css"):
        return _run(_console(path), ROOT / "console")
    return _run(_python(path) if path.suffix == ".py" else _tests([ROOT / "tests" / "test_docs.py"]), ROOT)


def _run(commands: list[list[str]], folder: Path) -> int:
    for command in commands:
        print("$", " ".join(command), flush=True)
        code = subprocess.run(command, cwd=folder).returncode
        if code:
            return code
    return 0


def _console(path: Path) -> list[list[str]]:
    inside = str(path.relative_to(ROOT / "console"))
    checks = [["npx", "biome", "check", inside], ["npm", "run", "--silent", "check-types"]]
    return [*checks, ["npx", "vitest", "related", "--run", "--passWithNoTests", inside]]


def _python(path: Path) -> list[list[str]]:
    inside = str(path.relative_to(ROOT))
    checks = [[str(BIN / "ruff"), "format", "--check", inside], [str(BIN / "ruff"), "check", inside]]
    return [*checks, [str(BIN / "mypy"), "--no-error-summary"], *_tests(concerned(path))]


def _tests(files: list[Path]) -> list[list[str]]:
    return [[str(BIN / "python"), "-m", "pytest", "-n", "2", *(str(file.relative_to(ROOT)) for file in files)]]


def concerned(path: Path) -> list[Path]:
    """The test files that import a module, directly or through one helper of the tests; a test file is its own."""
    tests = sorted((ROOT / "tests").rglob("*.py"))
    if path.is_relative_to(ROOT / "tests") and path.name.startswith("test_"):
        return [path]
    wanted = {_module(path)}
    helpers = {_module(test) for test in tests if not test.name.startswith("test_") and wanted & set(imported(test))}
    helpers -= {"tests.conftest"}  # which everything would rest on
    found = [test for test in tests if test.name.startswith("test_") and (wanted | helpers) & set(imported(test))]
    return [*found, ROOT / "tests" / "test_house.py"]


def _module(path: Path) -> str:
    base = ROOT / "src" if path.is_relative_to(ROOT / "src") else ROOT
    return ".".join(path.relative_to(base).with_suffix("").parts).removesuffix(".__init__")


def imported(path: Path) -> Iterator[str]:
    """The modules that a file imports, by their full names."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1] if len(sys.argv) > 1 else ""))
