"""A simulated set-up program. It enforces its own copy of the checks, per release, on the machine's truth, and
honours what is really in the machine's settings files, in its arguments and in its answer file.

Exit: 0 upgraded, 10 refused by checks, 11 failed to start after the restart and rolled back, 2 wrong usage.
"""

from __future__ import annotations

import argparse
import configparser
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from doorstone_standins.machine import Machine

ORDER = ["8", "9.0", "9.1", "9.2", "9.3"]
LISTED = {"Quern Q5-740", "Quern Q5-820", "Quern Q7-860", "Quern Q7-920", "Marl M4 210", "Marl M4 310", "Marl M6 330"}
LEVEL_3 = {"avx2", "bmi2", "fma", "movbe"}

Truth = dict[str, Any]
CHECKS: dict[str, Callable[[Truth], bool]] = {
    "processor-listed": lambda t: t["processor"] in LISTED,
    "security-chip": lambda t: t["chip"] is not None and t["chip"]["on"] and float(t["chip"]["version"]) >= 2,
    "firmware-uefi": lambda t: t["firmware"] == "uefi",
    "secure-boot": lambda t: t["signed_loading"] == "on",
    "memory-set-up": lambda t: t["memory_mb"] >= 6144,
    "storage": lambda t: t["disk_gb"] >= 59,
    "graphics-level": lambda t: _numbers(t["vulkan"]) >= (1, 2),
}
FLOORS: dict[str, Callable[[Truth], bool]] = {
    "word-size": lambda t: t["bits"] == 64,
    "instruction-level": lambda t: set(t["instructions"]) >= LEVEL_3,
    "memory-start": lambda t: t["memory_mb"] >= 3072,
}


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


def _at(release: str) -> int:
    return ORDER.index(release)


def read_settings(folder: Path) -> dict[tuple[str, str], str]:
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


def waived(machine: Machine, release: str, route: str, words: list[str], answers: Path | None) -> set[str]:
    """The checks that this set-up lets pass, by what it really finds."""
    system = read_settings(machine.root / "etc" / "tarn" / "settings.d")
    inside = read_settings(machine.root / "run" / "tarn-set-up" / "settings.d")
    at = _at(release)
    passed: set[str] = set()
    if route == "in-place" and at < _at("9.2"):
        accepted = {word.strip() for word in system.get(("setup/compat", "accept"), "").split(";")}
        passed |= accepted & {"security-chip", "processor-listed"}
    if system.get(("setup/processor", "grace")) == "true":
        passed.add("processor-listed")
    if system.get(("setup/chip", "waiver")) == "organisation" and machine.truth["edition"] == "estate":
        passed.add("security-chip")
    if inside.get(("profile", "memory")) == "small":
        passed.add("memory-set-up")
    if "--allow-plain-boot" in words:
        passed |= {"secure-boot", "firmware-uefi"}
    if "--plain-drawing" in words and at < _at("9.3"):
        passed.add("graphics-level")
    if "--layout" in words and machine.truth["disk_gb"] >= 28:
        passed.add("storage")
    if "hall-display" in words and at < _at("9.2"):
        passed |= {"security-chip", "processor-listed", "secure-boot", "memory-set-up", "storage"}
    if answers is not None:
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_string(answers.read_text())
        if parser.get("account", "kind", fallback="") == "local":
            passed.add("online-account")
    return passed


def refusing(machine: Machine, release: str, passed: set[str]) -> list[str]:
    """The checks that refuse this machine."""
    truth = machine.truth
    found = [name for name, holds in CHECKS.items() if not holds(truth) and name not in passed]
    if _at(release) >= _at("9.1") and not truth["account"] and "online-account" not in passed:
        found.append("online-account")
    return found


def run(words: list[str]) -> tuple[int, dict[str, Any]]:
    """Run set-up; the exit code, and what it says at the end."""
    parser = argparse.ArgumentParser(prog="set-up", add_help=False, exit_on_error=False)
    parser.add_argument("--machine", required=True, type=Path)
    parser.add_argument("--release", required=True, choices=ORDER)
    parser.add_argument("--route", default="in-place", choices=["in-place", "clean"])
    parser.add_argument("--carry-over", default="everything")
    parser.add_argument("--answers", type=Path)
    given, rest = parser.parse_known_args(words)
    machine = Machine(given.machine)
    truth = machine.truth
    if _at(given.release) <= _at(truth["release"]):
        return 10, {"outcome": "refused", "checks": [], "say": f"release {truth['release']} is here already"}
    passed = waived(machine, given.release, given.route, rest, given.answers)
    refused = refusing(machine, given.release, passed)
    if refused:
        return 10, {"outcome": "refused", "checks": refused, "say": "This device cannot run the release."}
    machine.restart()
    floors = [name for name, holds in FLOORS.items() if not holds(truth)]
    if _at(given.release) >= _at("9.3") and not CHECKS["graphics-level"](truth):
        floors.append("graphics-level")
    if floors:
        return 11, {"outcome": "failed-to-start", "checks": floors, "say": "The release did not start; rolled back."}
    machine.change(release=given.release, by_waiver=sorted(passed & _unmet(truth)))
    return 0, {"outcome": "completed", "checks": [], "say": f"Release {given.release} is in place."}


def _unmet(truth: Truth) -> set[str]:
    return {name for name, holds in CHECKS.items() if not holds(truth)}


def main(words: list[str]) -> int:
    try:
        code, words_said = run(words)
    except (argparse.ArgumentError, SystemExit) as error:
        print(json.dumps({"outcome": "usage", "say": str(error)}))
        return 2
    print(json.dumps(words_said))
    return code
