"""Until when a device can go back: worked by hand, tarn 9.1 keeps the previous release for 14 days."""

from __future__ import annotations

from datetime import date, datetime

import pytest

from doorstone.core.attempts.outcomes import (
    AttemptOutcome,
    EndedAttempt,
    arrived_on,
    check_outcome,
    check_refused_by,
    rollback_until,
)
from doorstone.core.errors import InvalidInputError
from tests.build import tarn


def ended(number: int, outcome: str, day: str, release: str = "9.1", route: str = "in-place") -> EndedAttempt:
    return EndedAttempt(number, release, route, AttemptOutcome(outcome), f"{day}T10:00:00")


DONE = ended(1, "completed", "2027-01-18")


@pytest.mark.parametrize(
    ("attempts", "removed", "until"),
    [
        ([DONE], [], date(2027, 2, 1)),
        ([ended(1, "carry-over-lost", "2027-01-18")], [], date(2027, 2, 1)),
        ([DONE, ended(2, "refused", "2027-01-20", "9.2")], [], date(2027, 2, 1)),  # it changed nothing
        ([DONE, ended(2, "rolled-back", "2027-01-20")], [], None),
        ([DONE], [1], None),
        ([ended(1, "completed", "2027-01-18", route="clean")], [], None),
        ([ended(1, "completed", "2027-01-18", "9.2")], [], None),  # it does not run what that attempt brought
        ([], [], None),
    ],
)
def test_the_last_attempt_that_changed_the_device_decides(
    attempts: list[EndedAttempt], removed: list[int], until: date | None
) -> None:
    assert rollback_until(tarn(), "9.1", attempts, removed) == until


def test_a_release_arrived_with_the_last_attempt_that_brought_it() -> None:
    again = ended(3, "completed", "2027-03-02")
    assert arrived_on([DONE, again, ended(4, "refused", "2027-04-01")], "9.1") == date(2027, 3, 2)
    assert arrived_on([DONE], "9.2") is None


@pytest.mark.parametrize(
    ("outcome", "hours", "mismatch", "words"),
    [
        ("gone", (8, 9), "", "not an outcome"),
        ("completed", (9, 8), "", "before it started"),
        ("completed", (8, 9), "language", "Only carry-over-lost"),
        ("completed", (8, 20), "", "yet to come"),
    ],
)
def test_what_cannot_be_recorded(outcome: str, hours: tuple[int, int], mismatch: str, words: str) -> None:
    start, end = (datetime(2027, 1, 18, hour) for hour in hours)
    with pytest.raises(InvalidInputError, match=words):
        check_outcome(outcome, start, end, datetime(2027, 1, 18, 12), mismatch)


def test_a_check_that_the_release_does_not_have_is_named() -> None:
    with pytest.raises(InvalidInputError, match="asks for no moon"):
        check_refused_by(tarn(), "9.1", ["security-chip", "moon"])
