"""Overview and forecasts."""

from __future__ import annotations

from pydantic import Field

from doorstone.formats.wire import Asked
from doorstone.formats.wire_after import DeviceForecastShape, FleetForecastShape, OverviewShape
from doorstone.service.operations import EVERYONE, Call, Operations
from doorstone.service.resources.devices import ReleaseQuery
from doorstone.work import fixes_done, forecast
from doorstone.work.picture import picture

operations = Operations("forecast")


class FleetQuery(Asked):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")


@operations(
    "GET",
    "/overview",
    "The fleet against a release",
    roles=EVERYONE,
    query=FleetQuery,
    answer=OverviewShape,
    steady=True,
)
def overview(call: Call[FleetQuery, None]) -> OverviewShape:
    return OverviewShape.model_validate(forecast.overview(call.desk, call.query.platform, call.query.release))


@operations(
    "GET", "/forecast", "When devices leave servicing", roles=EVERYONE, query=FleetQuery, answer=FleetForecastShape
)
def fleet_forecast(call: Call[FleetQuery, None]) -> FleetForecastShape:
    found = forecast.fleet_forecast(call.desk, call.query.platform, call.query.release)
    return FleetForecastShape.model_validate(found)


@operations(
    "GET",
    "/devices/<device>/forecast",
    "What a device can still reach",
    roles=EVERYONE,
    query=ReleaseQuery,
    answer=DeviceForecastShape,
)
def device_forecast(call: Call[ReleaseQuery, None]) -> DeviceForecastShape:
    found = forecast.device_forecast(call.desk, call.path["device"], call.query.release)
    shape = DeviceForecastShape.model_validate(found)
    told = fixes_done.told_of(picture(call.desk), call.path["device"])
    for line, shown in ((found.forecast.technical, shape.forecast.technical),
                        (found.forecast.approved, shape.forecast.approved)):  # fmt: skip
        for move, one in zip(line.moves, shown.moves, strict=True):
            one.warnings += [f"{fix.title}: {told[fix.title]}" for fix in move.steps if fix.title in told]
    return shape
