"""The demo's fleet as stand-in machines: the truth behind the facts that its readings report."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from doorstone.demo.fleet import build_fleet, stations
from doorstone_standins import machine
from doorstone_standins.machine import STATION, Machine

UNREADABLE = {"nbt-160"}  # nobody has read its chip; here somebody has, or nothing could be said of it


def machines(folder: Path, only: set[str] | None = None) -> dict[str, Machine]:
    """A stand-in machine for each device of the demo, or for those named."""
    made = {}
    for device in build_fleet():
        if only is None or device.id in only:
            made[device.id] = machine.create(folder / device.id, name=device.id, **_desktop(device.facts))
    for reading in stations():
        name = reading["device"]
        if only is None or name in only:
            made[name] = machine.create(folder / name, name=name, **_station(reading["facts"]))
    return made


def _desktop(facts: dict[str, Any]) -> dict[str, Any]:
    state = facts["tpm.state"]
    return {
        "model": facts["machine.model"],
        "maker": facts["machine.maker"],
        "chip": None if state == "absent" else {"version": facts["tpm.version"], "on": state == "on"},
        "processor": facts["cpu.model"],
        "bits": 64 if facts["cpu.arch"] == "x86-64" else 32,
        "system_bits": 64 if facts["os.arch"] == "x86-64" else 32,
        "instructions": facts["cpu.features"],
        "memory_mb": facts["memory.mib"] + 96,
        "memory_slots_mb": facts["memory.max_mib"],
        "disk_gb": facts["disk.system_gib"],
        "free_gb": max(30, facts["disk.free_gib"]),  # somebody has tidied up
        "firmware": facts["firmware.mode"],
        "uefi_capable": facts["firmware.uefi_capable"],
        "signed_loading": facts["firmware.secure_boot"],
        "vulkan": facts["graphics.vulkan"],
        "account": facts["account.online"],
        "release": facts["os.release"],
        "edition": facts["os.edition"],
        "encrypted": facts["disk.encrypted"],
        "language": facts["os.base_language"],
    }


def _station(facts: dict[str, Any]) -> dict[str, Any]:
    own = {"model": facts["machine.model"], "disk_gb": facts["disk.system_gib"], "release": facts["os.release"]}
    return {**STATION, **own}


def make_fix(target: Machine, gives: dict[str, Any]) -> None:
    """Do a fix to a machine: what the facts after it will say."""
    for fact, value in gives.items():
        if fact == "tpm.state":
            target.change(chip={**target.truth["chip"], "on": True})
        elif fact == "memory.mib":
            target.change(memory_mb=int(value) + 96)
        else:
            name = {
                "firmware.secure_boot": "signed_loading",
                "firmware.mode": "firmware",
                "account.online": "account",
                "disk.system_gib": "disk_gb",
            }.get(fact)
            if name is not None:
                target.change(**{name: value})
