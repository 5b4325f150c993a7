"""Requests for many devices: what to ask of each, in the fewest requests."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.exceptions.batch import group, to_request
from doorstone.core.exceptions.life import Refusal
from doorstone.core.sorting.assessment import assess
from tests.build import CHIPLESS, GOOD, tarn, view

CHIP = frozenset({"processor-listed", "security-chip"})


@pytest.mark.parametrize(
    ("facts", "named", "reason"),
    [
        (GOOD, {}, "it meets everything that 9.1 asks"),
        ({**GOOD, "disk.system_gib": 29}, {}, None),
        ({**CHIPLESS, "cpu.features": []}, {}, "is a floor at 9.1"),
        ({k: v for k, v in GOOD.items() if k != "tpm.version"}, {}, "nobody has measured it"),
        (CHIPLESS, dict.fromkeys(CHIP, "EX-0007"), "EX-0007 names what it fails already"),
        ({**GOOD, "firmware.secure_boot": "off"}, {}, "can be fixed"),
    ],
)  # fmt: skip
def test_a_device_that_needs_or_can_have_none_is_named_with_the_reason(
    facts: dict[str, Any], named: dict[str, str], reason: str | None
) -> None:
    found = to_request("d1", assess(tarn(), "9.1", view(facts), (), "d1"), named)
    if reason is None:
        assert found == {"storage"}
    else:
        assert isinstance(found, Refusal)
        assert reason in found.reason


def test_only_what_nothing_names_yet_is_requested() -> None:
    assessment = assess(tarn(), "9.1", view(CHIPLESS), (), "d1")
    assert to_request("d1", assessment, {}) == CHIP
    assert to_request("d1", assessment, {"security-chip": "EX-0001"}) == {"processor-listed"}


@given(
    st.dictionaries(st.integers(0, 60).map(str), st.frozensets(st.sampled_from("abc"), min_size=1), min_size=1),
    st.integers(1, 7),
)
def test_every_device_is_in_one_request_with_exactly_its_own_and_there_are_no_more_than_needed(
    wanted: dict[str, frozenset[str]], most: int
) -> None:
    found = group(wanted, most)
    assert sorted(device for one in found for device in one.devices) == sorted(wanted)
    assert all(wanted[device] == set(one.requirements) for one in found for device in one.devices)
    assert all(0 < len(one.devices) <= most for one in found)
    alike: dict[frozenset[str], int] = {}
    for names in wanted.values():
        alike[names] = alike.get(names, 0) + 1
    assert len(found) == sum(-(-count // most) for count in alike.values())
