"""Kits on the wire: overrides, gates, cases, files, settings sets."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, ErrorEntry, KitRoute, RequestModel
from doorstone.api.times import Moment
from doorstone.core.kits.overrides import LeftOutReason
from doorstone.core.platforms.platform import Route


class OverrideBrief(ApiModel):
    """An override, and the checks that it covers."""

    id: str
    title: str
    kind: str
    weight: int
    origin: str
    covers: list[str]


class OverrideSetResponse(ApiModel):
    """Overrides that work together, what they cover, and what they cover beyond what is excepted."""

    overrides: list[OverrideBrief]
    covers: list[str]
    excess: list[str]
    warnings: list[str] = Field(description="What attempts have shown of these overrides, on the device or its model")


class LeftOutResponse(ApiModel):
    """An override that cannot be used here, and why."""

    id: str
    title: str
    reason: LeftOutReason
    why: str
    covers: list[str] = Field(description="What of the checks it would cover, were it usable and chosen")


class PartialResponse(ApiModel):
    """An override that covers some of the checks only."""

    id: str
    covers: list[str]


class OverrideAnswerResponse(ApiModel):
    """The overrides to choose for a device on a route, and what none covers."""

    device: str
    release: str
    route: Route
    checks: list[str]
    best: OverrideSetResponse | None
    alternatives: list[OverrideSetResponse]
    left_out: list[LeftOutResponse]
    uncovered: list[str]
    partial: list[PartialResponse]


class KitRequest(RequestModel):
    """A kit to make."""

    device: str = Field("", description="The device; or name several in devices")
    devices: list[str] = Field([], max_length=500, description="Devices of the same case, which share the kit")
    release: str = ""
    route: KitRoute = "in-place"
    carry_over: Literal["everything", "files", "nothing"] = "everything"
    waive: dict[str, str] = Field({}, description="Gate to why its warning is waived; a stop cannot be")
    media: str = Field("", description="The media to use; the one that fits the devices best if left out")
    sets: list[str] = Field([], max_length=50, description="Settings sets for after the upgrade")


class GateResponse(ApiModel):
    """A gate before a device, as it stands today."""

    id: str
    title: str
    severity: str
    result: str = Field(description="holds, warns, stops or unread")
    asks: str
    measured: str
    todo: str
    waivable: bool


class GateList(ApiModel):
    """The gates before a device."""

    items: list[GateResponse]


class RouteResponse(ApiModel):
    """How a device fares on one route, were every check on it excepted."""

    route: KitRoute
    checks: list[str]
    chosen: list[str] | None = Field(description="The overrides; null if nothing covers what is uncovered")
    uncovered: list[str]
    excess: list[str]
    restart: bool = Field(description="The device is restarted before set-up")
    stops: list[str] = Field(description="Gates that stop it today")
    warns: list[str]
    keeps: list[str]


class RouteList(ApiModel):
    """How a device fares on every route."""

    items: list[RouteResponse]


class SharedCaseResponse(ApiModel):
    """Devices that one kit can serve."""

    devices: list[str]
    overrides: list[str]
    media: str


class KitBatchRequest(KitRequest):
    """Kits for many devices: those named, and those that a saved selection chooses."""

    devices: list[str] = Field([], max_length=5000, description="Devices of whatever case")
    selection: str = ""


class KitBatchResponse(ApiModel):
    """The kits that were made, and the devices for which none was, each with the reason."""

    made: list[KitResponse]
    refused: list[ErrorEntry]


class KitCasesResponse(ApiModel):
    """The kits that devices need, one for each distinct set of needs, and why some devices can have none yet."""

    cases: list[SharedCaseResponse]
    refused: list[ErrorEntry]


class KitDifferenceResponse(ApiModel):
    """One thing in which two kits differ."""

    what: str
    one: str
    other: str


class KitDifferenceList(ApiModel):
    """How two kits differ."""

    items: list[KitDifferenceResponse]


class KitResponse(ApiModel):
    """A kit: for which devices it was made, on which exceptions it rests, and whether it stands."""

    id: str
    platform: str
    sheet_revision: int
    release: str
    route: str
    carry_over: str
    device: str = Field(description="The first of its devices")
    devices: list[str]
    overrides: list[str]
    exceptions: list[str]
    waived: dict[str, str]
    media: str | None
    sets: list[str]
    expires_on: date | None
    sha256: str
    made_by: str
    made_at: Moment
    reasons: list[str] = Field(description="Why it is no longer handed out; none while it stands")
    used: list[str] = Field(description="Attempts that were made with it")


class KitFileResponse(ApiModel):
    """A file of a kit."""

    path: str
    text: str


class KitDetail(ApiModel):
    """A kit with its files."""

    kit: KitResponse
    files: list[KitFileResponse]


class KitList(ApiModel):
    """Kits, newest first."""

    items: list[KitResponse]


class SettingWordsResponse(ApiModel):
    """A setting in words."""

    place: str
    section: str
    name: str
    value: str


class SettingsSetResponse(ApiModel):
    """Settings for after the upgrade, and whether the device has them in place."""

    id: str
    title: str
    why: str
    in_place: Literal["in-place", "not-in-place", "unread", "not-stated"] = Field(
        description="By the device's facts; not-stated if the sheet names none"
    )
    settings: list[SettingWordsResponse]


class SettingsSetList(ApiModel):
    """The settings sets of a sheet, for one device."""

    items: list[SettingsSetResponse]
