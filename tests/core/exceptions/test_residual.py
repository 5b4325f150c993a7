"""Residual risk: sums worked out by hand, the device that weighs most, and when two have to approve."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.exceptions.residual import DATA, NETWORK, RiskDevice, RiskTable, residual_risk, takes_two
from tests.build import tarn

TABLE = RiskTable()
DESK = RiskDevice("d1", False, {NETWORK: "public", DATA: "personal"})
INSIDE = RiskDevice("d2", False, {NETWORK: "internal", DATA: "none"})
VITAL = RiskDevice("d3", True, {NETWORK: "isolated", DATA: "internal"})
UNREAD = RiskDevice("d4", False, {})
CHIP = ("processor-listed", "security-chip")


@pytest.mark.parametrize(
    ("requirements", "devices", "kept", "points", "worst"),
    [
        (CHIP, [DESK], 1, 2 + 6 + 4 + 4 - 1, "d1"),  # the example of the reference
        (CHIP, [INSIDE], 0, 2 + 6 + 1 + 0, "d2"),
        (("storage",), [VITAL], 0, 2 + 4 + 0 + 1, "d3"),
        (("storage",), [UNREAD], 0, 2 + 2 + 2, "d4"),
        (("storage",), [INSIDE, VITAL, UNREAD], 0, 2 + 5, "d3"),
        (("online-account",), [INSIDE], 5, 0, "d2"),
        (("no-such",), [INSIDE], 0, 1, "d2"),
        (CHIP, [], 0, 8, ""),
    ],
)
def test_the_sum_by_hand(
    requirements: tuple[str, ...], devices: list[RiskDevice], kept: int, points: int, worst: str
) -> None:
    found = residual_risk(tarn(), requirements, devices, kept, TABLE)
    assert (found.points, found.device) == (points, worst)
    assert max(0, sum(part.points for part in found.parts)) == points


def test_each_part_says_what_it_is_for() -> None:
    found = residual_risk(tarn(), CHIP, [VITAL], 2, TABLE)
    assert [(part.words, part.points) for part in found.parts] == [
        ("without processor-listed", 2), ("without security-chip", 6), ("the organisation lives on it", 4),
        ("network isolated", 0), ("data internal", 1), ("2 conditions kept", -2),
    ]  # fmt: skip


devices = st.builds(
    RiskDevice,
    st.sampled_from(["a", "b", "c", "d"]),
    st.booleans(),
    st.fixed_dictionaries({}, optional={NETWORK: st.sampled_from(["isolated", "internal", "public"]),
                                        DATA: st.sampled_from(["none", "internal", "personal"])}),
)  # fmt: skip


@given(st.lists(devices, unique_by=lambda d: d.id), devices, st.integers(0, 3))
def test_one_more_device_never_makes_it_less_and_one_more_kept_condition_never_more(
    some: list[RiskDevice], other: RiskDevice, kept: int
) -> None:
    before = residual_risk(tarn(), CHIP, some, kept, TABLE).points
    assert residual_risk(tarn(), CHIP, [*some, other], kept, TABLE).points >= before
    assert residual_risk(tarn(), CHIP, some, kept + 1, TABLE).points <= before


def test_two_approvers_from_so_many_points_on() -> None:
    nine = residual_risk(tarn(), CHIP, [INSIDE], 0, TABLE)
    assert [takes_two(nine, RiskTable(two_approvers=points)) for points in (0, 9, 10)] == [False, True, False]
