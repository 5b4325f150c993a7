"""Why a world with surprises differs from what was said: each difference has a cause in that world, or is a fault."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date

from rehearsal.drive import Rehearsal

SECURITY_STOPS = date(2027, 10, 1)


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that came otherwise than it was said, and why; no `why` means that nobody knows."""

    day: date
    device: str
    what: str
    why: str


def differences(fleet: Rehearsal) -> list[Difference]:
    """Every difference in a run of the world with surprises, by day."""
    found: list[Difference] = []
    first: dict[str, str] = {}
    for miss in sorted(fleet.misses, key=lambda miss: miss.day):
        why = _cause(miss.what, miss.happened)
        if not why and miss.device in first:
            why = f"follows from it: {first[miss.device]}"
        elif why:
            first.setdefault(miss.device, why)
        found.append(Difference(miss.day, miss.device, f"{miss.what}: said {miss.said}; {miss.happened}", why))
    for name, day in fleet.noticed.items():
        device, kind = name.split(" ", 1)
        found.append(Difference(day, device, f"standing: {kind} updates are worse than expected", _standing(kind, day)))
    return sorted(found, key=lambda one: (one.day, one.device, one.what))


def _cause(what: str, happened: str) -> str:
    if what == "forecast" and "graphics-level" in happened:
        return "plain drawing ends at 9.2, a release before the sheet has it"
    if what == "forecast" and "failed-to-start" in happened:
        return "signed loading is a floor from 9.2 on"
    return ""


def _standing(kind: str, day: date) -> str:
    if kind == "security" and day >= SECURITY_STOPS:
        return "security updates stop for unlisted processors on 1 October 2027"
    if kind == "driver":
        return "drivers, of which the sheet promises nothing, do not come to an unlisted processor"
    if kind == "release":
        return "the next release is not offered to a device that does not meet what it asks"
    return ""


def unexplained(found: list[Difference]) -> list[str]:
    return [f"{one.day} {one.device} {one.what}: nobody knows why" for one in found if not one.why]


def table(found: list[Difference]) -> Iterator[str]:
    """How often each cause made a difference, first and last, and on which devices."""
    by_cause: dict[str, list[Difference]] = {}
    for one in found:
        by_cause.setdefault(one.why.removeprefix("follows from it: ") or "UNEXPLAINED", []).append(one)
    yield f"{len(found)} differences"
    for why, mine in sorted(by_cause.items(), key=lambda entry: -len(entry[1])):
        devices = sorted({one.device for one in mine})
        more = f" and {len(devices) - 5} more" if len(devices) > 5 else ""
        yield f"{len(mine):5}  {mine[0].day} to {mine[-1].day}  {why} ({', '.join(devices[:5])}{more})"
