"""Builds what tests need: views of devices, small platforms, the Tarn sheet."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime
from functools import cache
from typing import Any

from doorstone.core.facts import BUILT_IN, Candidate, FactSpec, Reading, SettledFact, Source, View
from doorstone.core.platforms.platform import Platform
from doorstone.core.readings.settle import settle
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet

TODAY = date(2027, 1, 18)
NOON = datetime(2027, 1, 17, 12)

SMALL_SHEET = """
format = 1
[platform]
id = "p"
name = "P"
maker = "M"
editions = ["e"]
[store]
kind = "drop-in-ini"
places = { system = "etc/p" }
"""
"""The head of a sheet of platform p, edition e, without releases."""

GOOD: Mapping[str, Any] = {
    "machine.model": "Fallow 430",
    "cpu.model": "Quern Q5-740",
    "cpu.arch": "x86-64",
    "cpu.features": ["avx", "avx2", "bmi1", "bmi2", "fma", "movbe"],
    "memory.mib": 8192,
    "memory.max_mib": 16384,
    "disk.system_gib": 238,
    "disk.free_gib": 100,
    "disk.encrypted": False,
    "firmware.mode": "uefi",
    "firmware.uefi_capable": True,
    "firmware.secure_boot": "on",
    "tpm.version": "2.0",
    "tpm.state": "on",
    "graphics.vulkan": "1.3",
    "account.online": True,
    "os.platform": "tarn",
    "os.release": "8",
    "os.edition": "desk",
    "os.arch": "x86-64",
    "os.base_language": "en",
    "os.pending_updates": 0,
    "os.restart_pending": False,
    "os.old_drivers": 0,
    "care.last_backup": "2027-01-15",
    "care.recovery_key_saved": True,
}
"""The facts of a device that meets everything Tarn Desktop 9.3 asks."""

MEDIA: Mapping[str, Any] = {
    "media.release": "9.1",
    "media.editions": ["desk", "estate"],
    "media.arch": "x86-64",
    "media.language": "en",
    "media.table": "gpt",
    "media.verified": True,
    "media.spare_mib": 4000,
    "upgrade.release": "9.1",
    "upgrade.carry_over": "everything",
}
"""Media of 9.1 that fit, as the gates see them."""

CHIPLESS: Mapping[str, Any] = {
    **GOOD,
    "machine.model": "Fallow 310",
    "cpu.model": "Quern Q3-330",
    "tpm.version": "1.2",
}
"""A device whose chip is too old and whose processor is not listed: two installer checks."""


@cache
def tarn() -> Platform:
    return read_sheet(*sheet_text(), "tarn.toml")


def view(facts: Mapping[str, Any], as_of: date = TODAY, specs: Mapping[str, FactSpec] | None = None) -> View:
    """A settled view in which one good source said everything yesterday."""
    known = specs or tarn().specs
    at = NOON
    return View(as_of, {n: SettledFact(Candidate(known[n].parse(v), "collector", at)) for n, v in facts.items()})


def reading(source: str, at: str, **facts: Any) -> Reading:
    named = {name.replace("__", "."): value for name, value in facts.items()}
    return Reading(source, datetime.fromisoformat(at), {n: BUILT_IN[n].parse(v) for n, v in named.items()})


SOURCES = {
    "operator": Source("operator", 100, 60),
    "collector": Source("collector", 80, 30),
    "assessor": Source("assessor", 50, 30),
}


def settled(*readings: Reading, as_of: date = TODAY) -> View:
    return settle(readings, SOURCES, BUILT_IN, as_of)
