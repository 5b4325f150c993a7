"""Fixes recorded as done are no disputes, refusals are remembered, and both are told before they are proposed again."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest

from doorstone.core.fixes.results import FixWord
from doorstone.core.sorting.assessment import Finding
from doorstone.work import attempts
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.devices import disputes
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes import plans as fixes
from doorstone.work.fixes.done import NewFixResult
from doorstone.work.forecast import forecasts
from doorstone.work.kits import kits
from doorstone.work.kits.overrides import overrides_for
from doorstone.work.snapshot.fix_results import fixes_of, latest_fixes, results_by_title
from doorstone.work.snapshot.snapshot import assess_device, snapshot
from tests.asking import PETRA, granted, line, on, read
from tests.build import CHIPLESS, GOOD
from tests.work.test_followups import tried

SWITCH = "Switch the security chip on in firmware set-up"
OFF = {**GOOD, "tpm.state": "off"}


def off(context: Context) -> None:
    """A device of which a collector and an assessor say that its chip is off, the latter as a verdict too."""
    read(context, line("d1", OFF))
    read(context, line("d1", {"tpm.state": "off"}, source="assessor", verdicts={"security-chip": False}))


def test_a_fix_done_is_believed_and_older_words_fall_away_verdicts_too(context: Context) -> None:
    off(context)
    assert assess_device(context, "d1", "9.1").state == "fixable"
    found = fixes_done.record_fix(context, PETRA, "d1", NewFixResult(SWITCH))
    assert (found.id, found.word, found.result) == ("FX-0001", FixWord.WAITING, "")
    assert assess_device(context, "d1", "9.1").state == "clear"
    assert disputes.list_disputes(context, "tarn", "9.1") == []
    assert not fixes.device_fixes(context, "d1", "9.1").plan.steps


@pytest.mark.parametrize(("seen", "word"), [("on", FixWord.PROVED), ("off", FixWord.NOT_SEEN)])
def test_the_next_reading_proves_it_or_it_is_not_seen_and_never_disputed(
    context: Context, seen: str, word: FixWord
) -> None:
    off(context)
    fixes_done.record_fix(context, PETRA, "d1", NewFixResult(SWITCH))
    then = on(context, "2027-01-20")
    read(then, line("d1", {"tpm.state": seen}, at="2027-01-19T08:00:00"))
    (found,) = fixes_of(snapshot(then), "d1")
    assert found.word is word
    assert disputes.list_disputes(then, "tarn", "9.1") == []
    state = assess_device(then, "d1", "9.1").of("security-chip")
    assert state is not None
    assert state.finding is (Finding.MET if seen == "on" else Finding.UNMET)
    if word is FixWord.NOT_SEEN:
        assert results_by_title(snapshot(then), "d1") == {
            SWITCH: "recorded as done on 2027-01-18 (FX-0001), not seen since: tpm.state is off (collector, 2027-01-19)"
        }
        assert [one.id for one in latest_fixes(snapshot(then))] == ["FX-0001"]


def test_a_fix_that_failed_changes_nothing_and_is_told_before_it_is_proposed_again(context: Context) -> None:
    off(context)
    with pytest.raises(BadInputError, match="takes a note"):
        fixes_done.record_fix(context, PETRA, "d1", NewFixResult(SWITCH, "failed"))
    fixes_done.record_fix(context, PETRA, "d1", NewFixResult(SWITCH, "failed", note="The menu is locked."))
    assert assess_device(context, "d1", "9.1").state == "fixable"
    assert results_by_title(snapshot(context), "d1") == {SWITCH: "tried on 2027-01-18 and failed: The menu is locked"}


def test_what_cannot_be_recorded_is_refused_with_a_hint(context: Context) -> None:
    off(context)
    with pytest.raises(MissingError, match="Did you mean 'Switch the security chip on"):
        fixes_done.record_fix(context, PETRA, "d1", NewFixResult("Switch the chip on"))
    late = NewFixResult(SWITCH, done_at=datetime(2027, 2, 1))
    with pytest.raises(BadInputError, match="yet to come"):
        fixes_done.record_fix(context, PETRA, "d1", late)
    with pytest.raises(MissingError, match="no device"):
        fixes_done.record_fix(context, PETRA, "d9", NewFixResult(SWITCH))
    assert fixes_of(snapshot(context), "d1") == []


# ----------------------------------------------------------------- what was refused


def refused(context: Context, device: str = "d1", **more: Any) -> str:
    read(context, line(device, CHIPLESS))
    granted(context, device)
    kit = kits.make_kit(context, PETRA, device, "9.1", "in-place", "everything").id
    attempts.record_attempt(context, PETRA, tried(device, "refused", kit, refused_by=("security-chip",), **more))
    return kit


def test_what_was_refused_stands_behind_whatever_else_covers_and_is_named(context: Context) -> None:
    refused(context)
    best = overrides_for(context, "d1", "9.1", "in-place").choice.best
    assert best is not None
    assert best.ids == ("hall-profile",)  # it switches off more, but has not been refused
    ahead = forecasts.device_forecast(context, "d1", "9.1").forecast
    assert ahead.reaches[1].overrides == ("hall-profile",)
    left = {one.override.id: one.why for one in overrides_for(context, "d1", "9.1", "in-place").choice.left_out}
    assert (
        left["compat-drop-in"] == "compat-drop-in was refused on this device on 2027-01-18 (AT-0001 by security-chip)"
    )


def test_once_it_went_well_nothing_is_held_against_it(context: Context) -> None:
    kit = refused(context)
    later = tried("d1", "completed", kit, ended_at=datetime(2027, 1, 18, 8, 30))
    attempts.record_attempt(context, PETRA, later)
    known = snapshot(context).experience(snapshot(context).need_sheet("d1").platform)
    assert known.of("d1", "Fallow 310").refused == ()


def test_an_override_that_seldom_works_on_a_model_is_ranked_so_on_its_other_devices(context: Context) -> None:
    for number in range(3):
        refused(context, f"d{number}")
    read(context, line("d9", CHIPLESS))
    ahead = forecasts.device_forecast(context, "d9", "9.1").forecast
    assert ahead.reaches[1].overrides == ("hall-profile",)
    best = overrides_for(context, "d9", "9.1", "in-place").choice
    left = {one.override.id: one.why for one in best.left_out}
    assert left["compat-drop-in"] == "compat-drop-in: 0 of 3 attempts on Fallow 310 to 9.1 went well"
    read(context, line("other", {**CHIPLESS, "machine.model": "Fallow 320"}))
    assert forecasts.device_forecast(context, "other", "9.1").forecast.reaches[1].overrides == ("compat-drop-in",)


def test_where_nothing_else_covers_the_next_move_says_what_happened(context: Context) -> None:
    refused(context)
    # 9.0 takes the same override, where it was not refused; at 9.1 the chip alone has no other.
    first = forecasts.device_forecast(context, "d1", "9.1").forecast.technical.moves[0]
    assert (first.release, first.overrides, first.warnings) == ("9.1", ("hall-profile",), ())


# ------------------------------------------------------------------------ disputes


def test_situation_2_three_sources_settled_once_stay_settled(context: Context) -> None:
    read(context, line("d1", {**GOOD, "memory.mib": 7900}, source="operator", at="2027-01-10T08:00:00"))
    read(context, line("d1", {"memory.mib": 8192}, source="collector", at="2027-01-17T08:00:00"))
    read(context, line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-16T08:00:00"))
    assert [d.subject for d in disputes.list_disputes(context, "tarn", "9.1")] == ["memory.mib"]
    made = disputes.settle_dispute(context, PETRA, "d1", "fact", "memory.mib", 8192, "Opened and counted.")
    assert made.stands
    assert disputes.list_disputes(context, "tarn", "9.1") == []
    late = line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-18T07:00:00")
    read(context, late)  # read before the settlement, arrived after it
    assert disputes.list_settlements(context, "d1")[0].stands
    then = Context(
        context.database, FixedClock(datetime(2027, 1, 19, 9) + timedelta(hours=1)), passwords=context.passwords
    )
    read(then, line("d1", {"memory.mib": 2048}, source="assessor", at="2027-01-19T08:00:00"))
    assert not disputes.list_settlements(then, "d1")[0].stands


def test_two_that_are_each_close_to_a_third_are_contested_where_the_outcome_differs(context: Context) -> None:
    # Within 5 % of each other are 5,800 and 6,080, and 6,080 and 6,380, not the outer two; 5,959 meets 6,144 less 3 %.
    read(context, line("d1", {**GOOD, "memory.mib": 6080}, source="operator"))
    read(context, line("d1", {"memory.mib": 5800}, source="collector"))
    read(context, line("d1", {"memory.mib": 6380}, source="assessor"))
    found = assess_device(context, "d1", "9.1").of("memory-set-up")
    assert found is not None
    assert found.finding is Finding.DISPUTED
