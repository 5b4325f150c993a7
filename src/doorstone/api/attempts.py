"""Attempts on the wire, and what they have shown."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment
from doorstone.api.updates import ObservationRequest


class AttemptRequest(RequestModel):
    """An attempt to record: how set-up was run on a device, and how it ended."""

    device: str
    kit: str = ""
    release: str = ""
    route: Literal["offered", "in-place", "clean"] = "in-place"
    carry_over: Literal["everything", "files", "nothing"] = "everything"
    outcome: Literal["completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned"]
    refused_by: list[str] = Field(default_factory=list)
    seen: str = Field("", max_length=4000)
    media: str = Field("", max_length=200)
    tool_version: str = Field("", max_length=200)
    started_at: Moment
    ended_at: Moment
    notice_accepted: bool = Field(False, description="The vendor's notice was shown and accepted")
    mismatch: str = Field("", max_length=200, description="With carry-over-lost: what did not match")
    corrects: str = Field(
        "", max_length=40, description="The attempt that was recorded wrongly, and is put right by this"
    )
    runs: str = Field(
        "", max_length=60, description="With corrects: the release that the device of the wrong attempt runs after all"
    )


class AttemptResponse(ApiModel):
    """An attempt as it was recorded; `unmet` are the requirements that the device failed then."""

    id: str
    device: str
    number: int
    kit: str | None
    platform: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: list[str]
    seen: str
    media: str
    tool_version: str
    unmet: list[str]
    started_at: Moment
    ended_at: Moment
    by: str
    notice_accepted: str = Field(description="The notice that was accepted, word for word; empty if none was")
    mismatch: str
    corrects: str = Field("", description="The attempt that this one puts right")
    corrected_by: str = Field("", description="The attempt that puts this one right; it counts for nothing any more")
    minutes: int = Field(description="How long it took")


class AttemptList(ApiModel):
    """Attempts, newest first."""

    items: list[AttemptResponse]


class AttemptBatchRequest(RequestModel):
    """Up to 500 attempts, recorded together or not at all."""

    items: list[AttemptRequest] = Field(min_length=1, max_length=500)


class ObservationBatchRequest(RequestModel):
    """Up to 20,000 observations of updates, recorded together or not at all."""

    items: list[ObservationRequest] = Field(min_length=1, max_length=20_000)


class BatchResponse(ApiModel):
    """How many records of a batch are new."""

    recorded: int
    known: int = Field(description="Already there, and left alone")


class DraftResponse(ApiModel):
    """What the next attempt on a device starts from."""

    device: str
    number: int
    kit: str = Field(description="The newest that stands; empty if none does")
    media: str
    tool_version: str
    met: list[str] = Field(description="What earlier attempts met, in order")


class RateResponse(ApiModel):
    """How often attempts of one kind succeeded: counts, and the interval in which the true share lies."""

    key: str
    tried: int
    done: int
    low: float = Field(description="Lower end of the 95 % interval (Wilson), a share")
    high: float


class RateList(ApiModel):
    """Success rates, by what they were grouped by."""

    items: list[RateResponse]
