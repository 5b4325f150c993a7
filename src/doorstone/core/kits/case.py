"""What a kit is made of: one case of a platform, release and route, with everything that its files are to say."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

from msgspec import Struct, field

from doorstone.core.kits.gates import GateResult
from doorstone.core.kits.overrides import OverrideSet
from doorstone.core.media import Media
from doorstone.core.platforms.platform import Platform, Route, SettingsSet


class KitException(Struct, frozen=True):
    """What the runbook and the manifest say of an exception."""

    id: str
    requirements: tuple[str, ...]
    expiry: date
    conditions: str
    acknowledged_by: str


class KitStep(Struct, frozen=True):
    """What has to be done or checked on `devices` after the upgrade; on every device of the kit if there are none."""

    title: str
    todo: str
    blocking: bool = False
    devices: tuple[str, ...] = ()


class UnprovedFix(Struct, frozen=True):
    """A fix that was recorded as done on a device, and that no reading has shown since: the facts as it gives them."""

    device: str
    facts: str
    done_on: date


class KitCase(Struct, frozen=True):
    """Everything a kit is made of. `carry_over` is everything, files or nothing."""

    id: str
    platform: Platform
    sheet_revision: int
    sheet_sha256: str
    release: str
    route: Route
    carry_over: str
    devices: tuple[str, ...]
    chosen: OverrideSet
    exceptions: tuple[KitException, ...]
    gates: tuple[GateResult, ...]
    made_on: date
    patches: tuple[str, ...] = ()
    waived: Mapping[str, str] = field(default_factory=dict)  # gate -> why it was waived
    media: Media | None = None
    sets: tuple[SettingsSet, ...] = ()
    machines: tuple[tuple[str, str, str], ...] = ()  # device, name, serial number
    steps: tuple[KitStep, ...] = ()
    unproved: tuple[UnprovedFix, ...] = ()

    @property
    def expires(self) -> date | None:
        """The last day on which every exception that it rests on is in force; None if it rests on none."""
        return min((e.expiry for e in self.exceptions), default=None)
