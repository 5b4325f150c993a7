"""The life of a device: which changes there are, what each takes, and what ends with it."""

from __future__ import annotations

from datetime import date
from itertools import product

import pytest
from msgspec.structs import replace

from doorstone.core.devices.life import (
    GONE,
    Life,
    LifeChange,
    carried_on,
    check_change,
    check_device,
    exception_without,
    left_alone,
)
from doorstone.core.due.fleet import life_due
from doorstone.core.due.items import DueDevice
from doorstone.core.errors import InvalidInputError, MoveRefusedError
from tests.build import TODAY

ASIDE = LifeChange(Life.SET_ASIDE, TODAY, "Waits for a new fan.", date(2027, 2, 18))
RETIRED = LifeChange(Life.RETIRED, TODAY, "Its board is broken.")
REPLACED = LifeChange(Life.REPLACED, TODAY, "A new one stands there.", replaced_by="d2")
BACK = LifeChange(Life.IN_SERVICE, TODAY, "It works again.")
BY_LIFE = {one.life: one for one in (BACK, ASIDE, RETIRED, REPLACED)}
SERVING = {"d1": Life.IN_SERVICE, "d2": Life.IN_SERVICE}


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (replace(RETIRED, reason="old"), "reason cannot be used"),
        (replace(RETIRED, reason="two\nlines of it"), "reason cannot be used"),
        (replace(RETIRED, on=date(2027, 1, 19)), "2027-01-19 is yet to come"),
        (replace(ASIDE, look_on=None), "until somebody looks again"),
        (replace(ASIDE, look_on=TODAY), "until somebody looks again"),
        (replace(RETIRED, look_on=date(2027, 2, 1)), "no day to look again"),
        (replace(ASIDE, wiped_by="petra"), "data of what is set-aside stays"),
        (replace(RETIRED, replaced_by="d2"), "has no successor"),
        (replace(RETIRED, wiped_by="x" * 101), "wiped_by cannot be used"),
    ],
)
def test_a_change_that_says_too_little_or_too_much_is_refused(change: LifeChange, says: str) -> None:
    with pytest.raises(InvalidInputError, match=says):
        check_change(change, TODAY)
    for good in BY_LIFE.values():
        check_change(good, TODAY)


def test_every_move_between_two_lives() -> None:
    """By hand: from each life to each; only these twelve less three may be made."""
    allowed = {
        (was, becomes)
        for was, becomes in product(Life, Life)
        if was is not becomes
        and not (becomes is Life.SET_ASIDE and was in GONE)
        and (was, becomes) != (Life.REPLACED, Life.RETIRED)
    }
    assert len(allowed) == 9
    for was, becomes in product(Life, Life):
        before = None if was is Life.IN_SERVICE else BY_LIFE[was]
        try:
            check_device("d1", before, BY_LIFE[becomes], {**SERVING, "d1": was})
        except MoveRefusedError:
            assert (was, becomes) not in allowed
        else:
            assert (was, becomes) in allowed


@pytest.mark.parametrize(
    ("by", "lives", "says"),
    [
        ("", SERVING, "replaced by another device"),
        ("d1", SERVING, "cannot replace itself"),
        ("d9", SERVING, "no device 'd9'"),
        ("d2", {**SERVING, "d2": Life.RETIRED}, "d2 is retired itself"),
    ],
)
def test_a_successor_is_another_device_in_service(by: str, lives: dict[str, Life], says: str) -> None:
    with pytest.raises(MoveRefusedError, match=says):
        check_device("d1", None, replace(REPLACED, replaced_by=by), lives)


def test_no_life_begins_before_the_one_before_it() -> None:
    with pytest.raises(MoveRefusedError, match="later than 2027-01-10"):
        check_device("d1", ASIDE, replace(RETIRED, on=date(2027, 1, 10)), SERVING)


def test_who_erased_the_data_is_added_later_and_nothing_else_changes() -> None:
    wiped = LifeChange(Life.REPLACED, date(2027, 1, 20), "Erased with the vault's tool.", wiped_by="petra")
    check_device("d1", REPLACED, wiped, SERVING)
    assert carried_on(REPLACED, wiped) == replace(
        wiped, on=TODAY, reason="A new one stands there. Erased with the vault's tool.", replaced_by="d2"
    )
    with pytest.raises(MoveRefusedError, match="replaced already"):
        check_device("d1", REPLACED, REPLACED, SERVING)
    later = replace(ASIDE, look_on=date(2027, 3, 1))
    check_device("d1", ASIDE, later, SERVING)
    assert carried_on(ASIDE, later) == later


def test_an_exception_ends_with_its_last_device() -> None:
    assert exception_without(["d1"], ["d1"]).ends
    assert exception_without(["d1", "d2", "d3"], ["d2"]).left == ("d1", "d3")


def test_what_a_device_out_of_service_leaves_due() -> None:
    device = DueDevice("d1", "Herbarium")

    def due(change: LifeChange, last_read: date | None) -> list[tuple[str, date]]:
        return [(one.kind.value, one.on) for one in life_due(device, change, last_read)]

    assert due(ASIDE, date(2027, 1, 25)) == [("look-again", date(2027, 2, 18))]
    assert due(RETIRED, TODAY) == [("data-not-wiped", TODAY)]
    wiped = replace(RETIRED, wiped_by="petra")
    assert due(wiped, None) == []
    assert due(wiped, date(2027, 1, 19)) == [("read-after-retired", date(2027, 1, 19))]
    assert due(BACK, date(2027, 1, 19)) == []


def test_only_what_is_in_service_is_asked_for() -> None:
    assert left_alone("d1", Life.IN_SERVICE) is None
    assert left_alone("d1", Life.SET_ASIDE) == ("d1 is set aside", "Bring it back into service first, or leave it out")
