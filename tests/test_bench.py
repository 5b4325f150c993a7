"""The bench measures what there is: every measure runs, its baseline too."""

from __future__ import annotations

import importlib.util
from pathlib import Path

import pytest

SCRIPT = Path(__file__).parent.parent / "benchmarks" / "run.py"


@pytest.mark.parametrize("name", ["leaf", "profiles", "choice", "kits"])
def test_every_measure_and_its_baseline_runs(name: str, tmp_path: Path) -> None:
    spec = importlib.util.spec_from_file_location("bench", SCRIPT)
    assert spec is not None
    assert spec.loader is not None
    bench = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(bench)
    ours, baseline = getattr(bench, name)(*([tmp_path] if name == "profiles" else []))
    ours()
    baseline()
