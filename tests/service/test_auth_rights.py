"""Whatever way an operation is called, nobody reaches beyond their rights; another sample at every run."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from tests.rights import WAYS, ask


@pytest.mark.long
def test_no_call_reaches_beyond_the_callers_rights(demo_data: Path) -> None:
    seed = time.time_ns() // 1000
    found = ask(demo_data, seed, sample=1_000)
    assert found.faults == [], f"seed {seed}"
    assert found.refused > 500
    assert found.calls - found.refused > 50


def test_the_ways_are_all_of_them() -> None:
    """Four roles, six places, with and without key, dry run and sign-in; a reporter never signs in."""
    assert len(WAYS) == 4 * 6 * 8 + 6 * 4
