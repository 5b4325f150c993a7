"""Observations of updates on the wire, and the standing of a device."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.core.platforms.platform import Standing, UpdateClass


class ObservationRequest(RequestModel):
    """What was seen of one update class on a device."""

    device: str
    seen_on: date
    update_class: UpdateClass
    result: Literal["arrived", "offered", "not-offered"]
    reason: Literal["", "phased", "held", "unsupported", "unknown"] = ""
    source: str = Field("operator", max_length=64)
    detail: str = Field("", max_length=1000)
    corrects: str = Field("", max_length=40, description="The observation that was recorded wrongly")


class ObservationResponse(ApiModel):
    """An observation as it was recorded."""

    id: str
    device: str
    seen_on: date
    update_class: str
    result: str
    reason: str
    source: str
    detail: str
    by: str
    corrects: str = Field("", description="The observation that this one puts right")
    corrected_by: str = Field(
        "", description="The observation that puts this one right; it counts for nothing any more"
    )


class ObservationList(ApiModel):
    """Observations, newest first."""

    items: list[ObservationResponse]


class SeenResponse(ApiModel):
    """The newest observation of an update class."""

    seen_on: date
    result: str
    reason: str
    source: str
    detail: str


class ClassStandingResponse(ApiModel):
    """What is expected of an update class on a device, and what was seen."""

    update_class: UpdateClass
    expected: Standing
    because: list[str]
    observed: SeenResponse | None
    compared: Literal["as-expected", "better", "worse", "too-old", "not-observed"]


class AttributionResponse(ApiModel):
    """What the requirements of one exception do to one update class."""

    exception: str
    update_class: UpdateClass
    alone: Standing
    shared_with: list[str]
    restored: Standing


class StandingResponse(ApiModel):
    """Which updates a device can expect, and what each exception takes away."""

    device: str
    release: str
    classes: list[ClassStandingResponse]
    attributions: list[AttributionResponse]
