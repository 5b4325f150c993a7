"""The house keeps its shape: which folder may import which, and how long a file may get."""

from __future__ import annotations

import ast
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "doorstone"
MAY_IMPORT = {
    "core": {"core"},
    "formats": {"formats", "core"},
    "store": {"store", "core"},
    "api": {"api", "core"},
    "work": {"work", "store", "formats", "core"},
    "service": {"service", "api", "work", "store", "formats", "core"},
    "client": {"client", "api"},
    "collect": {"collect", "core"},
    "cli": {"cli", "client", "api", "formats", "core", "work", "service"},
    "demo": {"demo", "service", "work", "store", "formats", "core"},
}
# Without a service, the CLI works on its own: sorting a file, the first person, and running the service itself.
CLI_WITHOUT_SERVICE = {
    "sorting.py": {"work"},
    "people.py": {"work", "service"},
    "ledger.py": {"work", "service"},
    "operations.py": {"work"},
    "serve.py": {"service"},
    "collect.py": {"collect"},
}
NEVER_IN_CORE = {
    "os", "io.open", "pathlib", "socket", "sqlite3", "flask", "typer", "httpx", "pydantic", "requests", "time",
    "random", "secrets", "subprocess", "threading", "logging", "rich", "urllib",
}  # fmt: skip


@cache
def nodes(path: Path) -> list[ast.AST]:
    """Every node of a file."""
    return list(ast.walk(ast.parse(path.read_text())))


def imports(path: Path) -> Iterator[str]:
    for node in nodes(path):
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
        allowed = {"cli", "client", "api", "formats", "core"} | CLI_WITHOUT_SERVICE.get(path.name, set())
    for name in imports(path):
        parts = name.split(".")
        if parts[0] == "doorstone" and len(parts) > 1:
            assert parts[1] in allowed, f"{path.relative_to(PACKAGE)} imports {name}"
        assert parts[0] != "doorstone_standins"


CORE_ORDER = (
    "errors", "numbers", "days", "text", "people", "ledger", "facts", "conditions", "platforms", "readings", "devices",
    "sorting", "exceptions", "fixes", "attempts", "media", "kits", "updates", "followups", "forecast", "fleet", "due",
    "operations",
)  # fmt: skip
GROUND = {"context", "snapshot"}
PLACES = {
    "core": PACKAGE / "core", "store": PACKAGE / "store", "api": PACKAGE / "api", "work": PACKAGE / "work",
    "service": PACKAGE / "service" / "resources", "cli": PACKAGE / "cli", "console": ROOT / "console" / "src" / "pages",
}  # fmt: skip
BESIDE_ROOMS = {
    "core": {"errors", "numbers", "days", "text", "facts", "conditions"},
    "store": {"database", "keys", "vault", "json_lists", "lazy_json", "ledger_changes", "ledger_head", "migrations"},
    "api": {"common", "times"},
    "work": GROUND,
    "service": set[str](),
    "cli": {
        "bundle_files",
        "collect",
        "connection",
        "dry_run",
        "filters",
        "lazy",
        "main",
        "output",
        "record_files",
        "serve",
    },
    "console": set[str](),
}
GONE = {
    "Heard", "Said", "Shelf", "caring", "carriers", "choosing", "deciding", "desk", "door", "hear", "heard",
    "heard_in", "hearing", "hook", "hooks", "keeping", "looking", "mend", "picture", "ruled", "ruling", "rulings",
    "said", "shelf", "steady", "take_in", "telling", "told", "told_of", "touches", "troubles",
}  # fmt: skip


def room_of(name: str, floor: str) -> str:
    parts = name.split(".")
    return parts[2] if parts[:2] == ["doorstone", floor] and len(parts) > 2 else ""


def arrows(floor: str) -> set[tuple[str, str]]:
    """Pairs of rooms of a floor of which the first imports the second."""
    found = set()
    for path in sorted((PACKAGE / floor).rglob("*.py")):
        mine = path.relative_to(PACKAGE / floor).parts[0].removesuffix(".py")
        for node in nodes(path):
            if isinstance(node, ast.ImportFrom) and node.module:
                for name in [f"{node.module}.{alias.name}" for alias in node.names]:
                    found.add((mine, room_of(name, floor)))
    return {(one, other) for one, other in found if other and one != other}


def test_rooms_of_the_core_stand_on_those_before_them() -> None:
    assert {one for pair in arrows("core") for one in pair} <= set(CORE_ORDER)
    assert [pair for pair in arrows("core") if CORE_ORDER.index(pair[0]) < CORE_ORDER.index(pair[1])] == []


def test_rooms_of_work_stand_side_by_side() -> None:
    found = arrows("work")
    assert [pair for pair in found if pair[1] not in GROUND or pair == ("context", "snapshot")] == []
    assert len(found) <= 40


def test_the_table_of_rooms_is_that_of_the_tree() -> None:
    text = (ROOT / "docs" / "architecture.md").read_text()
    table = [line.strip("|").split("|") for line in text.splitlines() if line.startswith("| ")]
    head = next(i for i, row in enumerate(table) if row[0].strip() == "room")
    columns = [cell.strip() for cell in table[head]]
    rows = {row[0].strip(): [cell.strip() for cell in row] for row in table[head + 1 :] if len(row) == len(columns)}
    for floor, folder in PLACES.items():
        there = {
            path.stem if path.suffix == ".py" else path.name
            for path in folder.iterdir()
            if not path.name.startswith("__") and (path.suffix == ".py" or path.is_dir())
        }
        listed = {room for room, row in rows.items() if row[columns.index(floor)] == "x"}
        assert there - BESIDE_ROOMS[floor] == listed, floor


