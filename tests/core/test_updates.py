from __future__ import annotations

from datetime import date
from typing import Any

import pytest

from doorstone.core.platforms.platform import Standing, UpdateClass
from doorstone.core.sorting.assessment import assess
from doorstone.core.updates import ClassStanding, Observation, standing
from tests.build import CHIPLESS, GOOD, TODAY, tarn, view


def on_nine_one(facts: Any, *seen: Observation) -> dict[str, ClassStanding]:
    assessment = assess(tarn(), "9.1", view(facts))
    return {c.update_class: c for c in standing(tarn(), assessment, seen, TODAY)}


def saw(kind: UpdateClass, result: str, reason: str = "", on: str = "2027-01-10") -> Observation:
    return Observation(date.fromisoformat(on), kind, result, reason)


def test_all_met_means_all_normal() -> None:
    assert {c.expected for c in on_nine_one(GOOD).values()} == {Standing.NORMAL}


def test_situation_22_security_arrives_while_the_next_release_is_withheld() -> None:
    found = on_nine_one(
        CHIPLESS, saw(UpdateClass.SECURITY, "arrived"), saw(UpdateClass.RELEASE, "not-offered", "unsupported")
    )
    security, release, driver = found["security"], found["release"], found["driver"]
    assert (security.expected, security.because, security.compared) == (
        Standing.UNPROMISED,
        ("security-chip",),
        "as-expected",
    )
    assert (release.expected, release.compared) == (Standing.WITHHELD, "as-expected")
    assert release.because == ("processor-listed", "security-chip")
    assert (driver.expected, driver.compared) == (Standing.UNPROMISED, "not-observed")


@pytest.mark.parametrize(
    ("facts", "seen", "compared"),
    [
        (CHIPLESS, saw(UpdateClass.RELEASE, "offered"), "better"),
        (GOOD, saw(UpdateClass.RELEASE, "not-offered", "unsupported"), "worse"),
        (GOOD, saw(UpdateClass.RELEASE, "not-offered", "phased"), "as-expected"),
        (GOOD, saw(UpdateClass.RELEASE, "offered", on="2026-11-19"), "as-expected"),  # 60 days
        (GOOD, saw(UpdateClass.RELEASE, "offered", on="2026-11-18"), "too-old"),  # 61 days
        (GOOD, saw(UpdateClass.RELEASE, "offered", on="2027-01-19"), "not-observed"),  # yet to come
    ],
)
def test_expected_against_observed(facts: Any, seen: Observation, compared: str) -> None:
    assert on_nine_one(facts, seen)["release"].compared == compared


def test_the_newest_observation_counts() -> None:
    older, newer = (
        saw(UpdateClass.SECURITY, "arrived", on="2027-01-02"),
        saw(UpdateClass.SECURITY, "not-offered", "held"),
    )
    assert on_nine_one(GOOD, newer, older)["security"].observed == newer
