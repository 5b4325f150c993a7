"""Follow-ups on the wire, and what `verify` of a kit printed."""

from __future__ import annotations

import json
from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment


class FollowUpResponse(ApiModel):
    """A step to do after an upgrade."""

    id: str
    attempt: str
    device: str
    name: str
    title: str
    todo: str
    kind: str
    blocking: bool
    due_on: date
    state: Literal["open", "done", "failed", "skipped"]
    answer: str
    reason: str
    by: str
    at: str


class FollowUpsResponse(ApiModel):
    """The steps after an attempt, and until when the device can go back."""

    device: str
    attempt: str
    steps: list[FollowUpResponse]
    blocked: bool = Field(description="Something is open that the device is not finished without")
    rollback_until: date | None


class FollowUpRequest(RequestModel):
    """What came of a step: done, failed, or skipped with a reason."""

    state: Literal["done", "failed", "skipped"]
    answer: Literal["", "as-before", "slower", "faster"] = ""
    reason: str = Field("", max_length=500)
    confirm: bool = Field(False, description="Said twice: that doing it ends going back is meant")


class FollowUpRow(FollowUpRequest):
    """What came of a follow-up, in a file of many."""

    device: str
    step: str = Field(description="Its id, or its name as the device's list has it")


def _as_text(value: Any) -> Any:
    """A value of a JSON store as the text that is kept: a list or number as JSON writes it."""
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


_Kept = Annotated[str, BeforeValidator(_as_text)]


class SettingStateResponse(RequestModel):
    """A setting of a kit as it was found on the device."""

    place: str = ""
    section: str = ""
    name: str
    state: Literal["right", "missing", "different", "near-miss"]
    expected: _Kept = ""
    found: _Kept = ""
    near: str = ""
    slip: str = ""


class VerifyReportRequest(RequestModel):
    """What `verify` of a kit printed on a device."""

    kit: str
    ok: bool
    settings: list[SettingStateResponse] = Field(max_length=5000)


class ChangedResponse(ApiModel):
    """A setting that was found otherwise than the last time."""

    setting: str
    was: str
    now: str


class VerifiedResponse(ApiModel):
    """A report of `verify` of a kit, and what changed since the one before."""

    id: str
    kit: str
    device: str
    at: Moment
    by: str
    ok: bool
    settings: list[dict[str, str]]
    changed: list[ChangedResponse]


class VerifiedList(ApiModel):
    """Reports of a device's settings, newest first."""

    items: list[VerifiedResponse]
