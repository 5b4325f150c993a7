"""Devices for which an exception is asked, gathered as they stand today; and refusals as the entries of an error."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from doorstone.core.exceptions.life import Refusal
from doorstone.core.exceptions.requests import RequestedDevice
from doorstone.work.context.errors import ErrorEntry, RefusedError
from doorstone.work.snapshot.snapshot import Snapshot


def requested_devices(now: Snapshot, release: str, devices: Iterable[str]) -> list[RequestedDevice]:
    """Each device at a release, by id. Raises `MissingError` for one that there is not."""
    wanted = sorted(set(devices))
    rows = {row.id: row for row in now.rows(wanted)}
    assessed = now.assessments(rows.values(), release)
    return [
        RequestedDevice(
            device,
            rows[device].life if device in rows else now.device(device).life,
            assessed.get(device) or now.assessment(device, release),
        )
        for device in wanted
    ]


def refusal_entries(refused: Iterable[Refusal]) -> list[ErrorEntry]:
    """What stands in the way, each with the device and the requirement that it concerns."""
    return [
        ErrorEntry(", ".join(filter(None, (one.device, one.requirement))), one.reason, one.hint, one.device)
        for one in refused
    ]


def refuse_if(found: Sequence[ErrorEntry]) -> None:
    """Raises `RefusedError` if there is any refusal."""
    if found:
        devices = len({entry.device for entry in found})
        count = "1 device" if devices == 1 else f"{devices} devices"
        raise RefusedError(f"No exception can be had for {count} as asked", "Leave out or correct each named", found)
