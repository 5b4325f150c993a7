"""The recommended course of a device: take, fix, except, read, stay or retire."""

from __future__ import annotations

from datetime import date, timedelta

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.forecast.device_forecast import Forecast
from doorstone.core.forecast.reach import ReachableRelease, Way


class Course(Struct, frozen=True):
    """The recommended way for a device: take, fix, except, read, stay or retire; `by` is the day to have done it."""

    way: str
    by: date | None
    why: str


def course(release: str, forecast: Forecast, as_of: date, stay_days: int = 180) -> Course:
    """The course towards `release`. Staying is recommended while today's release is serviced `stay_days` more."""
    if forecast.unread:
        return Course("read", None, forecast.unread)
    through = forecast.serviced_through
    by = through if through and through >= as_of else None
    lasts = by is not None and by - as_of >= timedelta(days=stay_days)
    reach = next((r for r in forecast.reaches if r.release == release), None)
    if reach is None:
        if lasts and forecast.release == release:
            return Course("stay", forecast.technical.runway, f"It runs {release} already")
        if lasts:
            return Course("stay", through, f"It runs {forecast.release}, which is later than {release}")
        return _onward(forecast, by)
    found = _towards(reach, by)
    if found is not None:
        return found
    if lasts:
        return Course("stay", through, f"{reach.why}; {forecast.release} is serviced through {through}")
    return Course("retire", forecast.technical.runway, reach.why)


def _onward(forecast: Forecast, by: date | None) -> Course:
    """The course of a device whose release is, or will soon be, out of servicing: the next move that there is."""
    ends = f"{forecast.release} is serviced through {by}" if by else f"{forecast.release} is out of servicing"
    for move in forecast.technical.moves[:1]:
        found = _towards(next(r for r in forecast.reaches if r.release == move.release), by)
        if found is not None:
            return replace(found, why=f"{ends}; {found.why}")
    return Course("retire", forecast.technical.runway, f"{ends}; {forecast.technical.ended_by}")


def _towards(reach: ReachableRelease, by: date | None) -> Course | None:
    """The course by a way to a release; None if the way leads nowhere."""
    release = reach.release
    clean = ", by a clean install: what is on the device is lost" if reach.data_lost else ""
    match reach.way:
        case Way.OFFERED:
            return Course("take", by, f"Every requirement of {release} is met")
        case Way.CLEAN:
            lost = "it takes a clean install, and what is on the device is lost"
            return Course("take", by, f"Every requirement of {release} is met, but it is not offered: {lost}")
        case Way.AFTER_FIX:
            then = f"then {release} can be put on{clean}" if clean else f"then {release} is offered"
            return Course("fix", by, f"{len(reach.fixes)} to fix, {then}")
        case Way.BY_EXCEPTION:
            first = f"{len(reach.fixes)} to fix first; " if reach.fixes else ""
            with_ = f"with {' and '.join(reach.overrides)}{clean}"
            if not reach.missing:
                named = f"{' and '.join(reach.exceptions)} in hand" if reach.exceptions else "excepted"
                then = f"not usable: {reach.not_approved}" if reach.not_approved else "make the kit"
                return Course("except", by, f"{first}{named}, {with_}: {then}")
            checks = f"{len(reach.missing)} check{'s' if len(reach.missing) > 1 else ''} to except"
            return Course("except", by, f"{first}{checks}, {with_}")
        case Way.UNKNOWN:
            return Course("read", by, reach.why)
    return None
