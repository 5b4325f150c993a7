from __future__ import annotations

from datetime import date
from typing import Any

import pytest

from doorstone.core.kits.gates import check_gates
from doorstone.core.platforms.platform import Route, Standing, UpdateClass
from doorstone.core.sorting.assessment import assess
from doorstone.core.updates import ClassStanding, Observation, standing
from tests.build import CHIPLESS, GOOD, MEDIA, TODAY, tarn, view


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


# -------------------------------------------------------------------- gates


def results(route: Route = Route.IN_PLACE, **changes: Any) -> dict[str, str]:
    facts = {**GOOD, **MEDIA, **{name.replace("__", "."): value for name, value in changes.items()}}
    seen = view({name: value for name, value in facts.items() if value is not None})
    return {g.gate.id: g.result for g in check_gates(tarn(), route, seen)}


def test_gates_hold_on_a_ready_device() -> None:
    assert set(results().values()) == {"holds"}


def test_situation_30_an_encrypted_disk_needs_its_recovery_key_saved() -> None:
    assert results(disk__encrypted=True, care__recovery_key_saved=False)["recovery-key"] == "stops"
    assert results(disk__encrypted=True, care__recovery_key_saved=True)["recovery-key"] == "holds"


def test_situation_20_pending_updates_warn() -> None:
    assert results(os__pending_updates=2)["pending-updates"] == "warns"


def test_a_backup_stops_at_fifteen_days_and_an_unread_one_blocks() -> None:
    assert results(care__last_backup="2027-01-04")["backup"] == "holds"
    assert results(care__last_backup="2027-01-03")["backup"] == "stops"
    unread = check_gates(tarn(), Route.IN_PLACE, view({k: v for k, v in GOOD.items() if "backup" not in k}))
    assert (unread[0].result, unread[0].blocks) == ("unread", True)
    assert unread[0].measured == "care.last_backup never read"


def test_a_gate_asks_only_on_its_routes() -> None:
    assert "free-space" not in results(Route.CLEAN)