CROSS = {
    "store": {"query_plans"},
    "work": {"job", "reasons"},
    "service": {
        "api", "bounds", "durability", "long_proofs", "many_at_once", "write_priority",
    },
    "client": {"examples"},
    "console": {"console", "pages", "interfaces"},
}  # fmt: skip
"""Tests of a floor that go through many of its rooms."""


@pytest.mark.parametrize("floor", ["core", "store", "work", "service", "client", "cli", "console"])
def test_tests_stand_in_the_rooms_of_what_they_test(floor: str) -> None:
    tests = ROOT / "tests" / floor
    homes = [PLACES["api"], *([PLACES[floor]] if floor in PLACES else [])]
    homes += [PACKAGE / floor] if floor != "console" else []
    rooms = {path.stem for home in homes for path in home.iterdir() if not path.name.startswith("__")}
    known = tuple(rooms | CROSS.get(floor, set()))
    found = [path.parent.name if path.parent != tests else path.stem[5:] for path in tests.rglob("test_*.py")]
    assert [name for name in found if not any(name == one or name.startswith(f"{one}_") for one in known)] == []


@pytest.mark.parametrize("page", ["docs/architecture.md", "docs/security.md", "CONTRIBUTING.md", *sorted(
    str(path.relative_to(ROOT)) for path in (ROOT / "docs" / "decisions").glob("*.md"))])  # fmt: skip
def test_places_that_are_named_are_there(page: str) -> None:
    named = set(re.findall(r"`([a-z_]+/[\w./-]*)`", (ROOT / page).read_text()))
    roots = (ROOT, PACKAGE, ROOT / "docs", ROOT / "console" / "src", (ROOT / page).parent)
    named = {name for name in named if "ROOM" not in name}
    assert {name for name in named if not any((root / name).exists() for root in roots)} == set()


def circles(imported: dict[str, set[str]]) -> set[str]:
    """Whoever imports itself through others."""

    def reached(start: str) -> set[str]:
        seen: set[str] = set()
        left = list(imported.get(start, ()))
        while left:
            one = left.pop()
            if one not in seen:
                seen.add(one)
                left += imported.get(one, ())
        return seen

    return {one for one in imported if one in reached(one)}


def test_nothing_imports_itself_through_others() -> None:
    names = {".".join(path.relative_to(ROOT / "src").with_suffix("").parts): path for path in PACKAGE.rglob("*.py")}
    imported = {}
    for name, path in names.items():
        found = set(imports(path))
        for node in nodes(path):
            if isinstance(node, ast.ImportFrom) and node.module:
                found |= {f"{node.module}.{alias.name}" for alias in node.names}
        imported[name] = found & names.keys()
    assert circles(imported) == set()


def test_nothing_in_the_console_imports_itself_through_others() -> None:
    source = ROOT / "console" / "src"
    files = [path for path in source.rglob("*.ts*") if path.name != "schema.d.ts"]
    imported = {}
    for path in files:
        targets = re.findall(r'from "(\.[^"]+)"', path.read_text())
        imported[str(path.with_suffix(""))] = {os.path.normpath(path.parent / target) for target in targets}
    assert circles(imported) == set()


def test_only_what_is_part_of_the_package_is_kept_for_good() -> None:
    for path in modules():
        for node in nodes(path):
            if isinstance(node, ast.FunctionDef):
                marks = {ast.unparse(mark).partition("(")[0] for mark in node.decorator_list}
                if marks & {"cache", "lru_cache"}:
                    given = {ast.unparse(one.annotation) if one.annotation else "" for one in node.args.args}
                    assert given <= {"str", "bool"}, f"{path.name}, {node.name}"
                    assert "sqlite3" not in ast.unparse(node), f"{path.name}, {node.name}"


def test_what_follows_from_a_value_is_kept_in_it_only_if_it_never_changes() -> None:
    for path in modules():
        for made in (node for node in nodes(path) if isinstance(node, ast.ClassDef)):
            marks = [mark for one in made.body if isinstance(one, ast.FunctionDef) for mark in one.decorator_list]
            if "cached_property" in map(ast.unparse, marks):
                assert {ast.unparse(option) for option in made.keywords} == {"frozen=True", "dict=True"}, made.name
                assert path.relative_to(PACKAGE).parts[0] == "core", path.name


def test_names_of_a_struct_are_not_read_from_its_annotations() -> None:
    """`msgspec.structs.fields` does so at each call, which is slow."""
    for path in modules():
        for node in nodes(path):
            if isinstance(node, ast.ImportFrom) and node.module == "msgspec.structs":
                assert {alias.name for alias in node.names} <= {"asdict", "replace"}, path.name


def test_names_that_only_we_understood_do_not_come_back() -> None:
    found = {}
    for path in PACKAGE.rglob("*.py"):
        for node in nodes(path):
            names = {getattr(node, "name", None), getattr(node, "arg", None), getattr(node, "id", None)}
            if words := names & GONE:
                found[str(path.relative_to(PACKAGE))] = words
        if path.stem in GONE:
            found[str(path.relative_to(PACKAGE))] = {path.stem}
    assert found == {}


def test_every_shape_on_the_wire_says_what_it_is() -> None:
    shapes = [node for path in (PACKAGE / "api").glob("*.py") for node in nodes(path) if isinstance(node, ast.ClassDef)]
    assert [node.name for node in shapes if not ast.get_docstring(node)] == []


@pytest.mark.parametrize("path", sorted((PACKAGE / "core").rglob("*.py")), ids=lambda p: p.name)
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
    long = {f.name: n for f in files if f.name != "schema.d.ts" and (n := len(f.read_text().splitlines())) > 600}
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
