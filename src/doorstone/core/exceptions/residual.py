"""Residual risk of an exception: a sum of points that everybody can work out from a short open table.

What each excepted requirement weighs (its sheet says so), what the device is there for, how far it is exposed (its
network, its data), less the conditions that are kept. Of several devices the one that weighs most counts.
In: the requirements, the devices with their facts, how many conditions are kept, the table. Out: the sum, in parts.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct, field

from doorstone.core.facts import FactValue
from doorstone.core.platforms.platform import Platform

NETWORK, DATA = "exposure.network", "exposure.data"
UNREAD = "unread"


class RiskTable(Struct, frozen=True):
    """Points, from the configuration. `exposure` maps a fact's value to its points; `unread` is for one nobody read.

    `kept` is taken off for each condition that is kept; from `two_approvers` points on two approve, never if it is 0.
    """

    critical: int = 4
    exposure: Mapping[str, Mapping[str, int]] = field(
        default_factory=lambda: {
            NETWORK: {"isolated": 0, "internal": 1, "public": 4},
            DATA: {"none": 0, "internal": 1, "personal": 4},
        }
    )
    unread: int = 2
    kept: int = 1
    two_approvers: int = 0


class RiskPart(Struct, frozen=True):
    """One line of the sum."""

    words: str
    points: int


class RiskDevice(Struct, frozen=True):
    """A device of an exception, with its facts."""

    id: str
    critical: bool
    facts: Mapping[str, FactValue]


class ResidualRisk(Struct, frozen=True):
    """The sum, never below 0, and its parts. `device` weighs most; empty if there is none."""

    points: int
    parts: tuple[RiskPart, ...]
    device: str


def residual_risk(
    platform: Platform, requirements: Iterable[str], devices: Iterable[RiskDevice], kept: int, table: RiskTable
) -> ResidualRisk:
    """The residual risk of running without `requirements` on `devices` while `kept` conditions are kept."""
    weights = {one.id: one.weight for one in platform.requirements}
    parts = [RiskPart(f"without {name}", weights.get(name, 0)) for name in sorted(requirements)]
    worst, of_device = "", tuple[RiskPart, ...]()
    cases: dict[tuple[object, ...], RiskDevice] = {}
    for device in sorted(devices, key=lambda one: one.id):
        cases.setdefault((device.critical, *(str(device.facts.get(fact)) for fact in table.exposure)), device)
    for device in cases.values():
        mine = _device_parts(device, table)
        if not worst or _sum(mine) > _sum(of_device):
            worst, of_device = device.id, mine
    parts += of_device
    if kept and table.kept:
        parts.append(RiskPart(f"{kept} condition{'s' if kept > 1 else ''} kept", -kept * table.kept))
    return ResidualRisk(max(0, _sum(parts)), tuple(parts), worst)


def _device_parts(device: RiskDevice, table: RiskTable) -> tuple[RiskPart, ...]:
    found = [RiskPart("the organisation lives on it", table.critical)] if device.critical else []
    for fact, points in table.exposure.items():
        value = device.facts.get(fact)
        word = str(value) if value is not None else UNREAD
        what = fact.rpartition(".")[2]
        found.append(RiskPart(f"{what} {word}", points.get(word, table.unread)))
    return tuple(found)


def _sum(parts: Iterable[RiskPart]) -> int:
    return sum(part.points for part in parts)


def takes_two(risk: ResidualRisk, table: RiskTable) -> bool:
    """Whether the risk asks for two approvers."""
    return 0 < table.two_approvers <= risk.points
