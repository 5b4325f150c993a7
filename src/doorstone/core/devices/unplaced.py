"""Unplaced devices: those of which no sheet knows the platform or the release, and the way out.

Without a known platform a device is in no list and no count, without a known release it has no forecast.

In: what a device says of its platform and release, and the platforms that are loaded. Out: why, and what to do.
"""

from __future__ import annotations

from collections.abc import Mapping
from difflib import get_close_matches
from enum import StrEnum

from msgspec import Struct

from doorstone.core.platforms.platform import Platform


class UnplacedReason(StrEnum):
    NO_PLATFORM = "no-platform"
    UNKNOWN_PLATFORM = "unknown-platform"
    NO_RELEASE = "no-release"
    UNKNOWN_RELEASE = "unknown-release"


class Unplaced(Struct, frozen=True):
    """Why a device is unplaced. `value` is what its readings say, empty if they do not say it."""

    reason: UnplacedReason
    value: str
    hint: str


def unplaced(platform: str, release: str, known: Mapping[str, Platform]) -> Unplaced | None:
    """Why a device on this platform and release is unplaced; None if a sheet knows both."""
    if not platform:
        return Unplaced(UnplacedReason.NO_PLATFORM, "", "Import a reading that holds os.platform")
    sheet = known.get(platform)
    if sheet is None:
        hint = f"Load the sheet of {platform}{_near(platform, list(known))}"
        return Unplaced(UnplacedReason.UNKNOWN_PLATFORM, platform, hint)
    if not release:
        return Unplaced(UnplacedReason.NO_RELEASE, "", "Import a reading that holds os.release")
    if not sheet.has(release):
        near = _near(release, [one.id for one in sheet.releases])
        return Unplaced(
            UnplacedReason.UNKNOWN_RELEASE, release, f"Add release {release} to the sheet of {platform}{near}"
        )
    return None


def _near(value: str, known: list[str]) -> str:
    near = get_close_matches(value, known, 1, 0.5)
    return f", or read the device again if {near[0]} is meant" if near else ", or read the device again"
