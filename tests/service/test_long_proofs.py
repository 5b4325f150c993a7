"""Short runs of the long proofs: `make fuzz`, `make torture`."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.fuzzing import fuzz
from tests.running import Running
from tests.soak import soak
from tests.torture import torture


@pytest.mark.process
@pytest.mark.timeout(240)
def test_answers_fit_the_document_whatever_is_asked(service: Running) -> None:
    found = fuzz(service, seconds=4, seed_=20270118, each=1, least=61)
    assert found.faults == {}
    assert found.calls > 60
    assert not any(status >= 500 for status in found.statuses)


@pytest.mark.process
def test_nothing_that_was_answered_is_lost_when_the_service_is_killed(tmp_path: Path) -> None:
    found = torture(tmp_path, kills=2, seed_=20270118)
    assert found.faults == []
    assert found.kills == 2
    assert found.writes > 0


@pytest.mark.long
def test_days_of_readings_of_which_no_two_agree_are_all_counted(tmp_path: Path) -> None:
    found = soak(tmp_path, days=3, devices=120, seed=5)
    assert [day.devices for day in found] == [120, 120, 120]
    assert found[-1].records < 4 * found[0].records
