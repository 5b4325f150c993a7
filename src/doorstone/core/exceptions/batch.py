"""Requests for many devices at once: what to ask of each, in one request for each distinct set of needs.

In: assessments, and what is permitted or requested already. Out: groups of devices with the same checks, and refusals.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from msgspec import Struct

from doorstone.core.devices.life import left_alone
from doorstone.core.exceptions.life import Refusal
from doorstone.core.exceptions.requests import RequestedDevice
from doorstone.core.sorting.assessment import Assessment


class RequestGroup(Struct, frozen=True):
    """Devices for which the same requirements are to be excepted."""

    requirements: tuple[str, ...]
    devices: tuple[str, ...]


def to_request(device: str, assessment: Assessment, named: Mapping[str, str]) -> frozenset[str] | Refusal:
    """The checks to request for a device: unmet checks that no fix meets and no exception names yet.

    `named` maps a requirement to the exception that names it, in force or requested.
    """
    marks = {finding.requirement.id: finding for finding in assessment.findings}
    by_mark: dict[str, list[str]] = {}
    for name, finding in marks.items():
        by_mark.setdefault(finding.mark, []).append(name)

    def titles(names: Iterable[str]) -> str:
        return " and ".join(marks[name].requirement.title for name in names)

    def refusal(names: list[str], reason: str, hint: str) -> Refusal:
        return Refusal(device, names[0] if names else "", reason, hint)

    release = assessment.release
    if floors := by_mark.get("floor"):
        reason = f"{titles(floors)} is a floor at {release}: no exception carries the device there"
        return refusal(floors, reason, "Leave the device out, or sort the floor anew")
    if unread := by_mark.get("unread"):
        return refusal(unread, f"{titles(unread)}: nobody has measured it", "Import a reading of it first")
    if disputed := by_mark.get("disputed"):
        return refusal(disputed, f"{titles(disputed)}: the readings disagree", "Settle the dispute first")
    if unsorted := by_mark.get("unsorted"):
        return refusal(unsorted, f"{titles(unsorted)} is unsorted", "Have an administrator sort it first")
    checks = by_mark.get("installer-check", [])
    wanted = frozenset(checks).difference(named)
    if wanted:
        return wanted
    if checks:
        held = " and ".join(sorted({named[name] for name in checks}))
        return refusal(checks, f"{held} names what it fails already", "There is nothing more to request")
    if fixable := by_mark.get("fixable"):
        return refusal(fixable, f"{titles(fixable)} can be fixed", f"Fix it: doorstone fix show {device}")
    return refusal([], f"it meets everything that {release} asks", "Leave it out; there is nothing to except")


def requests_for(
    devices: Iterable[RequestedDevice], named: Mapping[str, Mapping[str, str]], only: Collection[str], most: int
) -> tuple[list[RequestGroup], list[Refusal]]:
    """What to request for many devices, and why nothing is for the others.

    `named` maps a device to what names its requirements already, as in `to_request`. `only` limits the requirements,
    if it names any.
    """
    wanted, refused = {}, []
    for one in devices:
        found = _wanted(one, named.get(one.id, {}), only)
        if isinstance(found, Refusal):
            refused.append(found)
        else:
            wanted[one.id] = found
    return group(wanted, most), refused


def _wanted(one: RequestedDevice, named: Mapping[str, str], only: Collection[str]) -> frozenset[str] | Refusal:
    if alone := left_alone(one.id, one.life):
        return Refusal(one.id, "", *alone)
    found = to_request(one.id, one.assessment, named)
    if isinstance(found, Refusal) or not only:
        return found
    return found & set(only) or Refusal(one.id, "", "it needs none of these requirements excepted", "Leave it out")


def group(wanted: Mapping[str, Collection[str]], most: int) -> list[RequestGroup]:
    """One request for each distinct set of requirements, of at most so many devices, the largest first."""
    found: dict[tuple[str, ...], list[str]] = {}
    for device, names in wanted.items():
        found.setdefault(tuple(sorted(names)), []).append(device)
    ordered = sorted(found.items(), key=lambda entry: (-len(entry[1]), entry[0]))
    return [
        RequestGroup(names, tuple(sorted(devices)[at : at + most]))
        for names, devices in ordered
        for at in range(0, len(devices), most)
    ]
