"""Nothing that was imported vanishes from sight: devices that no sheet places are listed, with what to do."""

from __future__ import annotations

import pytest

from doorstone.core.devices.unplaced import unplaced
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError
from doorstone.work.devices.unplaced import list_unplaced
from doorstone.work.due.due_list import due_list
from doorstone.work.snapshot.snapshot import assess_device
from tests.asking import line, read
from tests.build import GOOD, tarn


@pytest.mark.parametrize(
    ("platform", "release", "reason", "value", "hint"),
    [
        ("", "", "no-platform", "", "Import a reading that holds os.platform"),
        ("tarm", "9.1", "unknown-platform", "tarm",
         "Load the sheet of tarm, or read the device again if tarn is meant"),
        ("fennel", "3", "unknown-platform", "fennel", "Load the sheet of fennel, or read the device again"),
        ("tarn", "", "no-release", "", "Import a reading that holds os.release"),
        ("tarn", "9.11", "unknown-release", "9.11",
         "Add release 9.11 to the sheet of tarn, or read the device again if 9.1 is meant"),
    ],
)  # fmt: skip
def test_each_reason_says_what_to_do(platform: str, release: str, reason: str, value: str, hint: str) -> None:
    found = unplaced(platform, release, {"tarn": tarn()})
    assert found is not None
    assert (found.reason, found.value, found.hint) == (reason, value, hint)
    assert unplaced("tarn", "9.1", {"tarn": tarn()}) is None


def test_they_are_listed_and_due_until_a_reading_places_them(context: Context) -> None:
    bare = {name: value for name, value in GOOD.items() if not name.startswith("os.")}
    other = {**GOOD, "os.platform": "fennel"}
    given = {"d1": GOOD, "d2": other, "d3": other, "d4": {**GOOD, "os.release": "7"}, "d5": bare}
    read(context, *(line(name, facts) for name, facts in given.items()))
    assert [(one.row.id, one.found.reason.value) for one in list_unplaced(context)] == [
        ("d2", "unknown-platform"), ("d3", "unknown-platform"), ("d4", "unknown-release"), ("d5", "no-platform"),
    ]  # fmt: skip
    words = [item.words for item in due_list(context) if item.kind == "unplaced"]
    assert words == [
        "d2 and d3: placed by no sheet, unknown platform fennel: load the sheet of fennel, or read the device again",
        "d4: placed by no sheet, unknown release 7: add release 7 to the sheet of tarn, or read the device again",
        "d5: placed by no sheet, no platform: import a reading that holds os.platform",
    ]
    read(context, *(line(name, GOOD, at="2027-01-17T08:00:00") for name in ("d2", "d3", "d4", "d5")))
    assert list_unplaced(context) == []


def test_asked_for_one_that_no_sheet_places_it_says_the_way_out(context: Context) -> None:
    bare = {name: value for name, value in GOOD.items() if not name.startswith("os.")}
    read(context, line("d1", GOOD), line("d2", {**GOOD, "os.platform": "tarm"}), line("d3", bare))
    with pytest.raises(MissingError, match="The platform of d2 is tarm, which no sheet describes") as error:
        assess_device(context, "d2")
    assert error.value.hint == "Load the sheet of tarm, or read the device again if tarn is meant"
    with pytest.raises(MissingError, match="No reading says which platform d3 has") as error:
        assess_device(context, "d3")
    assert error.value.hint == "Import a reading that holds os.platform"
