"""Devices on the wire: facts, readings, filters, selections."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from pydantic import ConfigDict, Field

from doorstone.api.common import ApiModel, RequestModel, UncoveredBrief
from doorstone.api.times import Moment
from doorstone.core.devices import filter
from doorstone.core.devices.life import Life
from doorstone.core.devices.unplaced import UnplacedReason
from doorstone.core.sorting.assessment import State


class DeviceResponse(ApiModel):
    """A device in a list: where it is, what it runs, its state and marks at a release, its runway."""

    id: str
    name: str
    site: str
    role: str
    critical: bool
    platform: str
    model: str
    release: str
    edition: str
    state: State | Literal[""] = Field(description="At the target release; empty for a device that is not in service")
    marks: dict[str, str] = Field(description="Requirement to mark, in the sheet's order")
    runway: date | None


class DevicePageResponse(ApiModel):
    """A page of devices at a release, and the sites, roles and models to filter by."""

    platform: str
    release: str
    total: int
    items: list[DeviceResponse]
    next: str | None
    sites: list[str]
    roles: list[str]
    models: list[str]


class FactWordResponse(ApiModel):
    """A value of a fact, who reported it and when."""

    value: str
    source: str
    taken_at: Moment


class FactResponse(ApiModel):
    """A fact of a device: the value that is believed, and what other sources say instead."""

    name: str
    title: str
    believed: FactWordResponse
    rivals: list[FactWordResponse]
    lasting: bool
    aged: bool


class ReadingResponse(ApiModel):
    """One reading as it came."""

    source: str
    taken_at: Moment
    facts: dict[str, Any]
    verdicts: dict[str, bool]
    unread: dict[str, str] = Field(description="Fact to why it could not be read")
    texts: list[str] = Field(description="Failures in the source's own words")


class ReadingPageResponse(ApiModel):
    """A page of a device's readings, newest first."""

    items: list[ReadingResponse]
    next: str | None = Field(description="The cursor of the earlier readings; null if there are none")


class CourseResponse(ApiModel):
    """What to do next with a device, by which day, and why."""

    way: Literal["take", "fix", "except", "read", "stay", "retire"]
    by: date | None
    why: str


class VerdictResponse(ApiModel):
    """A source's own word on a requirement: it passes or fails."""

    requirement: str
    passed: bool
    source: str
    taken_at: Moment


class DeviceDetail(ApiModel):
    """All about one device: facts with their sources, verdicts, course."""

    device: DeviceResponse
    life: LifeResponse | None = Field(description="Its last change of life; none if it has always been in service")
    target: str
    releases: list[str]
    facts: list[FactResponse]
    verdicts: list[VerdictResponse] = Field(description="What each source says passes or fails, newest first")
    course: CourseResponse | None
    uncovered: UncoveredBrief | None = Field(description="What it runs without permission; null if it is covered")


class LifeRequest(RequestModel):
    """Bring devices into another life: those named, or those in service that a selection or a site chooses."""

    devices: list[str] = Field(default=[], max_length=5000)
    selection: str = Field("", description="A saved selection")
    site: str = Field("", max_length=100, description="Every device at this site, of whatever platform and life")
    life: Life
    on: date | None = Field(None, description="Since when; today if left out")
    reason: str = Field(max_length=1000)
    look_on: date | None = Field(None, description="With set-aside: the day to look again")
    wiped_by: str = Field("", max_length=100, description="With retired and replaced: who erased the data")
    replaced_by: str = Field("", description="With replaced: the device in its place")


class LifeRow(RequestModel):
    """A change of a device's life in a file of many."""

    device: str
    life: Life
    on: date | None = None
    reason: str = Field(max_length=1000)
    look_on: date | None = None
    wiped_by: str = Field("", max_length=100)
    replaced_by: str = ""


class LifeChangedResponse(ApiModel):
    """A device whose life changed, and what that does to its exceptions."""

    device: str
    site: str
    was: Life
    life: Life
    ends: list[str] = Field(description="Exceptions that end, as the device was the last one in them")
    leaves: list[str] = Field(description="Exceptions that go on for other devices")


class LifeChangedList(ApiModel):
    """Devices whose life changed in one call."""

    items: list[LifeChangedResponse]


class LifeResponse(ApiModel):
    """A device's life from a day on."""

    id: str
    device: str
    life: Life
    on: date
    reason: str
    look_on: date | None
    wiped_by: str = Field(description="Empty while nobody has erased the data")
    replaced_by: str
    by: str
    at: Moment


