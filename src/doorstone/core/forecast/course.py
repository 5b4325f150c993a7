"""The recommended course of a device: take, fix, except, read, stay or retire."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, timedelta

from msgspec import Struct, field
from msgspec.structs import replace

from doorstone.core.forecast.device_forecast import Forecast, PlannedMove
from doorstone.core.forecast.reach import ReachableRelease, Way
from doorstone.core.updates import Observation


class Course(Struct, frozen=True):
    """The recommended way for a device: take, fix, except, read, stay or retire; `by` is the day to have done it."""

    way: str
    by: date | None
    why: str


class Progress(Struct, frozen=True):
    """What is already done or known for a device: its valid kit for each release, and the newest release offer."""

    kits: Mapping[str, str] = field(default_factory=dict)
    offer: Observation | None = None


NO_PROGRESS = Progress()


def course(
    release: str, forecast: Forecast, as_of: date, stay_days: int = 180, progress: Progress = NO_PROGRESS
) -> Course:
    """Recommend a course towards `release`: staying, while today's release is serviced `stay_days` more."""
    if forecast.unread:
        return Course("read", None, forecast.unread)
    through = forecast.serviced_through
    by = through if through and through >= as_of else None
    lasts = by is not None and by - as_of >= timedelta(days=stay_days)
    reach = next((r for r in forecast.reaches if r.release == release), None)
    if reach is None:
        if lasts and forecast.release == release:
            return Course("stay", through, f"It runs {release} already{_next_moves(forecast)}")
        if lasts:
            return Course("stay", through, f"It runs {forecast.release}, which is later than {release}")
        return _onward(forecast, by, progress)
    found = _towards(reach, forecast, by, progress)
    if found is not None:
        return found
    if lasts:
        return Course("stay", through, f"{reach.why}; {forecast.release} is serviced through {through}")
    return Course("retire", forecast.technical.runway, reach.why)


def _next_moves(forecast: Forecast) -> str:
    """The moves that keep the device serviced after today's release, and through which day."""
    moves, runway = forecast.technical.moves, forecast.technical.runway
    if not moves or runway is None:
        return f"; {forecast.technical.ended_by}" if forecast.technical.ended_by else ""
    names = ", then ".join(f"{move.release}{_how(move)}" for move in moves)
    return f". Afterwards it can move to {names}, and stay serviced through {runway}"


def _how(move: PlannedMove) -> str:
    if move.way is Way.OFFERED:
        return ""
    return " by hand" if move.way in (Way.BY_EXCEPTION, Way.CLEAN) else " after a fix"


def _onward(forecast: Forecast, by: date | None, progress: Progress) -> Course:
    """The course of a device whose release is, or will soon be, out of servicing: the next move that there is."""
    ends = f"{forecast.release} is serviced through {by}" if by else f"{forecast.release} is out of servicing"
    for move in forecast.technical.moves[:1]:
        found = _towards(next(r for r in forecast.reaches if r.release == move.release), forecast, by, progress)
        if found is not None:
            return replace(found, why=f"{ends}; {found.why}")
    return Course("retire", forecast.technical.runway, f"{ends}; {forecast.technical.ended_by}")


def _towards(reach: ReachableRelease, forecast: Forecast, by: date | None, progress: Progress) -> Course | None:
    """The course by a way to a release; None if the way leads nowhere."""
    release = reach.release
    clean = ", by a clean install: save and restore the data on the device" if reach.data_lost else ""
    match reach.way:
        case Way.OFFERED:
            return Course("take", by, f"Every requirement of {release} is met{_offer(by, progress.offer)}")
        case Way.CLEAN:
            anew = "install it anew by hand, and save and restore the data on the device"
            why = f"Every requirement of {release} is met, but no upgrade leads there from {forecast.release}: {anew}"
            return Course("take", by, why)
        case Way.AFTER_FIX:
            then = f"then install {release}{clean}" if clean else f"then {release} is offered"
            return Course("fix", by, f"{_count(len(reach.fixes), 'requirement')} to fix, {then}")
        case Way.BY_EXCEPTION:
            with_ = f"with {' and '.join(reach.overrides)}{clean}"
            if reach.fixes:  # no kit is made while something can still be fixed
                first = f"{_count(len(reach.fixes), 'requirement')} to fix first; then {_excepted(reach)}"
                return Course("fix", by, f"{first}, {with_}")
            if reach.missing:
                return Course("except", by, f"{_count(len(reach.missing), 'check')} to except, {with_}")
            if reach.not_approved:
                return Course("except", by, f"{_excepted(reach)}, {with_}: not usable: {reach.not_approved}")
            kit = progress.kits.get(release)
            return Course("except", by, f"{_excepted(reach)}, {with_}: {f'use {kit}' if kit else 'make the kit'}")
        case Way.UNKNOWN:
            return Course("read", by, reach.why)
    return None


def _offer(by: date | None, offer: Observation | None) -> str:
    """What the update service last answered, if it does not offer the release yet, and what to do about that."""
    if offer is None or offer.result != "not-offered" or offer.reason not in ("phased", "held"):
        return ""
    detail = f": {offer.detail.rstrip('.')}" if offer.detail else ""
    seen = f"the update service does not offer it yet ({offer.reason}, seen on {offer.seen_on}{detail})"
    return f", but {seen}. If it is not offered {f'by {by}' if by else 'soon'}, install it in place from media"


def _excepted(reach: ReachableRelease) -> str:
    if reach.missing:
        return f"{_count(len(reach.missing), 'check')} to except"
    return f"{' and '.join(reach.exceptions)} approved" if reach.exceptions else "excepted"


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}" + ("" if number == 1 else "s")
