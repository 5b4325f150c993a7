"""Fixes recorded as done are no disputes, refusals are remembered, and both are told before they are proposed again."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest

from doorstone.core.sorting import Finding
from doorstone.work import attempts, disputes, fixes, fixes_done, forecast, kits
from doorstone.work.desk import Desk, FixedClock
from doorstone.work.devices import assess_device, overrides_for
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.fixes_done import FixGiven, FixWord
from doorstone.work.picture import picture
from tests.asking import PETRA, granted, line, on, read
from tests.build import CHIPLESS, GOOD
from tests.work.test_after import tried

SWITCH = "Switch the security chip on in firmware set-up"
OFF = {**GOOD, "tpm.state": "off"}


def off(desk: Desk) -> None:
    """A device of which a collector and an assessor say that its chip is off, the latter as a verdict too."""
    read(desk, line("d1", OFF))
    read(desk, line("d1", {"tpm.state": "off"}, source="assessor", verdicts={"security-chip": False}))


def test_a_fix_done_is_believed_and_older_words_fall_away_verdicts_too(desk: Desk) -> None:
    off(desk)
    assert assess_device(desk, "d1", "9.1").state == "fixable"
    found = fixes_done.record_fix(desk, PETRA, "d1", FixGiven(SWITCH))
    assert (found.id, found.word, found.told) == ("FX-0001", FixWord.WAITING, "")
    assert assess_device(desk, "d1", "9.1").state == "clear"
    assert disputes.list_disputes(desk, "tarn", "9.1") == []
    assert not fixes.device_fixes(desk, "d1", "9.1").plan.steps


@pytest.mark.parametrize(("seen", "word"), [("on", FixWord.PROVED), ("off", FixWord.NOT_SEEN)])
def test_the_next_reading_proves_it_or_it_is_not_seen_and_never_disputed(desk: Desk, seen: str, word: FixWord) -> None:
    off(desk)
    fixes_done.record_fix(desk, PETRA, "d1", FixGiven(SWITCH))
    then = on(desk, "2027-01-20")
    read(then, line("d1", {"tpm.state": seen}, at="2027-01-19T08:00:00"))
    (found,) = fixes_done.fixes_of(picture(then), "d1")
    assert found.word is word
    assert disputes.list_disputes(then, "tarn", "9.1") == []
    state = assess_device(then, "d1", "9.1").of("security-chip")
    assert state is not None
    assert state.finding is (Finding.MET if seen == "on" else Finding.UNMET)
    if word is FixWord.NOT_SEEN:
        assert fixes_done.told_of(picture(then), "d1") == {
            SWITCH: "recorded as done on 2027-01-18 (FX-0001), not seen since: tpm.state is off (collector, 2027-01-19)"
        }
        assert [one.id for one in fixes_done.latest_fixes(picture(then))] == ["FX-0001"]


def test_a_fix_that_failed_changes_nothing_and_is_told_before_it_is_proposed_again(desk: Desk) -> None:
    off(desk)
    with pytest.raises(BadInputError, match="takes a note"):
        fixes_done.record_fix(desk, PETRA, "d1", FixGiven(SWITCH, "failed"))
    fixes_done.record_fix(desk, PETRA, "d1", FixGiven(SWITCH, "failed", note="The menu is locked."))
    assert assess_device(desk, "d1", "9.1").state == "fixable"
    assert fixes_done.told_of(picture(desk), "d1") == {SWITCH: "tried on 2027-01-18 and failed: The menu is locked"}


def test_what_cannot_be_recorded_is_refused_with_a_hint(desk: Desk) -> None:
    off(desk)
    with pytest.raises(MissingError, match="Did you mean 'Switch the security chip on"):
        fixes_done.record_fix(desk, PETRA, "d1", FixGiven("Switch the chip on"))
    late = FixGiven(SWITCH, done_at=datetime(2027, 2, 1))
    with pytest.raises(BadInputError, match="yet to come"):
        fixes_done.record_fix(desk, PETRA, "d1", late)
    with pytest.raises(MissingError, match="no device"):
        fixes_done.record_fix(desk, PETRA, "d9", FixGiven(SWITCH))
    assert fixes_done.fixes_of(picture(desk), "d1") == []


# ----------------------------------------------------------------- what was refused


def refused(desk: Desk, device: str = "d1", **more: Any) -> str:
    read(desk, line(device, CHIPLESS))
    granted(desk, device)
    kit = kits.make_kit(desk, PETRA, device, "9.1", "in-place", "everything").id
    attempts.record_attempt(desk, PETRA, tried(device, "refused", kit, refused_by=("security-chip",), **more))
    return kit


def test_what_was_refused_stands_behind_whatever_else_covers_and_is_named(desk: Desk) -> None:
    refused(desk)
    best = overrides_for(desk, "d1", "9.1", "in-place").choice.best
    assert best is not None
    assert best.ids == ("hall-profile",)  # it switches off more, but has not been refused
    ahead = forecast.device_forecast(desk, "d1", "9.1").forecast
    assert ahead.reaches[1].overrides == ("hall-profile",)
    left = {one.override.id: one.why for one in overrides_for(desk, "d1", "9.1", "in-place").choice.left_out}
    assert (
        left["compat-drop-in"] == "compat-drop-in was refused on this device on 2027-01-18 (AT-0001 by security-chip)"
    )


def test_once_it_went_well_nothing_is_held_against_it(desk: Desk) -> None:
    kit = refused(desk)
    later = tried("d1", "completed", kit, ended_at=datetime(2027, 1, 18, 8, 30))
    attempts.record_attempt(desk, PETRA, later)
    known = picture(desk).experience(picture(desk).need_sheet("d1").platform)
    assert known.of("d1", "Fallow 310").refused == ()


def test_an_override_that_seldom_works_on_a_model_is_ranked_so_on_its_other_devices(desk: Desk) -> None:
    for number in range(3):
        refused(desk, f"d{number}")
    read(desk, line("d9", CHIPLESS))
    ahead = forecast.device_forecast(desk, "d9", "9.1").forecast
    assert ahead.reaches[1].overrides == ("hall-profile",)
    best = overrides_for(desk, "d9", "9.1", "in-place").choice
    left = {one.override.id: one.why for one in best.left_out}
    assert left["compat-drop-in"] == "compat-drop-in: 0 of 3 attempts on Fallow 310 to 9.1 went well"
    read(desk, line("other", {**CHIPLESS, "machine.model": "Fallow 320"}))
    assert forecast.device_forecast(desk, "other", "9.1").forecast.reaches[1].overrides == ("compat-drop-in",)


def test_where_nothing_else_covers_the_next_move_says_what_happened(desk: Desk) -> None:
    refused(desk)
    # 9.0 takes the same override, where it was not refused; at 9.1 the chip alone has no other.
    first = forecast.device_forecast(desk, "d1", "9.1").forecast.technical.moves[0]
    assert (first.release, first.overrides, first.warnings) == ("9.1", ("hall-profile",), ())


# ------------------------------------------------------------------------ disputes


def test_situation_2_three_sources_settled_once_stay_settled(desk: Desk) -> None:
    read(desk, line("d1", {**GOOD, "memory.mib": 7900}, source="operator", at="2027-01-10T08:00:00"))
    read(desk, line("d1", {"memory.mib": 8192}, source="collector", at="2027-01-17T08:00:00"))
    read(desk, line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-16T08:00:00"))
    assert [d.subject for d in disputes.list_disputes(desk, "tarn", "9.1")] == ["memory.mib"]
    made = disputes.settle_dispute(desk, PETRA, "d1", "fact", "memory.mib", 8192, "Opened and counted.")
    assert made.stands
    assert disputes.list_disputes(desk, "tarn", "9.1") == []
    late = line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-18T07:00:00")
    read(desk, late)  # read before the settlement, arrived after it
    assert disputes.list_settlements(desk, "d1")[0].stands
    then = Desk(desk.database, FixedClock(datetime(2027, 1, 19, 9) + timedelta(hours=1)), passwords=desk.passwords)
    read(then, line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-19T08:00:00"))
    assert not disputes.list_settlements(then, "d1")[0].stands


def test_two_that_are_each_close_to_a_third_are_contested_where_the_outcome_differs(desk: Desk) -> None:
    # Within 5 % of each other are 5,800 and 6,080, and 6,080 and 6,380, not the outer two; 5,959 meets 6,144 less 3 %.
    read(desk, line("d1", {**GOOD, "memory.mib": 6080}, source="operator"))
    read(desk, line("d1", {"memory.mib": 5800}, source="collector"))
    read(desk, line("d1", {"memory.mib": 6380}, source="assessor"))
    found = assess_device(desk, "d1", "9.1").of("memory-set-up")
    assert found is not None
    assert found.finding is Finding.DISPUTED
