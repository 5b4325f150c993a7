"""Weeks of a service beside a plain model, with another seed at every run; `make years` plays two years."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from tests.two_years import play


@pytest.mark.long
def test_every_interface_says_what_a_plain_model_says(tmp_path: Path) -> None:
    seed = time.time_ns() // 1000 % 10**9
    found = play(tmp_path, 60, seed)
    assert found.differences == []
    assert found.counts["counts"] > 10
    assert found.counts["uncovered since"] > 5
