"""The fleet on the wire: counts, overview, comparison, what-if."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.devices import DeviceFilter
from doorstone.api.platforms import ReleaseResponse
from doorstone.core.platforms.platform import Sort


class RequirementCountResponse(ApiModel):
    """How many devices have which mark on a requirement."""

    requirement: str
    title: str
    marks: dict[str, int]


class CombinationResponse(ApiModel):
    """How many devices fail exactly these requirements together."""

    requirements: list[str]
    devices: int


class RollUpResponse(ApiModel):
    """Counts of devices at a release: by state, by requirement, by what they fail together."""

    release: str
    devices: int
    states: dict[str, int]
    requirements: list[RequirementCountResponse]
    combinations: list[CombinationResponse]


class SiteCountResponse(ApiModel):
    """Counts of devices at one site."""

    site: str
    states: dict[str, int]
    uncovered: int


class OverviewResponse(ApiModel):
    """A platform at a glance: its releases, what runs where, and the counts at the release."""

    platform: str
    name: str
    release: str
    as_of: date
    releases: list[ReleaseResponse]
    running: dict[str, int]
    roll_up: RollUpResponse
    sites: list[SiteCountResponse]
    uncovered: int = Field(description="Devices that run what no exception in force permits")


class GroupResponse(ApiModel):
    """Counts of the devices of one site, role or model."""

    name: str
    devices: int
    states: dict[str, int]


class FleetResponse(ApiModel):
    """Counts of a platform's devices, grouped by site, role or model."""

    platform: str
    release: str
    by: str
    devices: int
    states: dict[str, int] = Field(description="With excepted: every check of the device is excepted today")
    requirements: list[RequirementCountResponse]
    combinations: list[CombinationResponse]
    groups: list[GroupResponse]


class CompareSideResponse(ApiModel):
    """What would come of the devices at one release, on one route."""

    release: str
    route: str
    outcomes: dict[str, int]
    uncovered: dict[str, int] = Field(description="Devices per check that no override covers on this route")


class ShiftResponse(ApiModel):
    """Devices that go from one outcome to another."""

    one: str
    other: str
    count: int
    devices: list[str]


class ComparisonResponse(ApiModel):
    """Two releases, or two routes, compared for the same devices."""

    platform: str
    devices: int
    one: CompareSideResponse
    other: CompareSideResponse
    shifts: list[ShiftResponse]


class SortScenario(RequestModel):
    """A requirement with another sort, for a what-if."""

    requirement: str
    sort: Sort
    model: str = ""


class WhatIfRequest(RequestModel):
    """Fixes, sorts and exceptions to suppose for a number of devices."""

    platform: str
    release: str = ""
    selection: str = ""
    where: DeviceFilter = DeviceFilter()
    fixes: list[str] = Field([], max_length=100, description="Titles of the fixes that would be made")
    all_fixes: bool = False
    sorts: list[SortScenario] = Field([], max_length=100)
    approve: list[str] = Field([], max_length=100, description="Checks that would be excepted")


class WhatIfResponse(ApiModel):
    """The states of these devices before and after what was supposed; nothing was written."""

    platform: str
    release: str
    devices: int
    before: dict[str, int]
    after: dict[str, int]
    moves: list[ShiftResponse]
    fixes_made: int
    minutes: int
    cost: Decimal
