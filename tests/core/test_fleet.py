from __future__ import annotations

from doorstone.core.facts import View
from doorstone.core.fleet import profile_key, roll_up
from doorstone.core.sorting import assess
from tests.build import CHIPLESS, GOOD, TODAY, reading, settled, tarn, view


def test_devices_that_differ_in_nothing_the_sheet_sees_share_a_profile() -> None:
    one = view({**GOOD, "machine.serial": "A1", "disk.free_gib": 10})
    other = view({**GOOD, "machine.serial": "B2", "disk.free_gib": 90})
    assert profile_key(tarn(), one) == profile_key(tarn(), other)
    assert profile_key(tarn(), view({**GOOD, "memory.mib": 8191})) != profile_key(tarn(), one)


def test_a_rival_reading_makes_another_profile() -> None:
    said = settled(
        reading("collector", "2027-01-15T08:00", tpm__state="on"),
        reading("assessor", "2027-01-16T08:00", tpm__state="off"),
    )
    contested = View(TODAY, {**view(GOOD).facts, **said.facts})
    assert profile_key(tarn(), contested) != profile_key(tarn(), view(GOOD))


def test_a_roll_up_counts_states_requirements_and_what_fails_together() -> None:
    clear = assess(tarn(), "9.1", view(GOOD))
    chipless = assess(tarn(), "9.1", view(CHIPLESS))
    off = assess(tarn(), "9.1", view({**GOOD, "tpm.state": "off"}))
    rolled = roll_up(tarn(), "9.1", [(clear, 5), (chipless, 3), (off, 2)])
    assert rolled.devices == 10
    assert rolled.states == {"clear": 5, "fixable": 2, "needs-exception": 3, "floored": 0, "unsettled": 0}
    chip = next(count for count in rolled.requirements if count.requirement == "security-chip")
    assert chip.marks == {"met": 5, "installer-check": 3, "fixable": 2}
    assert [(c.requirements, c.devices) for c in rolled.combinations] == [
        (("processor-listed", "security-chip"), 3),
        (("security-chip",), 2),
    ]
