"""The outside world's own tables: what each platform's set-up asks per release, what it lets pass, when it is serviced.

Nothing here is taken from anywhere else; where it agrees with a sheet, the sheet is true.
"""

from __future__ import annotations

import configparser
import hashlib
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Any

Truth = Mapping[str, Any]
Test = Callable[[Truth], bool]
CHECKS_TABLE = b"# what set-up asks of the device\nsecurity-chip\nprocessor-listed\n"
BRIDGE = "e774bd9af8715b2c018368f50be05bdb"


@dataclass(frozen=True)
class Rule:
    """A check or a floor: from which release, until which, and whether a machine passes it."""

    since: str
    holds: Test
    until: str = ""


@dataclass
class Case:
    """One run of set-up: what it finds on the machine, on the media, in its arguments and answers."""

    truth: Truth
    root: Path
    media: Path | None
    release: str
    route: str
    words: list[str]
    answers: Path | None


@dataclass(frozen=True)
class World:
    """One platform as it is. `serviced` maps edition -> release -> last day; `withholding` checks stop the offer."""

    name: str
    order: tuple[str, ...]
    published: Mapping[str, date]
    serviced: Mapping[str, Mapping[str, date]]
    checks: Mapping[str, Rule]
    floors: Mapping[str, Rule]
    passed: Callable[[World, Case], set[str]]
    withholding: frozenset[str]
    no_drivers: frozenset[str]
    no_security: Mapping[str, date] = field(default_factory=dict)  # check -> from when on not even these arrive

    def at(self, release: str) -> int:
        return self.order.index(release)

    def unmet(self, rules: Mapping[str, Rule], truth: Truth, release: str) -> list[str]:
        """The rules of a release that a machine does not pass."""
        here = self.at(release)
        return [
            name
            for name, rule in rules.items()
            if self.at(rule.since) <= here and (not rule.until or here < self.at(rule.until)) and not rule.holds(truth)
        ]


def ini(folder: Path) -> dict[tuple[str, str], str]:
    """Every setting of the drop-in files of a folder, later files winning."""
    found: dict[tuple[str, str], str] = {}
    for file in sorted(folder.glob("*.ini")):
        parser = configparser.ConfigParser(interpolation=None)
        parser.optionxform = str  # type: ignore[assignment,method-assign]
        parser.read_string(file.read_text())
        for section in parser.sections():
            for name, value in parser.items(section):
                found[section, name] = value
    return found


def numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


# ------------------------------------------------------------------------ Tarn

LISTED = {"Quern Q5-740", "Quern Q5-820", "Quern Q7-860", "Quern Q7-920", "Marl M4 210", "Marl M4 310", "Marl M6 330"}
LEVEL_3 = {"avx2", "bmi2", "fma", "movbe"}


def _chip(truth: Truth) -> bool:
    return truth["chip"] is not None and truth["chip"]["on"] and float(truth["chip"]["version"]) >= 2


def tarn_passed(world: World, case: Case) -> set[str]:
    """The checks that Tarn's set-up lets pass, by what it really finds."""
    system = ini(case.root / "etc" / "tarn" / "settings.d")
    inside = ini(case.root / "run" / "tarn-set-up" / "settings.d")
    at, words = world.at(case.release), case.words
    passed: set[str] = set()
    if case.route == "in-place" and at < world.at("9.2"):
        accepted = {word.strip() for word in system.get(("setup/compat", "accept"), "").split(";")}
        passed |= accepted & {"security-chip", "processor-listed"}
    if system.get(("setup/processor", "grace")) == "true":
        passed.add("processor-listed")
    if system.get(("setup/chip", "waiver")) == "organisation" and case.truth["edition"] == "estate":
        passed.add("security-chip")
    if inside.get(("profile", "memory")) == "small":
        passed.add("memory-set-up")
    if "--allow-plain-boot" in words:
        passed |= {"secure-boot", "firmware-uefi"}
    if "--plain-drawing" in words and at < world.at("9.3"):
        passed.add("graphics-level")
    if "--layout" in words and case.truth["disk_gb"] >= 28:
        passed.add("storage")
    if "hall-display" in words and at < world.at("9.2"):
        passed |= {"security-chip", "processor-listed", "secure-boot", "memory-set-up", "storage"}
    if case.media is not None and case.route == "clean":
        passed |= _by_media(world, case)
    if case.answers is not None:
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_string(case.answers.read_text())
        if parser.get("account", "kind", fallback="") == "local":
            passed.add("online-account")
    return passed


def _by_media(world: World, case: Case) -> set[str]:
    """What changed media let pass. Set-up first fetches its own files afresh, unless it is told not to."""
    assert case.media is not None
    table = case.media / "tarn" / "checks.tbl"
    if "--without-download" not in case.words:
        table.write_bytes(CHECKS_TABLE)
    passed: set[str] = set()
    if world.at(case.release) < world.at("9.2"):  # later ones have the table inside the program
        asked = set(table.read_text().split("\n")) if table.exists() else set()
        passed |= {"security-chip", "processor-listed"} - asked
    packed = case.media / "tarn" / "packed.ini"
    if packed.exists() and case.truth["disk_gb"] >= 14:
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_string(packed.read_text())
        if parser.get("system", "packed", fallback="") == "true":
            passed.add("storage")
    return passed


