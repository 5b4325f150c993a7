"""Why a kit may no longer be used, worked by hand."""

from __future__ import annotations

from datetime import date

from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionState, ending, state_on
from doorstone.core.kits.standing import HeldException, KitBasis, KitDevice, device_changed, permission_ended
from doorstone.core.sorting.assessment import assess
from tests.build import CHIPLESS, tarn, view

D = date.fromisoformat
KIT = KitBasis(["d1", "d2"], 3, ["EX-0001", "EX-0002"], "MD-0001", {})
HELD = {
    "EX-0001": HeldException(ExceptionState.APPROVED, D("2027-09-30")),
    "EX-0002": HeldException(ExceptionState.APPROVED, D("2027-06-30")),
}


def test_a_kit_stands_through_the_first_last_day_of_its_exceptions() -> None:
    assert list(permission_ended(KIT, 3, HELD, "", D("2027-06-30"))) == []
    assert list(permission_ended(KIT, 3, HELD, "", D("2027-07-01"))) == ["its last day was 2027-06-30"]


def test_every_reason_is_named() -> None:
    held = {"EX-0001": replace(HELD["EX-0001"], stale_for={"d2"}), "EX-0002": HeldException(None)}
    assert list(permission_ended(KIT, 4, held, "wrong file", D("2027-01-18"))) == [
        "it was made of revision 3 of the sheet, which is at 4",
        "EX-0001 is stale for d2",
        "EX-0002 is gone",
        "MD-0001 was withdrawn: wrong file",
    ]


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
