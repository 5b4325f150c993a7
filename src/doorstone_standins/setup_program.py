"""A simulated set-up program. It enforces its own copy of the checks, per release, on the machine's truth, and
honours what is really in the machine's settings files, on the media, in its arguments and in its answer file.

Exit: 0 upgraded, 10 refused by checks, 11 failed to start after the restart and rolled back, 12 upgraded but nothing
was carried over, 13 rolled back half way, 2 wrong usage.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
from pathlib import Path
from typing import Any

from doorstone_standins import media as media_folder
from doorstone_standins.machine import Machine
from doorstone_standins.worlds import NEEDS_BRIDGE, TARN, WORLDS, Case, World, by_name, ini, is_bridge

read_settings = ini
ORDER = list(TARN.order)
Said = dict[str, Any]


def waived(
    machine: Machine, release: str, route: str, words: list[str], answers: Path | None, media: Path | None = None
) -> set[str]:
    """The checks that this set-up lets pass, by what it really finds."""
    world = WORLDS[machine.truth["platform"]]
    case = Case(machine.truth, machine.root, media, release, route, words, answers)
    return {name.split(" ")[0] for name in world.passed(world, case)}


def run(words: list[str], worlds: dict[str, World] | None = None) -> tuple[int, Said]:
    """Run set-up; the exit code, and what it says at the end."""
    parser = argparse.ArgumentParser(prog="set-up", add_help=False, exit_on_error=False)
    parser.add_argument("--machine", required=True, type=Path)
    parser.add_argument("--release", required=True)
    parser.add_argument("--route", default="in-place", choices=["in-place", "clean"])
    parser.add_argument("--carry-over", default="everything")
    parser.add_argument("--answers", type=Path)
    parser.add_argument("--media", type=Path)
    given, rest = parser.parse_known_args(words)
    machine = Machine(given.machine)
    world = (worlds or WORLDS)[machine.truth["platform"]]
    if given.release not in world.order:
        raise argparse.ArgumentError(None, f"there is no release {given.release}")
    case = Case(machine.truth, machine.root, given.media, given.release, given.route, rest, given.answers)
    if stopped := _before(world, case):
        return 10, {"outcome": "refused", **stopped}
    passed = world.passed(world, case)
    refused = [name for name in world.unmet(world.checks, case.truth, case.release) if name not in passed]
    if refused:
        names = [name.split(" ")[0] for name in refused]
        return 10, {"outcome": "refused", "checks": names, "say": "This device cannot run the release."}
    if case.route == "in-place" and case.truth["pending"]:
        say = "Updates were pending; the upgrade stopped half way and was rolled back."
        return 13, {"outcome": "rolled-back", "checks": [], "say": say}
    machine.restart()
    floors = [name.split(" ")[0] for name in world.unmet(world.floors, case.truth, case.release)]
    if floors:
        return 11, {"outcome": "failed-to-start", "checks": floors, "say": "The release did not start; rolled back."}
    return _upgrade(world, case, machine, given.carry_over, sorted(passed))


def _before(world: World, case: Case) -> Said | None:
    """What stops set-up before it looks at the device's parts."""
    truth = case.truth
    if world.at(case.release) <= world.at(truth["release"]):
        return {"checks": [], "say": f"release {truth['release']} is here already"}
    if case.route == "in-place" and truth["system_bits"] != 64:
        return {"checks": ["word-size-path"], "say": "There is no way in place from a 32-bit system."}
    if case.media is None:
        return None
    about = media_folder.about(case.media, world.name)
    if about["release"] != case.release:
        return {"checks": ["media-release"], "say": f"These media hold {about['release']}."}
    if truth["edition"] not in about["editions"]:
        return {"checks": ["media-edition"], "say": f"The {truth['edition']} edition is not on these media."}
    if about["bits"] != truth["bits"]:
        return {"checks": ["media-arch"], "say": "These media are for another processor."}
    return None


def _upgrade(world: World, case: Case, machine: Machine, carry_over: str, passed: list[str]) -> tuple[int, Said]:
    unmet = set(world.unmet(world.checks, case.truth, case.release))
    changed: dict[str, Any] = {"release": case.release, "by_waiver": sorted(unmet & set(passed))}
    if (case.truth["model"], case.release) in NEEDS_BRIDGE:
        changed["needs_bridge"] = True
        changed["patches"] = []
    language = media_folder.about(case.media, world.name)["language"] if case.media else case.truth["language"]
    lost = case.route == "in-place" and carry_over == "everything" and language != case.truth["language"]
    if case.route == "clean" or lost:
        _wipe(machine)
        changed["language"] = language
    if case.route == "clean":
        changed["system_bits"] = case.truth["bits"]
    machine.change(**changed)
    if lost:
        say = f"The base language is {case.truth['language']}, that of the media {language}: nothing was carried over."
        return 12, {"outcome": "carry-over-lost", "checks": ["base-language"], "say": say}
    return 0, {"outcome": "completed", "checks": [], "say": f"Release {case.release} is in place."}


def _wipe(machine: Machine) -> None:
    """A system as a clean set-up leaves it: nobody's files, no settings but the maker's."""
    shutil.rmtree(machine.root)
    machine.build()


def starts(machine: Machine, stick: Path | None = None) -> str:
    """Whether the machine starts: yes, no, or dark where it starts but its scan head does not answer."""
    truth = machine.truth
    if not truth.get("needs_bridge"):
        return "yes"
    for root in (machine.root, stick):
        loader = root / "boot" / "bridge.ldr" if root else None
        if loader and loader.is_file() and is_bridge(loader):
            listed = loader.with_name("bridge.ldr.patches")
            patches = set(listed.read_text().splitlines()) if listed.is_file() else set()
            return "yes" if set(NEEDS_BRIDGE[truth["model"], truth["release"]]) <= patches else "dark"
    return "no"


def main(words: list[str]) -> int:
    try:
        code, words_said = run(words, by_name(os.environ.get("STANDIN_WORLD", "")))
    except (argparse.ArgumentError, SystemExit) as error:
        print(json.dumps({"outcome": "usage", "say": str(error)}))
        return 2
    print(json.dumps(words_said))
    return code
