"""A wrong record is put right by another, which says so; what was wrong counts for nothing and stays on record."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from doorstone.store import attempts as store
from doorstone.work import attempts, followups, updates
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.ledger.entries import check_ledger
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.updates import NewObservation
from tests.asking import PETRA, line, read
from tests.build import GOOD
from tests.work.test_followups import carried, tried


def runs(context: Context, device: str = "d1") -> str:
    return snapshot(context).device(device).running_release


def changed_unseen(context: Context) -> list[str]:
    """What the ledger does not account for; the people of the tests are there without an entry."""
    return [fault for fault in check_ledger(context).faults if not fault.startswith("person ")]


def tries(context: Context) -> list[tuple[str, int, int]]:
    with context.database.read() as db:
        counts = store.override_tries(db, "tarn").values()
    return sorted((one.override, one.tried, one.well) for held in counts for one in held)


def test_a_completed_attempt_that_was_refused_after_all_is_taken_back(context: Context) -> None:
    kit = carried(context)
    assert (runs(context), tries(context)) == ("9.1", [("compat-drop-in", 1, 1)])
    wrong = attempts.list_attempts(context)[0]
    assert followups.device_followups(context, "d1").steps
    given = tried("d1", "refused", kit, refused_by=("security-chip",), corrects=wrong.id)
    with pytest.raises(BadInputError, match=f"{wrong.id} said that d1 runs 9.1. Say which release it runs after all"):
        attempts.record_attempt(context, PETRA, given)
    made = attempts.record_attempt(context, PETRA, replace(given, runs="8"))
    assert (runs(context), tries(context)) == ("8", [("compat-drop-in", 1, 0)])
    assert followups.device_followups(context, "d1").steps == ()
    recorded = attempts.list_attempts(context, "d1")
    assert [(one.id, one.row.corrects, one.row.corrected_by) for one in recorded] == [
        (made.id, wrong.row.id, 0), (wrong.id, 0, made.row.id),
    ]  # fmt: skip
    assert changed_unseen(context) == []


def test_a_refused_attempt_that_completed_after_all_moves_the_device(context: Context) -> None:
    read(context, line("d1", GOOD))
    wrong = attempts.record_attempt(context, PETRA, tried("d1", "abandoned"))
    made = attempts.record_attempt(context, PETRA, tried("d1", corrects=wrong.id))
    assert (runs(context), made.row.number) == ("9.1", 2)
    assert followups.device_followups(context, "d1").attempt == made.id
    assert attempts.draft(context, "d1").number == 3
    assert changed_unseen(context) == []


def test_an_attempt_on_the_wrong_device_is_moved_to_the_right_one(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD))
    wrong = attempts.record_attempt(context, PETRA, tried("d1"))
    attempts.record_attempt(context, PETRA, tried("d2", corrects=wrong.id.lower(), runs="8"))
    assert (runs(context, "d1"), runs(context, "d2")) == ("8", "9.1")
    assert followups.device_followups(context, "d1").steps == ()
    assert changed_unseen(context) == []


def test_what_a_wrong_attempt_made_fall_away_is_open_again(context: Context) -> None:
    read(context, line("d1", GOOD))
    first = attempts.record_attempt(context, PETRA, tried("d1"))
    before = [(step.name, step.state) for step in followups.device_followups(context, "d1").steps]
    wrong = attempts.record_attempt(context, PETRA, tried("d1", release="9.2"))
    assert changed_unseen(context) == []
    attempts.record_attempt(context, PETRA, tried("d1", "abandoned", release="9.2", corrects=wrong.id, runs="9.1"))
    found = followups.device_followups(context, "d1")
    assert (found.attempt, [(step.name, step.state) for step in found.steps]) == (first.id, before)
    assert runs(context) == "9.1"
    assert changed_unseen(context) == []


def test_a_correction_is_corrected_in_its_turn_and_only_it(context: Context) -> None:
    read(context, line("d1", GOOD))
    wrong = attempts.record_attempt(context, PETRA, tried("d1", "abandoned"))
    second = attempts.record_attempt(context, PETRA, tried("d1", "refused", corrects=wrong.id))
    with pytest.raises(RefusedError, match=f"{wrong.id} was corrected by {second.id}. Correct {second.id}"):
        attempts.record_attempt(context, PETRA, tried("d1", "rolled-back", corrects=wrong.id))
    with pytest.raises(BadInputError, match="leaves no doubt about what d1 runs"):
        attempts.record_attempt(context, PETRA, tried("d1", "rolled-back", corrects=second.id, runs="8"))
    attempts.record_attempt(context, PETRA, tried("d1", "rolled-back", corrects=second.id))
    with pytest.raises(MissingError, match="There is no attempt 'AT-0099'"):
        attempts.record_attempt(context, PETRA, tried("d1", corrects="AT-0099"))


def test_an_observation_is_corrected_by_another(context: Context) -> None:
    carried(context)
    day = date(2027, 1, 18)
    wrong = updates.record_observation(
        context, PETRA, NewObservation("d1", day, "security", "not-offered", "unsupported", "operator", "")
    )
    right = NewObservation("d1", day, "security", "arrived", "", "operator", "", f"OB-{wrong.id:04d}")
    made = updates.record_observation(context, PETRA, right)
    seen = {one.update_class: one.observed for one in updates.device_standing(context, "d1").classes}["security"]
    assert seen is not None
    assert seen.result == "arrived"
    assert [(o.id, o.corrects, o.corrected_by) for o in updates.list_observations(context, "d1")] == [
        (made.id, wrong.id, 0), (wrong.id, 0, made.id),
    ]  # fmt: skip
    with pytest.raises(RefusedError, match=r"was corrected by OB-0002"):
        updates.record_observation(context, PETRA, right)
    with pytest.raises(MissingError, match="Observation 'OB-0077' does not exist"):
        updates.record_observation(context, PETRA, replace(right, corrects="OB-0077"))
    assert changed_unseen(context) == []
