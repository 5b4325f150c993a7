"""Forecasts of one device and of the fleet, and the overview that starts the day."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from datetime import date

from msgspec import Struct

from doorstone.core.exceptions.uncovered import Uncovered
from doorstone.core.forecast.course import Course, course
from doorstone.core.forecast.device_forecast import Forecast, edition_of
from doorstone.core.forecast.fleet import FleetForecast, forecast_of_fleet
from doorstone.core.platforms.platform import Platform, Release, target_release
from doorstone.core.sorting.counts import RollUp
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError
from doorstone.work.snapshot.locations import devices_by_site
from doorstone.work.snapshot.progress import progress_of
from doorstone.work.snapshot.roll_up import fleet_roll_up
from doorstone.work.snapshot.settling import decisions_of
from doorstone.work.snapshot.sheets import get_sheet, need_release
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.standings import standings
from doorstone.work.snapshot.uncovered import lacking_by_site, lacking_device


class DeviceForecast(Struct, frozen=True):
    device: str
    as_of: date
    edition: str
    releases: tuple[Release, ...]
    forecast: Forecast
    course: Course
    uncovered: Uncovered | None = None


def device_forecast(context: Context, device: str, release: str = "") -> DeviceForecast:
    """One device's forecast and its course towards `release`. Raises `MissingError`."""
    now = snapshot(context)
    now.device(device)
    platform = now.need_sheet(device).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    now.need_in_service(device)
    ahead = now.forecast(device)
    if ahead is None:
        runs = now.view(device).text("os.release") or "unread"
        raise MissingError(
            f"{device} runs release {runs}, which the sheet does not know", "Read it, or add the release"
        )
    edition = edition_of(platform, now.view(device))
    way = course(release, ahead, now.today, context.policy.stay_days, progress_of(now, device))
    with context.database.read() as db:
        lacking = lacking_device(db, now, device)
    found = lacking.found if lacking is not None else None
    return DeviceForecast(device, now.today, edition, platform.releases, ahead, way, found)


def fleet_forecast(context: Context, platform_id: str, release: str = "") -> FleetForecast:
    """When devices leave servicing, technically and as approved today, and the courses towards `release`."""
    platform = get_sheet(context, platform_id).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    now = snapshot(context)
    return forecast_of_fleet(platform_id, release, now.fleet_forecasts(platform), now.today, context.policy.stay_days)


class SiteCount(Struct, frozen=True):
    """`uncovered` counts the devices that run what no exception in force permits."""

    site: str
    states: Mapping[str, int]
    uncovered: int


class Overview(Struct, frozen=True):
    platform: str
    name: str
    release: str
    as_of: date
    releases: tuple[Release, ...]
    running: Mapping[str, int]
    roll_up: RollUp
    sites: tuple[SiteCount, ...]
    uncovered: int


def overview(context: Context, platform_id: str, release: str = "") -> Overview:
    """The platform against a release: states, requirements, combinations, sites."""
    platform = get_sheet(context, platform_id).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    raised = snapshot(context).raised(platform, release)
    lacking = _lacking(context, platform)
    with context.database.read() as db:
        rests_on = (
            context.stamp().devices,
            decisions_of(context, db, platform_id),
            platform,
            context.today(),
            raised,
            lacking,
        )
    return context.cached(
        ("overview", platform_id, release), rests_on, lambda: _overview(context, platform, release, lacking)
    )


def _lacking(context: Context, platform: Platform) -> Mapping[str, int]:
    """Site -> devices that run what no exception in force permits."""

    now = snapshot(context)

    def count() -> Mapping[str, int]:
        with context.database.read() as db:
            found = lacking_by_site(db, now, platform)
            return {site or "no site": devices for site, devices in found.items()}

    held = now.in_force_by_device()
    rests_on = (context.stamp().devices, now.decisions_for(platform), platform, context.today(), held)
    return context.cached(("lacking", platform.id), rests_on, count)


def _overview(context: Context, platform: Platform, release: str, lacking: Mapping[str, int]) -> Overview:
    rolled = fleet_roll_up(context, platform.id, release)
    with context.database.read():
        found = standings(context, platform, release)
        by_site = devices_by_site(context, platform.id)
    sites: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for profile, places in by_site.items():
        state = found.of.state(profile)
        for site, devices in places:
            sites[site or "no site"][state] += devices
    for one in snapshot(context).raised(platform, release).values():
        at = sites[one.row.site or "no site"]
        at[one.before] -= 1
        at[one.stands.state] += 1
    running: Counter[str] = Counter()
    for row in found.rows.values():
        running[row.running_release or "unread"] += row.devices
    return Overview(
        platform.id,
        platform.name,
        release,
        context.today(),
        platform.releases,
        dict(sorted(running.items())),
        rolled,
        tuple(SiteCount(site, dict(+states), lacking.get(site, 0)) for site, states in sorted(sites.items())),
        sum(lacking.values()),
    )


def look_ahead(context: Context) -> int:
    """Work out the forecasts that are not known yet, so that no page has to; returns how many cases there are."""
    now = snapshot(context)
    return sum(len(now.fleet_forecasts(sheet.platform)) for sheet in now.sheets.values())
