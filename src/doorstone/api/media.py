"""Set-up media on the wire."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.api.common import ONE_LINE, ApiModel, RequestModel
from doorstone.api.devices import DeviceFilter
from doorstone.api.times import Moment


class MediaRequest(RequestModel):
    """A set-up media to record, with the SHA-256 that was computed of it."""

    platform: str
    release: str = Field(description="What is on it")
    asked: str = Field("", description="What its maker was asked for; the same if left out")
    editions: list[str] = Field(min_length=1, max_length=20)
    language: str = Field(min_length=2, max_length=35, pattern=r"^[A-Za-z0-9-]+$")
    arch: str = Field("x86-64", min_length=1, max_length=35)
    partition_table: Literal["gpt", "mbr"] = "gpt"
    size: int = Field(ge=1, le=10**13, description="In bytes")
    sha256: str
    published_sha256: str = Field("", description="The vendor's word; refused if it differs from sha256")
    origin: str = Field("", max_length=200, pattern=ONE_LINE, description="Where it is, or who made it")
    maker: str = Field("", max_length=200, pattern=ONE_LINE, description="The media maker and its version")
    link: str = Field("", max_length=1000, pattern=r"^(https://[^\s\x00-\x1f]*)?$")
    link_ends: date | None = Field(None, description="The last day on which the link gives it")
    stick_gb: int | None = Field(None, ge=1, le=4096, description="The stick it is written on, if it is")


class MediaResponse(ApiModel):
    """A recorded media, what is on it, and what attempts found wrong with it."""

    id: str
    platform: str
    release: str
    asked: str
    editions: list[str]
    language: str
    arch: str
    partition_table: str
    size: int
    sha256: str
    verified: bool = Field(description="Its SHA-256 is the published one")
    origin: str
    maker: str
    link: str
    link_ends: date | None
    stick_gb: int | None
    needs_gb: int = Field(description="The smallest usual stick that holds it; 0 if none does")
    withdrawn: str
    defects: list[str]
    by: str
    at: Moment


class MediaList(ApiModel):
    """Recorded media."""

    items: list[MediaResponse]


class MediaVerifyRequest(RequestModel):
    """The SHA-256 that the vendor published of a media."""

    published_sha256: str = Field(pattern=r"^[0-9a-fA-F]{64}$")


class MediaWithdrawRequest(RequestModel):
    """Why a media is no longer to be used."""

    why: str = Field(min_length=3, max_length=300)


class MediaPlanRequest(RequestModel):
    """Devices by name; or those of a platform that fit, on top of a saved selection if one is named."""

    devices: list[str] = Field([], max_length=5000)
    platform: str = ""
    selection: str = ""
    where: DeviceFilter = DeviceFilter()
    release: str = ""
    sticks_per_site: int = Field(1, ge=1, le=1000)


class MediaUseResponse(ApiModel):
    """Devices that are set up from one media, and how many sticks each site needs."""

    media: str
    what: str
    devices: list[str]
    sticks: dict[str, int] = Field(description="Site to how many sticks")
    stick_gb: int
    defects: list[str]


class MismatchResponse(ApiModel):
    """Devices that no recorded media fits, and what to do."""

    devices: list[str]
    why: str
    hint: str


class MediaPlanResponse(ApiModel):
    """Which media serves which devices."""

    release: str
    uses: list[MediaUseResponse]
    mismatches: list[MismatchResponse]