TARN = World(
    name="tarn",
    order=("8", "9.0", "9.1", "9.2", "9.3"),
    published={
        "8": date(2022, 3, 1),
        "9.0": date(2025, 3, 4),
        "9.1": date(2026, 5, 12),
        "9.2": date(2027, 3, 16),
        "9.3": date(2027, 12, 14),
    },
    serviced={
        "desk": {
            "8": date(2027, 2, 28),
            "9.0": date(2026, 9, 30),
            "9.1": date(2027, 11, 30),
            "9.2": date(2028, 9, 30),
            "9.3": date(2029, 6, 30),
        },
        "estate": {
            "8": date(2027, 8, 31),
            "9.0": date(2027, 3, 31),
            "9.1": date(2028, 5, 31),
            "9.2": date(2029, 3, 31),
            "9.3": date(2029, 12, 31),
        },
    },
    checks={
        "processor-listed": Rule("9.0", lambda t: t["processor"] in LISTED),
        "security-chip": Rule("9.0", _chip),
        "firmware-uefi": Rule("9.0", lambda t: t["firmware"] == "uefi"),
        "secure-boot": Rule("9.0", lambda t: t["signed_loading"] == "on"),
        "memory-set-up": Rule("9.0", lambda t: t["memory_mb"] >= 6144),
        "storage": Rule("9.0", lambda t: t["disk_gb"] >= 59),
        "graphics-level": Rule("9.0", lambda t: numbers(t["vulkan"]) >= (1, 2), until="9.3"),
        "online-account": Rule("9.1", lambda t: bool(t["account"])),
    },
    floors={
        "word-size": Rule("9.0", lambda t: t["bits"] == 64),
        "instruction-level": Rule("9.0", lambda t: set(t["instructions"]) >= LEVEL_3),
        "memory-start": Rule("9.0", lambda t: t["memory_mb"] >= 3000),
        "graphics-level": Rule("9.3", lambda t: numbers(t["vulkan"]) >= (1, 2)),
    },
    passed=tarn_passed,
    withholding=frozenset({"processor-listed", "security-chip"}),
    no_drivers=frozenset({"processor-listed"}),
)


# --------------------------------------------------------------------- Brindle

LAST = {"Plate Station 1": "5", "Plate Station 2": "6", "Plate Station 3": "7", "Plate Station 4": "8"}
STARTS = {"Plate Station 1": "6", "Plate Station 2": "7", "Plate Station 3": "7", "Plate Station 4": "8"}
BRINDLE_ORDER = ("5", "6", "7", "8")


def _reaches(table: Mapping[str, str], release: str) -> Test:
    def holds(truth: Truth) -> bool:
        return BRINDLE_ORDER.index(table.get(truth["model"], "8")) >= BRINDLE_ORDER.index(release)

    return holds


def brindle_passed(world: World, case: Case) -> set[str]:
    """The checks that Brindle's installer lets pass, by what it really finds."""
    passed: set[str] = set()
    if "--any-model" in case.words and case.release == "6":
        passed.add("model-listed 6")
    bridge = case.media / "boot" / "bridge.ldr" if case.media else None
    if "--through-loader" in case.words and case.release == "7" and bridge and bridge.is_file() and is_bridge(bridge):
        passed.add("model-listed 7")
    settings = case.root / "opt" / "brindle" / "settings.json"
    held = json.loads(settings.read_text()) if settings.is_file() else {}
    if held.get("scratch", {}).get("plates") == "small":
        passed.add("scratch-disk")
    return passed


def is_bridge(file: Path) -> bool:
    """Whether a file is the bridge loader, whole."""
    return hashlib.sha256(file.read_bytes()).hexdigest()[:32] == BRIDGE


BRINDLE = World(
    name="brindle",
    order=BRINDLE_ORDER,
    published={
        "5": date(2023, 2, 14),
        "6": date(2024, 9, 3),
        "7": date(2026, 3, 10),
        "8": date(2027, 9, 7),
    },
    serviced={
        "studio": {
            "5": date(2026, 8, 31),
            "6": date(2027, 8, 31),
            "7": date(2028, 8, 31),
            "8": date(2030, 2, 28),
        }
    },
    checks={
        **{f"model-listed {r}": Rule(r, _reaches(LAST, r), until=u) for r, u in (("6", "7"), ("7", "8"), ("8", ""))},
        "scratch-disk": Rule("7", lambda t: t["disk_gb"] >= 233),
    },
    floors={
        f"model-possible {r}": Rule(r, _reaches(STARTS, r), until=u) for r, u in (("6", "7"), ("7", "8"), ("8", ""))
    },
    passed=brindle_passed,
    withholding=frozenset({"model-listed 6", "model-listed 7", "model-listed 8"}),
    no_drivers=frozenset({"model-listed 6", "model-listed 7", "model-listed 8"}),
)
NEEDS_BRIDGE = {("Plate Station 2", "7"): ("scanner bridge 2", "colour profile 6")}
WORLDS: dict[str, World] = {"tarn": TARN, "brindle": BRINDLE}


def _earlier_end(world: World, case: Case) -> set[str]:
    """Tarn as it might turn out: plain drawing is taken out of set-up one release earlier than was said."""
    passed = tarn_passed(world, case)
    return passed - {"graphics-level"} if world.at(case.release) >= world.at("9.2") else passed


SURPRISING: dict[str, World] = {
    **WORLDS,
    "tarn": replace(
        TARN,
        passed=_earlier_end,
        floors={**TARN.floors, "secure-boot": Rule("9.2", lambda t: t["signed_loading"] == "on")},
        no_security={"processor-listed": date(2027, 10, 1)},
    ),
}
"""What nobody foresaw: an override ends early, a check becomes a floor, security updates stop for some."""


def by_name(name: str) -> dict[str, World]:
    """The world as the sheets have it, or the one with surprises."""
    return SURPRISING if name == "surprising" else WORLDS
