from __future__ import annotations

from typing import Any

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content, view_of
from doorstone.core.facts import View
from doorstone.core.sorting.assessment import assess
from doorstone.core.sorting.counts import roll_up, sorted_as
from tests.build import CHIPLESS, GOOD, TODAY, reading, settled, tarn, view


def key(of: View) -> str:
    return Classifier(tarn(), TODAY).of(profile_content("tarn", Classifier(tarn(), TODAY).names, of))


def test_devices_that_differ_in_nothing_the_sheet_sees_share_a_profile() -> None:
    one = view({**GOOD, "machine.serial": "A1", "disk.free_gib": 10})
    other = view({**GOOD, "machine.serial": "B2", "disk.free_gib": 90})
    assert key(one) == key(other)
    assert key(view({**GOOD, "memory.mib": 8191})) == key(one)
    assert key(view({**GOOD, "memory.mib": 2048})) != key(one)


def test_a_rival_reading_makes_another_profile() -> None:
    said = settled(
        reading("collector", "2027-01-15T08:00", tpm__state="on"),
        reading("assessor", "2027-01-16T08:00", tpm__state="off"),
    )
    contested = View(TODAY, {**view(GOOD).facts, **said.facts})
    assert key(contested) != key(view(GOOD))


def test_a_profile_sorts_as_each_of_its_devices_does() -> None:
    said = settled(
        reading("collector", "2027-01-15T08:00", tpm__state="on"),
        reading("assessor", "2027-01-16T08:00", tpm__state="off"),
    )
    cases: list[dict[str, Any]] = [dict(GOOD), dict(CHIPLESS), {**GOOD, "tpm.state": "off"}, {"memory.mib": 4096}]
    for own in [view(facts) for facts in cases] + [View(TODAY, {**view(GOOD).facts, **said.facts})]:
        shared = view_of(profile_content("tarn", Classifier(tarn(), TODAY).names, own), tarn().specs, TODAY)
        for release in ("9.0", "9.1", "9.3"):
            assert sorted_as(assess(tarn(), release, shared)) == sorted_as(assess(tarn(), release, own))


def test_a_roll_up_counts_states_requirements_and_what_fails_together() -> None:
    clear = assess(tarn(), "9.1", view(GOOD))
    chipless = assess(tarn(), "9.1", view(CHIPLESS))
    off = assess(tarn(), "9.1", view({**GOOD, "tpm.state": "off"}))
    rolled = roll_up(tarn(), "9.1", [(sorted_as(found), n) for found, n in ((clear, 5), (chipless, 3), (off, 2))])
    assert rolled.devices == 10
    assert rolled.states == {
        "clear": 5, "fixable": 2, "excepted": 0, "needs-exception": 3, "floored": 0, "unsettled": 0,
    }  # fmt: skip
    chip = next(count for count in rolled.requirements if count.requirement == "security-chip")
    assert chip.marks == {"met": 5, "installer-check": 3, "fixable": 2}
    assert [(c.requirements, c.devices) for c in rolled.combinations] == [
        (("processor-listed", "security-chip"), 3),
        (("security-chip",), 2),
    ]
