"""The budget paper: replacements per quarter before a runway ends, and what a new machine has to meet.

For the owner of the budget and whoever buys. In: forecasts with how many devices have each, a price list, the platform,
a day. Out: quarters with their number and cost, devices that need no replacement yet and those of which nothing is
known, and the minimum specification, the strictest of each fact.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from datetime import date, timedelta
from decimal import Decimal

from msgspec import Struct

from doorstone.core.conditions import All, Condition, Leaf
from doorstone.core.forecast.costs import CostModel
from doorstone.core.forecast.device_forecast import LAST_RELEASE, Forecast
from doorstone.core.forecast.reach import Way
from doorstone.core.platforms.platform import Platform, Requirement, Sort

HARDWARE = ("machine.", "cpu.", "memory.", "disk.system_gib", "firmware.", "tpm.", "graphics.", "display.")
"""Facts that somebody who buys a machine can ask for; others come with what is installed."""


class Quarter(Struct, frozen=True):
    """Devices to replace in a quarter, at the price of its first day, the first of them by `first_end`.

    `ends` counts them by what ends their runway.
    """

    start: date
    end: date
    first_end: date
    devices: int
    price: Decimal
    cost: Decimal
    ends: Mapping[str, int]

    @property
    def label(self) -> str:
        return f"{self.start.year} Q{(self.start.month + 2) // 3}"


class Replacements(Struct, frozen=True):
    """Every device once: in a quarter, in `beyond` if it runs to the end of what the sheet knows, or in `unknown`.

    `beyond_until` is the first day after which one of `beyond` may need a replacement, by a sheet that looks further;
    `unknown` counts devices by what has to be read or settled first.
    """

    quarters: tuple[Quarter, ...]
    beyond: int
    beyond_until: date | None
    unknown: Mapping[str, int]


class SpecLine(Struct, frozen=True):
    """What a new machine has to meet. `since` is the release that asks it first, `floor_from` the one without which it
    does not run, empty if set-up alone refuses.
    """

    fact: str
    title: str
    asks: str
    requirement: str
    since: str
    floor_from: str


def quarter_of(day: date) -> tuple[date, date]:
    """The first and last day of the quarter of a day."""
    start = date(day.year, (day.month - 1) // 3 * 3 + 1, 1)
    after = date(start.year + start.month // 10, (start.month + 2) % 12 + 1, 1)
    return start, after - timedelta(days=1)


def replacements(ahead: Iterable[tuple[Forecast | None, int]], costs: CostModel, as_of: date) -> Replacements:
    """When devices have to be replaced so that none is ever without servicing, as far as the sheet looks.

    A device is replaced in the quarter in which its runway ends, exceptions granted; if that has ended, now.
    """
    ends: dict[date, Counter[str]] = {}
    first: dict[date, date] = {}
    beyond: Counter[date] = Counter()
    unknown: Counter[str] = Counter()
    for forecast, devices in ahead:
        if forecast is None or forecast.technical.ended_kind == Way.UNKNOWN.value:
            unknown[forecast.technical.ended_by if forecast is not None else "The release it runs is unread"] += devices
            continue
        day = max(forecast.technical.runway or as_of, as_of)
        if forecast.technical.ended_kind == LAST_RELEASE and day > as_of:
            beyond[day] += devices
            continue
        start = quarter_of(day)[0]
        ends.setdefault(start, Counter())[forecast.technical.ended_by] += devices
        first[start] = min(first.get(start, day), day)
    quarters = []
    for start, why in sorted(ends.items()):
        price, count = costs.price_on(max(start, as_of)), why.total()
        quarters.append(
            Quarter(start, quarter_of(start)[1], first[start], count, price, price * count, dict(why.most_common()))
        )
    return Replacements(tuple(quarters), beyond.total(), min(beyond, default=None), dict(unknown.most_common()))


def specification(platform: Platform, as_of: date) -> list[SpecLine]:
    """What a machine bought today has to meet to reach the last release of the sheet, floors first.

    Of several lower bounds on one fact the highest stands.
    """
    last = platform.releases[-1].id
    lines: dict[tuple[str, str], SpecLine] = {}
    bounds: dict[str, tuple[Leaf, tuple[str, str]]] = {}
    for requirement in platform.requirements_at(last):
        if not any(fact.startswith(HARDWARE) for fact in requirement.condition.facts()):
            continue
        since, floor = _since(platform, requirement), _floor_from(platform, requirement, as_of)
        if not isinstance(requirement.condition, Leaf | All) or _has_choices(requirement.condition):
            asks = str(requirement.condition)
            lines["", requirement.id] = SpecLine("", requirement.title, asks, requirement.id, since, floor)
            continue
        for leaf in requirement.condition.leaves():
            if not leaf.fact.startswith(HARDWARE):
                continue
            key = (leaf.fact, requirement.id)
            if leaf.op in ("at_least", "at_least_version"):
                held = bounds.get(leaf.fact)
                if held is not None and not leaf.operand > held[0].operand:
                    continue
                if held is not None:
                    lines.pop(held[1])
                bounds[leaf.fact] = leaf, key
            title = leaf.spec.title or leaf.fact
            lines[key] = SpecLine(leaf.fact, title, leaf.required(), requirement.id, since, floor)
    return sorted(lines.values(), key=lambda line: (not line.floor_from, line.title, line.requirement))


def _has_choices(condition: Condition) -> bool:
    """Whether any part of it may be met in several ways."""
    return isinstance(condition, All) and not all(isinstance(part, Leaf) for part in condition.parts)


def _since(platform: Platform, requirement: Requirement) -> str:
    of = [one.since for one in platform.requirements if one.id == requirement.id]
    return min(of, key=platform.index)


def _floor_from(platform: Platform, requirement: Requirement, as_of: date) -> str:
    """The first release, among those that a machine may run from today on, at which the requirement is a floor."""
    for release in platform.releases:
        asked = [one for one in platform.requirements_at(release.id) if one.id == requirement.id]
        ended = all(day < as_of for day in release.servicing_ends.values())
        if asked and not ended and platform.sheet_sort(asked[0], release.id) is Sort.FLOOR:
            return release.id
    return ""
