"""The residual risk of exceptions: gathered from sheets, devices and conditions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from doorstone.core.exceptions.conditions import ConditionState
from doorstone.core.exceptions.residual import ResidualRisk, RiskDevice, residual_risk
from doorstone.core.platforms.platform import Platform
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.readings.contents import any_holds
from doorstone.work.snapshot.approvals import KeptView
from doorstone.work.snapshot.snapshot import Snapshot


def residual_of(now: Snapshot, row: ExceptionRow, kept: Sequence[KeptView]) -> ResidualRisk:
    """The residual risk of an exception as its devices and conditions stand today."""
    sheet = now.sheets.get(row.platform)
    if sheet is None:
        return ResidualRisk(0, (), "")
    return risk_on(now, sheet.platform, row.requirements, row.devices, kept_number(kept))


def kept_number(kept: Iterable[KeptView]) -> int:
    return sum(one.kept.word is ConditionState.KEPT for one in kept)


def risk_on(
    now: Snapshot, platform: Platform, requirements: Iterable[str], devices: Sequence[str], kept: int
) -> ResidualRisk:
    """The residual risk of these requirements on these devices."""
    return residual_risk(platform, requirements, exposures(now, devices), kept, now.context.policy.risk)


def exposures(now: Snapshot, devices: Sequence[str]) -> list[RiskDevice]:
    """Devices by id, each with the facts and attributes that weigh in its risk."""
    table = now.context.policy.risk
    with now.context.database.read() as db:
        reported = any_holds(db, table.exposure)
    known = now.rows_of_excepted(devices)
    found = []
    for row in known if len(known) == len(devices) else now.rows(devices):
        view = now.view(row.id) if reported else None
        facts = {name: value for name in table.exposure if view and (value := view.value(name)) is not None}
        found.append(RiskDevice(row.id, row.critical, facts))
    return found
