"""A simulated assessor: looks at a machine and writes a report, one JSON object a line."""

from __future__ import annotations

import json
from typing import Any

from doorstone_standins.machine import Machine


def report(machine: Machine, taken_at: str, wrong: dict[str, Any] | None = None) -> str:
    """The report line of one machine; `wrong` overwrites facts, for an assessor that errs."""
    t = machine.truth
    chip = t["chip"]
    facts: dict[str, Any] = {
        "machine.maker": t["maker"],
        "machine.model": t["model"],
        "cpu.model": t["processor"],
        "cpu.arch": "x86-64" if t["bits"] == 64 else "x86-32",
        "cpu.features": t["instructions"],
        "memory.mib": t["memory_mb"] - 96,
        "memory.max_mib": t["memory_slots_mb"],
        "disk.system_gib": t["disk_gb"],
        "disk.free_gib": t["free_gb"],
        "disk.encrypted": t["encrypted"],
        "firmware.mode": t["firmware"],
        "firmware.uefi_capable": t["uefi_capable"],
        "firmware.secure_boot": t["signed_loading"],
        "graphics.vulkan": t["vulkan"],
        "account.online": t["account"],
        "os.platform": t["platform"],
        "os.release": t["release"],
        "os.edition": t["edition"],
        "os.arch": "x86-64" if t["system_bits"] == 64 else "x86-32",
        "os.base_language": t["language"],
        "os.pending_updates": t["pending"],
        "os.restart_pending": False,
        "os.old_drivers": 0,
        "care.last_backup": t["backup"],
        "care.recovery_key_saved": t["key_saved"],
        "tpm.state": "absent" if chip is None else "on" if chip["on"] else "off",
        "tpm.version": "0" if chip is None else chip["version"],
    }
    if t["platform"] != "tarn":
        del facts["memory.max_mib"], facts["account.online"]
    facts.update(wrong or {})
    line = {"device": t["name"], "source": "assessor", "taken_at": taken_at, "facts": facts}
    return json.dumps(line) + "\n"
