"""The examples of the client library: every call stands in one, is type-checked, and runs on the demo's records."""

from __future__ import annotations

import ast
import importlib.util
import inspect
from collections.abc import Callable
from pathlib import Path
from types import ModuleType

import pytest

from doorstone.client import Client

FOLDER = Path(__file__).parent.parent.parent / "docs" / "examples"
Make = Callable[[str], Client]


def example(name: str) -> ModuleType:
    spec = importlib.util.spec_from_file_location(f"example_{name}", FOLDER / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


LOOK, CHANGE = example("look"), example("change")


@pytest.mark.parametrize("run", LOOK.EXAMPLES, ids=lambda run: str(run.__name__))
def test_what_looks(as_role: Make, run: Callable[[Client], None]) -> None:
    run(as_role("administrator"))


@pytest.mark.parametrize("run", CHANGE.EXAMPLES, ids=lambda run: str(run.__name__))
def test_what_changes_something_is_rehearsed(as_role: Make, run: Callable[[Client], None]) -> None:
    client = as_role("administrator")
    before = next(client.ledger()).seq
    client.dry_run = True
    run(client)
    assert next(client.ledger()).seq == before


def test_what_is_in_earnest(as_role: Make, password: str) -> None:
    client = as_role("administrator")
    CHANGE.an_import_from_a_file(client)
    CHANGE.a_webhook_in_earnest(client)
    CHANGE.signing_in(as_role("nobody"), "petra", password, "birch-and-bracken-9")


def test_every_call_of_the_library_stands_in_an_example() -> None:
    trees = [ast.parse((FOLDER / f"{name}.py").read_text("utf-8")) for name in ("look", "change")]
    used = {node.attr for tree in trees for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
    calls = {name for name, _ in inspect.getmembers(Client, inspect.isfunction) if not name.startswith("_")}
    assert calls - used == {"close"}
