"""Why a kit is no longer valid, worked by hand, and held against what is in its files."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionState, ending, state_on
from doorstone.core.kits.standing import (
    HeldException,
    KitBasis,
    KitDevice,
    device_changed,
    permission_ended,
    sheet_changes,
)
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import assess
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import CHIPLESS, tarn, view

D = date.fromisoformat
KIT = KitBasis(
    ["d1", "d2"], "9.1", Route.IN_PLACE, ["compat-drop-in"], ["quiet-start"], {"Fallow 430"}, ["EX-0001", "EX-0002"],
    "MD-0001", {},
)  # fmt: skip
HELD = {
    "EX-0001": HeldException(ExceptionState.APPROVED, D("2027-09-30")),
    "EX-0002": HeldException(ExceptionState.APPROVED, D("2027-06-30")),
}


def test_a_kit_stands_through_the_first_last_day_of_its_exceptions() -> None:
    assert list(permission_ended(KIT, HELD, "", D("2027-06-30"))) == []
    assert list(permission_ended(KIT, HELD, "", D("2027-07-01"))) == ["its last day was 2027-06-30"]


def test_every_reason_is_named() -> None:
    held = {"EX-0001": replace(HELD["EX-0001"], stale_for={"d2"}), "EX-0002": HeldException(None)}
    assert list(permission_ended(KIT, held, "wrong file", D("2027-01-18"))) == [
        "EX-0001 is stale for d2",
        "EX-0002 is gone",
        "MD-0001 was withdrawn: wrong file",
    ]


def edited(old: str, new: str) -> Platform:
    text, lists = sheet_text()
    assert old in text
    return read_sheet(text.replace(old, new, 1), lists)


@pytest.mark.parametrize(
    ("old", "new", "reason"),
    [
        ('title = "A recent backup"', 'title = "A backup of this week"', "gate backup differs"),
        ('id = "activated"', 'id = "active"', "follow-up activated is no longer in the sheet"),
        ("rollback_days = 14", "rollback_days = 15", "rollback is possible for 15 days, was 14"),
        ('title = "Compatibility drop-in"', 'title = "Drop-in"', "override compat-drop-in has other title"),
        ('maker = "Tarn Foundation"', 'maker = "Tarn"', None),
        ("minutes = 15", "minutes = 20", None),
        ("weight = 2", "weight = 3", None),
        ("desk = 2027-11-30", "desk = 2027-10-31", None),
        ("at_least = 6144", "at_least = 8192", None),
    ],
)
def test_a_kit_depends_on_nothing_of_a_sheet_but_what_it_was_made_of(old: str, new: str, reason: str | None) -> None:
    found = list(sheet_changes(KIT, tarn(), edited(old, new)))
    assert found[:1] == ([] if reason is None else [reason])
    assert list(sheet_changes(KIT, edited(old, new), edited(old, new))) == []  # the earlier sheet, loaded again


def test_an_override_that_ends_or_goes_ends_the_kit() -> None:
    ends = replace(tarn(), overrides=tuple(
        replace(o, until="9.1") if o.id == "compat-drop-in" else o for o in tarn().overrides))  # fmt: skip
    assert list(sheet_changes(KIT, tarn(), ends)) == ["override compat-drop-in does not work on 9.1"]
    gone = replace(tarn(), overrides=tuple(o for o in tarn().overrides if o.id != "compat-drop-in"))
    assert list(sheet_changes(KIT, tarn(), gone)) == ["override compat-drop-in is no longer in the sheet"]


def test_what_no_exception_names_any_more_is_in_the_way() -> None:
    device = KitDevice("d1", assess(tarn(), "9.1", view(CHIPLESS)), [])
    unmet = {finding.requirement.id for finding in device.assessment.unmet()}
    assert list(device_changed(KIT, device, unmet)) == []
    (left,) = device_changed(KIT, device, unmet - {"security-chip"})
    assert left.endswith("is installer-check now")


def test_an_exception_lapses_on_the_day_after_its_last_and_gives_way_to_its_renewal() -> None:
    approved, last = ExceptionState.APPROVED, D("2027-09-30")
    assert [state_on(approved, last, D(day)) for day in ("2027-09-30", "2027-10-01")] == ["approved", "lapsed"]
    assert ending(approved, last, "", None, D("2027-09-30")) is None
    lapsed = ending(approved, last, "", None, D("2027-10-05"))
    assert lapsed is not None
    assert (lapsed.state, lapsed.on) == (ExceptionState.LAPSED, D("2027-10-01"))
    replaced = ending(approved, last, "EX-0002", D("2027-10-01"), D("2027-10-05"))
    assert replaced is not None
    assert (replaced.state, replaced.on, replaced.successor) == (ExceptionState.CLOSED, D("2027-10-05"), "EX-0002")
    assert ending(approved, last, "EX-0002", D("2027-10-01"), D("2027-09-30")) is None
    assert ending(ExceptionState.REVOKED, last, "", None, D("2027-10-05")) is None
