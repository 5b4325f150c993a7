"""Scenarios: a device under several assumptions, what each exception adds, what each way costs, a budget plan."""

from __future__ import annotations

from collections import Counter
from datetime import date

from msgspec import Struct

from doorstone.core.facts import View
from doorstone.core.forecast.costs import WayCost, ways
from doorstone.core.forecast.device_forecast import Forecast, forecast
from doorstone.core.forecast.scenarios import (
    Scenario,
    ScenarioComparison,
    compare_scenarios,
    suppose,
    supposed_exceptions,
)
from doorstone.core.platforms.platform import Platform
from doorstone.store import followups as after_store
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.snapshot import Snapshot, snapshot


class DeviceScenarios(Struct, frozen=True):
    device: str
    as_of: date
    compared: ScenarioComparison
    ways: tuple[WayCost, ...]
    runs: str  # as-before, slower, faster, or nothing where nobody has said


def device_scenarios(context: Context, device: str) -> DeviceScenarios:
    """A device's forecast under each assumption, what each exception does, and what each way costs."""
    now, platform, view = _known(context, device)
    decisions, exceptions = now.decisions_for(platform), now.exceptions_of(device)
    with context.database.read() as db:
        runs = after_store.last_answer(db, device)
    known = now.experience(platform).of(device, now.device(device).model)
    found = compare_scenarios(platform, device, view, decisions, exceptions, known)
    costs = ways(platform, device, view, decisions, exceptions, context.policy.costs, slower=runs == "slower")
    return DeviceScenarios(device, now.today, found, costs, runs)


def _known(context: Context, device: str) -> tuple[Snapshot, Platform, View]:
    now = snapshot(context)
    now.need_in_service(device)
    platform, view = now.need_sheet(device).platform, now.view(device)
    runs = view.text("os.release")
    if not platform.has(runs):
        raise MissingError(f"{device} runs release {runs or 'unread'}, which the sheet does not know", "Read it again")
    return now, platform, view


def what_if_device(context: Context, device: str, given: Scenario) -> tuple[Forecast, Forecast]:
    """A device's forecast as it is, and as it would be. Nothing is written."""
    now, platform, view = _known(context, device)
    decisions, exceptions = now.decisions_for(platform), now.exceptions_of(device)
    other = supposed(platform, given)
    known = now.experience(platform).of(device, now.device(device).model)
    before = forecast(platform, device, view, decisions, exceptions, experience=known)
    more = supposed_exceptions(platform, device, given, now.today)
    return before, forecast(other, device, view, decisions, [*exceptions, *more], experience=known)


def supposed(platform: Platform, given: Scenario) -> Platform:
    """The platform under a supposition. Raises `BadInputError` for what the sheet does not know."""
    try:
        return suppose(platform, given)
    except KeyError as error:
        known = f"It knows releases {', '.join(r.id for r in platform.releases)}"
        raise BadInputError(f"{platform.name} does not know {error.args[0]!r}", known) from error


class Leaving(Struct, frozen=True):
    """How many devices leave servicing in a month, before and under the supposition."""

    month: str
    before: int
    after: int


class FleetSupposed(Struct, frozen=True):
    devices: int
    months: tuple[Leaving, ...]
    gained_days: int
    longer: int
    shorter: int


def what_if_fleet(context: Context, platform_id: str, given: Scenario) -> FleetSupposed:
    """When devices would leave servicing, technically, before and under the supposition. Nothing is written."""
    now = snapshot(context)
    sheet = now.sheets.get(platform_id)
    if sheet is None:
        raise MissingError(f"There is no platform {platform_id!r}", f"Known: {', '.join(now.sheets) or 'none'}")
    platform, other = sheet.platform, supposed(sheet.platform, given)
    decisions = now.decisions_for(platform)
    before: Counter[str] = Counter()
    after: Counter[str] = Counter()
    gained = longer = shorter = devices = 0
    with context.database.read() as db:
        sizes = profile_store.sizes(db, platform_id)
    for number, (view, own) in now.profile_views(platform).items():
        size = sizes[number]
        if not platform.has(view.text("os.release")):
            continue
        devices += size
        more = supposed_exceptions(platform, own, given, now.today)
        one = forecast(platform, own, view, decisions, []).technical.runway
        two = forecast(other, own, view, decisions, more).technical.runway
        for runway, months in ((one, before), (two, after)):
            if runway is not None:
                months[runway.isoformat()[:7]] += size
        if one != two:
            longer += size * ((two or date.min) > (one or date.min))
            shorter += size * ((two or date.min) < (one or date.min))
            gained += size * ((two or now.today) - (one or now.today)).days
    leaving = tuple(Leaving(m, before[m], after[m]) for m in sorted({*before, *after}))
    return FleetSupposed(devices, leaving, gained, longer, shorter)
