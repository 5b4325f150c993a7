"""What changed since an approval: the findings, sorts and conditions that it rests on, device by device."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date
from typing import Any, Protocol

from doorstone.core.conditions import parse
from doorstone.core.exceptions.conditions import ExceptionCondition, by_facts
from doorstone.core.exceptions.life import stale_because
from doorstone.core.facts import View
from doorstone.core.platforms.platform import Platform
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.exceptions.exceptions import CHANGED
from doorstone.store.exceptions.rows import ConditionRow
from doorstone.work.snapshot.sheets import Sheet


class ApprovalBasis(Protocol):
    """What `stale_reasons` needs to know of devices."""

    @property
    def sheets(self) -> Mapping[str, Sheet]: ...

    def rows(self, devices: Iterable[str]) -> list[DeviceRow]: ...

    def view(self, device: str) -> View: ...

    def shown(
        self, devices: Iterable[str], release: str, requirements: Collection[str]
    ) -> dict[str, dict[str, Any]]: ...


def conditions_of(row: ConditionRow, platform: Platform) -> ExceptionCondition:
    data = row.fact_condition
    condition = parse(data, platform.specs, platform.lists) if data else None
    due = date.fromisoformat(row.due_on) if row.due_on else None
    return ExceptionCondition(row.number, row.text, condition, due, row.every_days)


def stale_reasons(
    now: ApprovalBasis,
    platform: str,
    release: str,
    requirements: Sequence[str],
    conditions: Sequence[ConditionRow],
    approved: Mapping[str, Mapping[str, Any]],
    *,
    moved_on: bool = False,
) -> dict[str, list[str]]:
    """The devices that are no longer what was approved, each with what changed. `approved` is what was shown of each.

    A device that runs a later release than the exception names is left out: for it the exception has served; and one
    that is not in service. With `moved_on`, only those that run a later release are looked at.
    """
    changed: dict[str, list[str]] = {}
    rows = {one.id: one for one in now.rows(approved)}
    if moved_on:
        approved = {name: seen for name, seen in approved.items() if name in rows and _past(now, rows[name], release)}
    approved = {name: seen for name, seen in approved.items() if name not in rows or rows[name].in_service}
    seen = now.shown(approved, release, requirements)
    for device, before in approved.items():
        if device not in seen:
            changed[device] = ["its platform or release is no longer in the sheet"]
        elif moved_on or not _past(now, rows[device], release):
            wanted = {name: part for name, part in before.items() if name in requirements}
            because = stale_because(wanted, seen[device], now.sheets[rows[device].platform].platform.specs)
            if CHANGED in before:
                because = [before[CHANGED], *because]
            if because:
                changed[device] = because
    sheet = now.sheets.get(platform)
    for one in conditions if sheet is not None else ():
        keep = conditions_of(one, sheet.platform) if sheet else None
        if keep is None or keep.condition is None:
            continue
        for device in approved:
            kept = by_facts(keep, now.view(device))
            if not kept.holds:
                changed.setdefault(device, []).append(f"the condition “{kept.text}” is not kept: {kept.measured}")
    return changed


def has_served(now: ApprovalBasis, device: str, release: str) -> bool:
    """Whether a device no longer needs its approval: it runs a later release, or is not in service."""
    return any(
        not row.in_service or _past(now, row, release) for row in now.rows([device]) if row.platform in now.sheets
    )


def _past(now: ApprovalBasis, device: DeviceRow, release: str) -> bool:
    if device.platform not in now.sheets:
        return False
    platform = now.sheets[device.platform].platform
    return platform.has(device.running_release) and platform.index(device.running_release) > platform.index(release)
