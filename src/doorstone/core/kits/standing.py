"""Whether a kit may still be used, and why not: a changed sheet, exception, device, gate or media.

In: what the kit was made of, and how that stands today. Out: the reasons, none while the kit stands.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct

from doorstone.core.exceptions.life import ExceptionState
from doorstone.core.kits.gates import GateResult
from doorstone.core.sorting.assessment import Assessment


class KitBasis(Struct, frozen=True):
    """What a kit was made of. `waived` are the gates of which somebody has waived the warning."""

    devices: Sequence[str]
    sheet_revision: int
    exceptions: Sequence[str]
    media: str
    waived: Collection[str]


class HeldException(Struct, frozen=True):
    """An exception that a kit rests on, today. `state` is None if there is none of that name any more."""

    state: ExceptionState | None
    expiry: date | None = None
    stale_for: Collection[str] = ()
    requirements: Collection[str] = ()


class KitDevice(Struct, frozen=True):
    """A device of a kit today: assessed against the kit's release, and the gates of the kit's route on it."""

    id: str
    assessment: Assessment
    gates: Sequence[GateResult]


def permission_ended(
    kit: KitBasis, revision: int | None, exceptions: Mapping[str, HeldException], withdrawn: str, as_of: date
) -> Iterator[str]:
    """Why the kit no longer stands, its devices aside. `revision` is that of the sheet in force, None without one.

    `withdrawn` says why its media was withdrawn; empty if it was not.
    """
    if revision is not None and revision != kit.sheet_revision:
        yield f"it was made of revision {kit.sheet_revision} of the sheet, which is at {revision}"
    for name in kit.exceptions:
        held = exceptions[name]
        if held.state is not ExceptionState.APPROVED:
            yield f"{name} is {held.state or 'gone'}"
        yield from (f"{name} is stale for {device}" for device in kit.devices if device in held.stale_for)
    last = last_day(exceptions[name].expiry for name in kit.exceptions)
    if last is not None and as_of > last:
        yield f"its last day was {last}"
    if withdrawn:
        yield f"{kit.media} was withdrawn: {withdrawn}"


def last_day(expiries: Iterator[date | None]) -> date | None:
    """The last day of a kit that rests on exceptions with these expiry days; None if it rests on none."""
    return min((day for day in expiries if day is not None), default=None)


def device_changed(kit: KitBasis, device: KitDevice, excepted: Collection[str]) -> Iterator[str]:
    """What of a device's findings and gates does not allow the kit today. `excepted` are named by its exceptions."""
    for finding in device.assessment.findings:
        if finding.mark != "met" and finding.requirement.id not in excepted:
            yield f"{device.id}: {finding.requirement.title} is {finding.mark} now"
    for gate in device.gates:
        if gate.blocks:
            yield f"{device.id}: {gate.gate.title}: {gate.measured}"
        elif gate.waivable and gate.gate.id not in kit.waived:
            yield f"{device.id}: {gate.gate.title}: {gate.measured} (a warning)"
