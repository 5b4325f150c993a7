"""What goes over the wire of kits, gates, media and settings sets."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from doorstone.formats.wire import Asked, KitRoute, Shape, TroubleShape
from doorstone.formats.wire_fleet import FilterAsked
from doorstone.formats.wire_time import Moment

# ---------------------------------------------------------------------- kits


class KitAsked(Asked):
    device: str = Field("", description="The device; or name several in devices")
    devices: list[str] = Field([], max_length=500, description="Devices of the same case, which share the kit")
    release: str = ""
    route: KitRoute = "in-place"
    carry_over: Literal["everything", "files", "nothing"] = "everything"
    waive: dict[str, str] = Field({}, description="Gate to why its warning is waived; a stop cannot be")
    media: str = Field("", description="The media to use; the one that fits the devices best if left out")
    sets: list[str] = Field([], max_length=50, description="Settings sets for after the upgrade")


class GateShape(Shape):
    """A gate before a device, as it stands today."""

    id: str
    title: str
    severity: str
    result: str = Field(description="holds, warns, stops or unread")
    asks: str
    measured: str
    todo: str
    waivable: bool


class GateList(Shape):
    items: list[GateShape]


class RouteShape(Shape):
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


class RouteList(Shape):
    items: list[RouteShape]


class SharedCaseShape(Shape):
    devices: list[str]
    overrides: list[str]
    media: str


class KitCasesShape(Shape):
    """How devices split into the fewest kits, and why some can have none yet."""

    cases: list[SharedCaseShape]
    refused: list[TroubleShape]


class KitDifferenceShape(Shape):
    what: str
    one: str
    other: str


class KitDifferenceList(Shape):
    items: list[KitDifferenceShape]


class KitShape(Shape):
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


class KitFileShape(Shape):
    path: str
    text: str


class KitDetail(Shape):
    kit: KitShape
    files: list[KitFileShape]


class KitList(Shape):
    items: list[KitShape]


# --------------------------------------------------------------------- media


ONE_LINE = r"^[^\x00-\x1f\x7f]*$"


class MediaAsked(Asked):
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


class MediaShape(Shape):
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
    troubles: list[str]
    by: str
    at: Moment


class MediaList(Shape):
    items: list[MediaShape]


class MediaVerifyAsked(Asked):
    published_sha256: str = Field(pattern=r"^[0-9a-fA-F]{64}$")


class MediaWithdrawAsked(Asked):
    why: str = Field(min_length=3, max_length=300)


class MediaPlanAsked(Asked):
    """Devices by name; or those of a platform that fit, on top of a saved selection if one is named."""

    devices: list[str] = Field([], max_length=5000)
    platform: str = ""
    selection: str = ""
    where: FilterAsked = FilterAsked()
    release: str = ""
    sticks_per_site: int = Field(1, ge=1, le=1000)


class MediaUseShape(Shape):
    media: str
    what: str
    devices: list[str]
    sticks: dict[str, int] = Field(description="Site to how many sticks")
    stick_gb: int
    troubles: list[str]


class MismatchShape(Shape):
    devices: list[str]
    why: str
    mend: str


class MediaPlanShape(Shape):
    release: str
    uses: list[MediaUseShape]
    mismatches: list[MismatchShape]


# -------------------------------------------------------------- settings sets


class SettingWordsShape(Shape):
    place: str
    section: str
    name: str
    value: str


class SettingsSetShape(Shape):
    id: str
    title: str
    why: str
    in_place: Literal["in-place", "not-in-place", "unread", "not-told"] = Field(
        description="By the device's facts; not-told if the sheet names none"
    )
    settings: list[SettingWordsShape]


class SettingsSetList(Shape):
    items: list[SettingsSetShape]
