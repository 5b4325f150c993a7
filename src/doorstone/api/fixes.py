"""Fixes on the wire: plans, rounds, what was done."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment
from doorstone.core.sorting.assessment import State


class FixResponse(ApiModel):
    """A fix of the sheet: its work in minutes and its price."""

    title: str
    kind: str
    minutes: int
    cost: Decimal
    recorded: str = Field("", description="What was recorded of this fix on this device, if it failed or was not seen")


class FixStepResponse(ApiModel):
    """A fix to make on a device, and the requirements that are met by it."""

    fix: FixResponse
    meets: list[str]
    recorded: str = Field("", description="What was recorded of this fix on this device, if it failed or was not seen")
    stop: str = Field("", description="Why it must not be made yet")


class FixDoneRequest(RequestModel):
    """A fix that was made, or failed."""

    title: str = Field(max_length=200, description="The fix, as the sheet calls it")
    outcome: Literal["done", "failed"] = "done"
    done_at: Moment | None = Field(None, description="When it was made; now if left out")
    note: str = Field("", max_length=1000, description="What happened; needed if it failed")


class FixRow(FixDoneRequest):
    """A fix in a file of many."""

    device: str


class FixDoneResponse(ApiModel):
    """A recorded fix, and whether a later reading proves it."""

    id: str
    device: str
    title: str
    outcome: str
    done_at: Moment
    by: str
    note: str
    word: str = Field(description="waiting for a reading, proved by one, not-seen in one; or failed")
    seen: str = Field(description="What was read since, where that is not what the fix gives")


class SparedFixResponse(ApiModel):
    """A fix that is not needed, as another one meets its requirement."""

    fix: FixResponse
    requirement: str
    after: str


class DeviceFixesResponse(ApiModel):
    """The cheapest fixes of a device in the order to make them, and what stays unmet."""

    device: str
    release: str
    steps: list[FixStepResponse]
    spared: list[SparedFixResponse]
    left: list[str]
    exact: bool = Field(description="Whether every set of fixes was compared; false beyond 16 that touch one another")
    minutes: int
    cost: Decimal
    state: State
    after: State
    done: list[FixDoneResponse] = Field(description="What was recorded of the device's fixes, newest first")


class FixVisitResponse(ApiModel):
    """A device on which an action is one step of several."""

    device: str
    name: str
    role: str
    step: int
    of: int
    meets: list[str]
    after: str


class FixActionResponse(ApiModel):
    """One fix to make on many devices of a site."""

    title: str
    kind: str
    minutes: int
    cost: Decimal
    count: int = Field(description="Devices at the site on which it is to be made")
    visits: list[FixVisitResponse] = Field(description="Some of them, by device: as many as were asked for")


class SiteRoundResponse(ApiModel):
    """The fixes to make at one site."""

    site: str
    devices: int
    minutes: int
    cost: Decimal
    actions: list[FixActionResponse]


class PartResponse(ApiModel):
    """A part to buy, how many and at what price in all."""

    title: str
    count: int
    cost: Decimal


class FixRoundResponse(ApiModel):
    """The fixes of a platform's devices, site by site, and the parts to buy."""

    platform: str
    release: str
    devices: int
    minutes: int
    cost: Decimal
    sites: list[SiteRoundResponse]
    parts: list[PartResponse]
    pointless: int = Field(description="Devices that stay floored whatever is fixed")
