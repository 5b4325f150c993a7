"""Whether a kit is still valid, and why not: a changed sheet, exception, device, gate or media.

In: what the kit was made of, and the same today or by a sheet that might be loaded. Out: the reasons, none while the
kit is valid.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct

from doorstone.core.exceptions.life import ExceptionState
from doorstone.core.kits.gates import GateResult
from doorstone.core.platforms.platform import Gate, Platform, Route
from doorstone.core.sorting.assessment import Assessment

MADE_OF = (
    "title", "kind", "covers", "routes", "needs", "restart", "lasting", "cautions", "expect", "settings", "arguments",
    "files", "loader",
)  # fmt: skip
"""Attributes of an override that are in a kit, or that decide whether it works there."""


class KitBasis(Struct, frozen=True):
    """What a kit was made of. `waived` are the gates whose warning was waived, `models` those of its devices."""

    devices: Sequence[str]
    release: str
    route: Route
    overrides: Sequence[str]
    sets: Sequence[str]
    models: Collection[str]
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


def sheet_changes(kit: KitBasis, before: Platform, after: Platform) -> Iterator[str]:
    """What of a kit that was made by the sheet `before` is otherwise in the sheet `after`, by name.

    A kit does not depend on anything else in a sheet: other overrides, other releases, weights or costs.
    """
    if not after.has(kit.release):
        yield f"release {kit.release} is no longer in the sheet"
        return
    was, now = before.release(kit.release), after.release(kit.release)
    if was.notice != now.notice:
        yield "the vendor's notice to accept has another text"
    if was.rollback_days != now.rollback_days:
        yield f"rollback is possible for {now.rollback_days} days, was {was.rollback_days}"
    yield from _overrides_changed(kit, before, after)
    if before.store != after.store or before.name != after.name:
        yield "the platform keeps settings in another way"
    yield from _parts_changed("gate", _gates(before, kit.route), _gates(after, kit.route))
    yield from _parts_changed("follow-up", {f.id: f for f in before.followups}, {f.id: f for f in after.followups})
    sets = [{s.id: s for s in platform.sets if s.id in kit.sets} for platform in (before, after)]
    yield from _parts_changed("settings set", *sets)
    for model in sorted(kit.models):
        patches = [side.models[model].patches if model in side.models else () for side in (before, after)]
        if patches[0] != patches[1]:
            was_named, now_named = (", ".join(side) or "none" for side in patches)
            yield f"the patches for {model} are {now_named}, were {was_named}"


def _overrides_changed(kit: KitBasis, before: Platform, after: Platform) -> Iterator[str]:
    old, new = ({o.id: o for o in platform.overrides} for platform in (before, after))
    for name in kit.overrides:
        if name not in new:
            yield f"override {name} is no longer in the sheet"
            continue
        was, now = old.get(name), new[name]
        if not after.in_span(kit.release, now.since, now.until):
            yield f"override {name} does not work on {kit.release}"
        if parts := [part for part in MADE_OF if was is None or getattr(was, part) != getattr(now, part)]:
            yield f"override {name} has other {', '.join(parts)}"
        if against := sorted(now.conflicts & set(kit.overrides)):
            yield f"override {name} conflicts with {', '.join(against)}"


def _gates(platform: Platform, route: Route) -> dict[str, Gate]:
    return {gate.id: gate for gate in platform.gates if route in gate.routes}


def _parts_changed(kind: str, before: Mapping[str, object], after: Mapping[str, object]) -> Iterator[str]:
    """Each part that was added, removed or changed; and another order of the parts."""
    for name in dict.fromkeys([*before, *after]):
        if before.get(name) != after.get(name):
            word = (
                "was added" if name not in before else "is no longer in the sheet" if name not in after else "differs"
            )
            yield f"{kind} {name} {word}"
    kept = [[name for name in side if name in before and name in after] for side in (before, after)]
    if kept[0] != kept[1]:
        yield f"the {kind}s have another order"


def permission_ended(
    kit: KitBasis, exceptions: Mapping[str, HeldException], withdrawn: str, as_of: date
) -> Iterator[str]:
    """Why the kit is no longer valid, whatever the sheet says and its devices are.

    `withdrawn` says why its media was withdrawn; empty if it was not.
    """
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
    """Which findings and gates of a device do not allow the kit. `excepted` are named by the kit's exceptions."""
    for finding in device.assessment.findings:
        if finding.mark != "met" and finding.requirement.id not in excepted:
            yield f"{device.id}: {finding.requirement.title} is {finding.mark} now"
    for gate in device.gates:
        if gate.blocks:
            yield f"{device.id}: {gate.gate.title}: {gate.measured}"
        elif gate.waivable and gate.gate.id not in kit.waived:
            yield f"{device.id}: {gate.gate.title}: {gate.measured} (a warning)"
