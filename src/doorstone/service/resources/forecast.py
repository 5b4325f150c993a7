"""Overview and forecasts."""

from __future__ import annotations

from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.fleet import OverviewResponse
from doorstone.api.forecast import DeviceForecastResponse, FleetForecastResponse
from doorstone.service.operations import EVERYONE, Call, Operations
from doorstone.service.resources.devices import ReleaseQuery
from doorstone.work.forecast import forecasts
from doorstone.work.snapshot.fix_results import told_of
from doorstone.work.snapshot.snapshot import snapshot

operations = Operations("forecast")


class FleetQuery(RequestModel):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")


@operations(
    "GET",
    "/overview",
    "The fleet against a release",
    roles=EVERYONE,
    query=FleetQuery,
    answer=OverviewResponse,
    cacheable=True,
)
def overview(call: Call[FleetQuery, None]) -> OverviewResponse:
    return OverviewResponse.model_validate(forecasts.overview(call.context, call.query.platform, call.query.release))


@operations(
    "GET", "/forecast", "When devices leave servicing", roles=EVERYONE, query=FleetQuery, answer=FleetForecastResponse
)
def fleet_forecast(call: Call[FleetQuery, None]) -> FleetForecastResponse:
    found = forecasts.fleet_forecast(call.context, call.query.platform, call.query.release)
    return FleetForecastResponse.model_validate(found)


@operations(
    "GET",
    "/devices/<device>/forecast",
    "What a device can still reach",
    roles=EVERYONE,
    query=ReleaseQuery,
    answer=DeviceForecastResponse,
)
def device_forecast(call: Call[ReleaseQuery, None]) -> DeviceForecastResponse:
    found = forecasts.device_forecast(call.context, call.path["device"], call.query.release)
    shape = DeviceForecastResponse.model_validate(found)
    told = told_of(snapshot(call.context), call.path["device"])
    for line, shown in ((found.forecast.technical, shape.forecast.technical),
                        (found.forecast.approved, shape.forecast.approved)):  # fmt: skip
        for move, one in zip(line.moves, shown.moves, strict=True):
            one.warnings += [f"{fix.title}: {told[fix.title]}" for fix in move.steps if fix.title in told]
    return shape
