"""The fleet's forecast: when its devices leave servicing, what ends it for them, and the courses they take.

In: forecasts, each with how many devices have it. Out: a `FleetForecast`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from datetime import date

from msgspec import Struct

from doorstone.core.forecast.course import course
from doorstone.core.forecast.device_forecast import Forecast


class MonthOfLeaving(Struct, frozen=True):
    """How many devices leave servicing in a month (YYYY-MM), and what ends it for them."""

    month: str
    technical: int
    approved: int
    causes: Mapping[str, int]


class FleetForecast(Struct, frozen=True):
    """`unknown` counts devices without a forecast, `past` those without a serviced day to come."""

    platform: str
    as_of: date
    devices: int
    unknown: int
    past: int
    months: tuple[MonthOfLeaving, ...]
    ends: Mapping[str, int]
    courses: Mapping[str, int]


def forecast_of_fleet(
    platform: str, release: str, forecasts: Iterable[tuple[Forecast | None, int]], as_of: date, stay_days: int
) -> FleetForecast:
    """Months in which devices leave servicing, and the courses towards `release`, over all devices."""
    technical: Counter[str] = Counter()
    approved: Counter[str] = Counter()
    causes: dict[str, Counter[str]] = {}
    ends: Counter[str] = Counter()
    courses: Counter[str] = Counter()
    devices = unknown = past = 0
    for ahead, count in forecasts:
        devices += count
        if ahead is None or ahead.unread:
            unknown += count
            continue
        courses[course(release, ahead, as_of, stay_days).way] += count
        ends[ahead.technical.ended_by] += count
        for line, months in ((ahead.technical, technical), (ahead.approved, approved)):
            if line.runway is not None:
                months[_month(line.runway)] += count
        if ahead.technical.runway is None:
            past += count
        else:
            causes.setdefault(_month(ahead.technical.runway), Counter())[ahead.technical.ended_kind] += count
    return FleetForecast(
        platform,
        as_of,
        devices,
        unknown,
        past,
        tuple(
            MonthOfLeaving(month, technical[month], approved[month], dict(causes.get(month, {})))
            for month in sorted({*technical, *approved})
        ),
        dict(ends.most_common()),
        dict(courses.most_common()),
    )


def _month(day: date) -> str:
    return day.isoformat()[:7]
