"""The budget paper: quarters, prices and the minimum specification, by hand."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest

from doorstone.core.forecast.costs import CostModel, Price
from doorstone.core.forecast.paper import quarter_of, replacements, specification
from tests.build import CHIPLESS, GOOD, TODAY, tarn
from tests.core.forecast.test_device_forecast import ahead

D = date.fromisoformat


@pytest.mark.parametrize(
    ("day", "first", "last"),
    [
        ("2027-01-01", "2027-01-01", "2027-03-31"),
        ("2028-02-29", "2028-01-01", "2028-03-31"),
        ("2027-06-30", "2027-04-01", "2027-06-30"),
        ("2027-12-31", "2027-10-01", "2027-12-31"),
    ],
)
def test_quarters(day: str, first: str, last: str) -> None:
    assert quarter_of(D(day)) == (D(first), D(last))


def test_each_device_stands_in_the_quarter_in_which_its_runway_ends_at_the_price_of_then() -> None:
    costs = CostModel(
        replacement_price=Decimal(640),
        prices=(Price(D("2027-04-01"), Decimal(700)), Price(D("2027-10-15"), Decimal(750))),
    )
    good, chipless = ahead(), ahead(CHIPLESS)  # to the end of the sheet; by exception to the end of 9.1
    floored = ahead(cpu__features=("sse4",))  # stays on release 8
    unread = ahead({name: value for name, value in GOOD.items() if name != "tpm.version"})
    assert (floored.technical.runway, chipless.technical.runway) == (D("2027-02-28"), D("2027-11-30"))
    found = replacements([(good, 5), (chipless, 3), (floored, 2), (unread, 4), (None, 1)], costs, TODAY)
    assert [(q.label, q.devices, q.price, q.cost, q.first_end) for q in found.quarters] == [
        ("2027 Q1", 2, Decimal(640), Decimal(1280), D("2027-02-28")),
        ("2027 Q4", 3, Decimal(700), Decimal(2100), D("2027-11-30")),  # the price of 1 October: 750 begins in it
    ]
    assert (found.beyond, found.beyond_until) == (5, D("2029-06-30"))
    assert sum(found.unknown.values()) == 5
    assert found.unknown["The release it runs is unread"] == 1


def test_a_runway_that_has_ended_asks_for_a_replacement_now() -> None:
    after = D("2027-05-20")
    floored = ahead(as_of=after, cpu__features=("sse4",))
    quarter = replacements([(floored, 2)], CostModel(replacement_price=Decimal(600)), after).quarters[0]
    assert (quarter.label, quarter.first_end, quarter.cost) == ("2027 Q2", after, Decimal(1200))


def test_a_new_machine_has_to_meet_the_strictest_of_each_part_floors_first() -> None:
    lines = {line.fact: line for line in specification(tarn(), TODAY)}
    assert (lines["memory.mib"].asks, lines["memory.mib"].requirement) == ("at least 6,144 MiB", "memory-set-up")
    assert (lines["graphics.vulkan"].asks, lines["graphics.vulkan"].floor_from) == ("at least 1.2", "9.3")
    assert (lines["cpu.arch"].asks, lines["cpu.arch"].since, lines["cpu.arch"].floor_from) == ("x86-64", "9.0", "9.0")
    assert lines["tpm.version"].floor_from == ""
    floors = [bool(line.floor_from) for line in specification(tarn(), TODAY)]
    assert floors == sorted(floors, reverse=True)
