"""The list of fixes: all is counted, some is named; what is named is among what is counted."""

from __future__ import annotations

from decimal import Decimal

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.work.context.context import Context
from doorstone.work.fixes import plans
from doorstone.work.fixes.plans import FixRound, fix_round, fix_round_csv
from tests.asking import line, on, read
from tests.build import CHIPLESS, GOOD

SMALL = {**GOOD, "memory.mib": 2048}
NO_CHIP = {**GOOD, "tpm.state": "off"}


@pytest.fixture
def fleet(context: Context) -> Context:
    """At the Herbarium three lack memory and two have the chip switched off, one of them both; at no site one."""
    read(
        context,
        line("d1", SMALL), line("d2", {**SMALL, "memory.mib": 2000}), line("d3", {**NO_CHIP, "memory.mib": 2048}),
        line("d4", NO_CHIP), line("d5", GOOD), line("d6", SMALL, site=""), line("d7", CHIPLESS),
    )  # fmt: skip
    return context


def listed(found: FixRound) -> dict[tuple[str, str], tuple[int, list[str]]]:
    return {(s.site, a.title): (a.count, [v.device for v in a.visits]) for s in found.sites for a in s.actions}


def test_every_device_counts_and_as_many_are_named_as_are_asked_for(fleet: Context) -> None:
    whole, some = fix_round(fleet, "tarn", "9.1"), fix_round(fleet, "tarn", "9.1", visits=1)
    every = listed(whole)
    memory, chip = (next(title for _, title in every if word in title.lower()) for word in ("memory", "chip"))
    assert every == {
        ("", memory): (1, ["d6"]),
        ("Herbarium", memory): (3, ["d1", "d2", "d3"]),
        ("Herbarium", chip): (2, ["d3", "d4"]),
    }
    assert {place: (count, names[:1]) for place, (count, names) in every.items()}.keys() == listed(some).keys()
    for place, (count, names) in listed(some).items():
        assert count == every[place][0]
        assert len(names) == 1
        assert set(names) <= set(every[place][1])
    assert (whole.devices, whole.minutes, whole.cost) == (some.devices, some.minutes, some.cost)
    assert whole.devices == 5
    assert [(part.count, part.cost) for part in some.parts] == [(4, Decimal("152.00"))]  # 4 modules at 38.00
    assert len(fix_round_csv(whole).splitlines()) == 1 + 6


@pytest.mark.parametrize("most_kept", [0, 2])
@pytest.mark.parametrize("visits", [1, 2, 3])
def test_of_large_classes_no_other_devices_are_named_than_of_small_ones(
    context: Context, monkeypatch: pytest.MonkeyPatch, most_kept: int, visits: int
) -> None:
    sites = ("Herbarium", "Glasshouse", "")
    found = [
        line(f"d{n:02d}", SMALL if n % 3 else NO_CHIP, site=sites[n % 2 + n % 5 // 4])
        for n in (5, 8, 1, 11, 3, 9, 2, 7)
    ]
    read(context, *found, line("d20", {**SMALL, "tpm.state": "off"}, site="Glasshouse"))
    small = listed(fix_round(context, "tarn", "9.1", visits=visits))
    monkeypatch.setattr(plans, "MOST_KEPT", most_kept)
    assert listed(fix_round(on(context, "2027-01-18"), "tarn", "9.1", visits=visits)) == small
    assert max(len(names) for _, names in small.values()) == visits


def test_a_filter_leaves_out_of_the_count_what_it_leaves_out_of_the_list(fleet: Context) -> None:
    for where in (DeviceFilter(words="d3"), DeviceFilter(site="Herbarium"), DeviceFilter(state="needs-exception")):
        found = fix_round(fleet, "tarn", "9.1", where)
        assert all(count == len(names) for count, names in listed(found).values())
    assert fix_round(fleet, "tarn", "9.1", DeviceFilter(state="clear")).sites == ()
