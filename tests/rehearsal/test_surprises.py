"""What nobody foresaw stands in the due list within its interval, and says what to do."""

from __future__ import annotations

from pathlib import Path

import pytest
from rehearsal.surprises import SURPRISES, play


@pytest.mark.process
@pytest.mark.long
def test_every_surprise_is_due_within_its_interval_with_what_to_do(tmp_path: Path) -> None:
    played = play(tmp_path)
    assert played.misses() == []
    assert len(played.noticed) == len(SURPRISES) >= 11
    assert all(": " in words for _, words in played.noticed.values())
    assert "listed-grace did not keep set-up from refusing" in played.noticed["an override that ended early"][1]