class LifeHistory(ApiModel):
    """The changes of a device's life, in their order."""

    items: list[LifeResponse]


class OutOfServiceResponse(LifeResponse):
    """A device out of service, with its life and whether it was read since."""

    name: str
    site: str
    model: str
    last_read_on: date | None
    read_since: bool = Field(description="It is gone, and was read on a later day")


class OutOfServiceList(ApiModel):
    """Devices out of service."""

    items: list[OutOfServiceResponse]


class DeviceChangeRequest(RequestModel):
    """Attributes of a device that rules rest on; what is left out stays as it is."""

    site: str | None = Field(None, max_length=100)
    role: str | None = Field(None, max_length=100)
    critical: bool | None = None
    note: str = Field(min_length=5, max_length=4000, description="Why; it stands in the ledger")


class DevicesChangeRequest(DeviceChangeRequest):
    """The same change for many devices: those named, and those that a selection or a site chooses."""

    devices: list[str] = Field(default=[], max_length=5000)
    selection: str = Field("", description="A saved selection")
    at_site: str = Field("", max_length=100, description="Every device at this site, of whatever platform and life")


class DeviceChangedResponse(ApiModel):
    """A device of which attributes changed, before and after."""

    device: str
    was: dict[str, str | bool] = Field(description="Attribute to what it was")
    now: dict[str, str | bool]
    stale: list[str] = Field(description="Approvals that need a second look")


class DeviceChangedList(ApiModel):
    """Devices that changed in one call."""

    items: list[DeviceChangedResponse]


class DeviceFilter(RequestModel):
    """Which devices: every given part must fit."""

    model_config = ConfigDict(from_attributes=True)

    state: str = ""
    site: str = ""
    role: str = ""
    model: str = ""
    requirement: str = ""
    mark: str = Field("", description="With requirement: met, fixable, installer-check, floor, unread, ...")
    words: str = Field("", max_length=200, description="Every word must occur in id, name, site, role or model")

    def chosen(self) -> filter.DeviceFilter:
        return filter.DeviceFilter(
            self.state, self.site, self.role, self.model, self.requirement, self.mark, self.words
        )


class UnplacedResponse(ApiModel):
    """A device of which no loaded sheet knows the platform and the release."""

    device: str
    name: str
    site: str
    reason: UnplacedReason
    value: str = Field(description="What its readings say; empty if they do not say it")
    hint: str
    last_read_at: Moment | None


class UnplacedList(ApiModel):
    """Devices that no loaded sheet describes."""

    items: list[UnplacedResponse]


class SelectionRequest(RequestModel):
    """A filter to save under a name."""

    platform: str
    release: str = Field("", description="That state and mark are asked against; the day's target if left out")
    where: DeviceFilter


class SelectionResponse(ApiModel):
    """A saved filter."""

    name: str
    platform: str
    release: str
    where: DeviceFilter
    by: str
    at: Moment


class SelectionList(ApiModel):
    """Saved filters, by name."""

    items: list[SelectionResponse]


# ---------------------------------------------------------------- disputes


class SideResponse(ApiModel):
    """What one source says in a dispute; `trust` and time decide which side is believed."""

    value: str
    source: str
    trust: int
    taken_at: Moment
    outcome: str
    believed: bool


class DisputeResponse(ApiModel):
    """A fact or requirement of a device on which sources disagree, with every side."""

    device: str
    name: str
    site: str
    kind: Literal["fact", "requirement"]
    subject: str
    title: str
    requirements: list[str]
    sides: list[SideResponse]


class DisputeList(ApiModel):
    """Open disputes."""

    items: list[DisputeResponse]


class SettlementRequest(RequestModel):
    """A decision on a dispute: which side is right, and why."""

    device: str
    kind: Literal["fact", "requirement"] = "fact"
    subject: str = Field(max_length=200, description="A fact, or a requirement whose verdict speaks against the facts")
    value: Any = Field(description="Of a fact: what one of the sources says. Of a requirement: met or unmet")
    reason: str = Field(max_length=2000)


class SettlementResponse(ApiModel):
    """A decision on a dispute as it was recorded."""

    id: str
    device: str
    kind: Literal["fact", "requirement"]
    subject: str
    value: str
    reason: str
    by: str
    at: Moment
    stands: bool = Field(description="False once something newer has been read of the subject")


class SettlementList(ApiModel):
    """Decisions on disputes of a device."""

    items: list[SettlementResponse]
