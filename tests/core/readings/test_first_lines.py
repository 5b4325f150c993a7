"""Where each key stood first, against a dictionary."""

from __future__ import annotations

import random

import pytest

from doorstone.core.readings import first_lines
from doorstone.core.readings.first_lines import FirstLines


@pytest.mark.parametrize("seed", range(4))
def test_each_key_is_found_where_it_came_first(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(first_lines, "_BITS", 1 << 10)  # most new keys share their bit with another
    monkeypatch.setattr(first_lines, "_FRESH", 50)
    draw, found, plain = random.Random(seed), FirstLines(), dict[int, int]()
    keys = [draw.randrange(-(2**63), 2**63) for _ in range(1_500)]
    for line in range(1, 4_000):
        key = draw.choice(keys)
        assert found.firsts([key], [line]) == [plain.setdefault(key, line)]
