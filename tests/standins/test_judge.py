"""The judge: the stand-in set-up refuses what the sheets say it refuses, and accepts what the kits carry past it.

Each kit is rendered and its own scripts are run, on the stand-in machine, on stand-in media, with the stand-in set-up.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
from collections.abc import Iterator
from datetime import date
from functools import cache
from itertools import combinations
from pathlib import Path
from typing import Any

import pytest

from doorstone.core.facts import FactValue
from doorstone.core.kits.case import KitCase
from doorstone.core.kits.files import render
from doorstone.core.kits.overrides import OverrideSet, choose
from doorstone.core.platforms.platform import Override, Platform, Route, Sort
from doorstone.demo.seed import sheet_text
from doorstone.formats.readings import read_text
from doorstone.formats.sheet import read_sheet
from doorstone_standins import assessor, machine, media, setup_program
from doorstone_standins.machine import STATION, Machine
from tests.build import TODAY, tarn
from tests.core.kits.test_files import tree
from tests.forking import forked_command

READY: dict[str, Any] = {"chip": {"version": "2.0", "on": True}, "processor": "Quern Q5-740", "edition": "estate"}
FAILING: dict[str, dict[str, Any]] = {
    "security-chip": {"chip": None},
    "processor-listed": {"processor": "Quern Q3-410"},
    "firmware-uefi": {"firmware": "legacy"},
    "secure-boot": {"signed_loading": "off"},
    "memory-set-up": {"memory_mb": 4096},
    "storage": {"disk_gb": 29},
    "graphics-level": {"vulkan": "1.1"},
    "online-account": {"account": False},
    "scratch-disk": {"disk_gb": 119},
}
LISTED_TO = {"6": "Plate Station 1", "7": "Plate Station 2", "8": "Plate Station 3"}


@cache
def brindle() -> Platform:
    return read_sheet(*sheet_text("brindle"), "brindle.toml")


def made(folder: Path, platform: Platform, checks: tuple[str, ...], release: str, **more: Any) -> Machine:
    """A stand-in machine that fails exactly these checks."""
    differences = dict(READY) if platform.id == "tarn" else {**STATION, "release": "5", "model": "Plate Station 4"}
    if platform.id == "brindle":
        differences["disk_gb"] = 476
    for check in checks:
        differences |= {"model": LISTED_TO[release]} if check == "model-listed" else FAILING[check]
    return machine.create(folder, **(differences | more))


def read(target: Machine, platform: Platform) -> dict[str, FactValue]:
    parsed = read_text(assessor.report(target, "2027-01-17T08:00:00"), "ndjson", platform.specs)
    assert parsed.problems == ()
    return dict(parsed.records[0].reading.facts)


def kit(folder: Path, platform: Platform, chosen: OverrideSet, release: str, route: str, target: Machine) -> Path:
    row = platform.models.get(str(target.truth["model"]))
    carry = "nothing" if route == "clean" else "everything"
    case = KitCase(
        "KT-0001", platform, 1, "a" * 64, release, Route(route), carry, ("standin-1",), chosen, (), (), TODAY,
        row.patches if row else (),
    )  # fmt: skip
    for path, data in render(case).items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    return folder


def sh(script: Path, *words: object, **env: str) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(
        ["sh", str(script), *map(str, words)], capture_output=True, text=True, timeout=60, env={**os.environ, **env}
    )
    return done


def upgrade(folder: Path, target: Machine, stick: Path, standin: Path) -> tuple[int, dict[str, Any]]:
    """What the technician does with a kit: apply, verify, restart, prepare the media, start set-up."""
    assert sh(folder / "apply", target.root).returncode == 0
    assert sh(folder / "verify", target.root).returncode == 0
    target.restart()
    assert sh(folder / "apply", target.root).returncode == 0  # a restart loses what lives in the set-up environment
    if (folder / "media-apply").exists():
        assert sh(folder / "media-apply", stick).returncode == 0
        assert sh(folder / "media-verify", stick).returncode == 0
    start = folder.parent / "start"
    start.write_text(f'#!/bin/sh\nexec {standin} set-up --machine "{target.folder}" --media "{stick}" "$@"\n')
    start.chmod(0o755)
    done = sh(folder / "set-up", SET_UP=str(start))
    return done.returncode, json.loads(done.stdout)


def plain(target: Machine, release: str, route: str, stick: Path) -> tuple[int, list[str]]:
    """Set-up without any kit."""
    carry = "nothing" if route == "clean" else "everything"
    words = ["--machine", str(target.folder), "--media", str(stick), "--release", release, "--route", route]
    code, said = setup_program.run([*words, "--carry-over", carry])
    return code, said["checks"]


CASES = [
    pytest.param(platform, override, release.id, route, id=f"{override.id}-{release.id}-{route}")
    for platform in (tarn(), brindle())
    for override in platform.overrides
    for release in platform.releases[1:]
    for route in ("in-place", "clean")
    if override.covers & {r.id for r in platform.requirements_at(release.id)}
    and any(
        platform.sheet_sort(platform.requirement(name), release.id) is Sort.CHECK
        and name in {r.id for r in platform.requirements_at(release.id)}
        for name in override.covers
    )
]


@pytest.fixture(scope="session")
def standin(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The stand-ins' command."""
    with forked_command(tmp_path_factory.mktemp("standin") / "bin", "doorstone-standin") as folder:
        yield folder / "doorstone-standin"


@pytest.mark.process
@pytest.mark.parametrize(("platform", "override", "release", "route"), CASES)
def test_each_override_release_and_route(
    platform: Platform, override: Override, release: str, route: str, tmp_path: Path, standin: Path
) -> None:
    asked = {r.id for r in platform.requirements_at(release) if platform.sheet_sort(r, release) is Sort.CHECK}
    checks = tuple(sorted(override.covers & asked))
    target = made(tmp_path / "standin-1", platform, checks, release)
    editions = ("desk", "estate") if platform.id == "tarn" else ("studio",)
    stick = media.create(tmp_path / "stick", release, platform=platform.id, editions=editions)
    code, refused = plain(target, release, route, stick)
    assert (code, sorted(refused)) == (10, list(checks))  # without it, refused, by just these
    facts = read(target, platform)
    choice = choose(platform, release, Route(route), facts, TODAY, checks, checks)
    offered = override.id not in {left.override.id for left in choice.left_out if _cannot(left.why)}
    folder = kit(tmp_path / "kit", platform, OverrideSet((override,), checks, ()), release, route, target)
    code, said = upgrade(folder, target, stick, standin)
    assert (code == 0) is offered, said  # with it, accepted, exactly where the sheet would propose it
    if offered:
        assert target.truth["release"] == release
    else:
        assert sorted(said["checks"]) == list(checks)


def _cannot(why: str) -> bool:
    return why.startswith(("ended at", "works only from", "not for the", "needs"))


@pytest.mark.long
def test_500_generated_cases_are_optimal_and_what_nothing_covers_is_refused(tmp_path: Path) -> None:
    rng = random.Random(90)
    names = [name for name in FAILING if name != "scratch-disk"]
    target = machine.create(tmp_path / "standin-1", **READY)
    none = 0
    for _ in range(500):
        release, route = rng.choice(["9.0", "9.1", "9.2"]), rng.choice(["in-place", "clean"])
        failing = tuple(sorted(rng.sample(names, rng.randint(1, 5))))
        differences = dict(READY) | {"edition": rng.choice(["desk", "estate"]), "release": "8"}
        for check in failing:
            differences |= FAILING[check]
        target.change(**differences)
        checks = tuple(c for c in failing if c in {r.id for r in tarn().requirements_at(release)})
        excepted = set(checks) | set(rng.sample(names, rng.randint(0, 3)))
        facts = read(target, tarn())
        choice = choose(tarn(), release, Route(route), facts, TODAY, checks, excepted)
        expected = _exhaustive(release, Route(route), facts, set(checks), excepted)
        assert (choice.best.ids if choice.best else None) == expected
        if expected is None:
            none += 1
            every = [o for o in tarn().overrides if tarn().in_span(release, o.since, o.until)]
            assert not set(checks) <= _passed(target, every, release, route, tmp_path)
        else:
            assert choice.best is not None
            assert set(checks) <= _passed(target, list(choice.best.overrides), release, route, tmp_path)
    assert none > 20


def _exhaustive(
    release: str, route: Route, facts: dict[str, FactValue], checks: set[str], excepted: set[str]
) -> tuple[str, ...] | None:
    """The optimum, by trying every set of usable overrides."""
    asked = {r.id for r in tarn().requirements_at(release)}
    usable = [
        o
        for o in tarn().overrides
        if tarn().in_span(release, o.since, o.until)
        and route in o.routes
        and o.needs.outcome(facts, TODAY).value == "met"
        and o.covers & checks
    ]
    best = None
    for size in range(len(checks) + 1):
        for chosen in combinations(usable, size):
            ids = tuple(sorted(o.id for o in chosen))
            off = {c for o in chosen for c in o.covers} & asked
            if not checks <= off or any(other in o.conflicts for o in chosen for other in ids):
                continue
            origins = [o.origin.name for o in chosen]
            weight = sum(o.weight for o in chosen)
            cost = (len(off - excepted), origins.count("FIELD"), origins.count("OWN"), weight, size, ids)
            best = min(best or cost, cost)
    return best[-1] if best else None


def _passed(target: Machine, chosen: list[Override], release: str, route: str, folder: Path) -> set[str]:
    """The checks that set-up lets pass with these overrides put in, conflicts and all."""
    for path in target.root.rglob("60-*.ini"):
        path.unlink()
    stick = folder / f"stick-{random.random()}"
    media.create(stick, release)
    words: list[str] = []
    answers = None
    for override in chosen:
        words += override.arguments
        for file in override.files:
            (stick / file.path).write_bytes(file.data)
        for setting in override.settings:
            value = "; ".join(setting.value) if isinstance(setting.value, list) else str(setting.value).lower()
            text = f"[{setting.path}]\n{setting.name} = {value}\n"
            if setting.place == "answers":
                answers = folder / "answers.ini"
                answers.write_text(text)
            else:
                place = target.root / tarn().store.places[setting.place]
                place.mkdir(parents=True, exist_ok=True)
                (place / f"60-{override.id}.ini").write_text(text)
    return setup_program.waived(target, release, route, words, answers, stick)


# ------------------------------------------------- what befalls technicians


def stick_for(tmp_path: Path, release: str = "9.1", **more: Any) -> Path:
    return media.create(tmp_path / "stick", release, **more)


def test_situation_8_set_ups_own_download_restores_the_changed_file(tmp_path: Path) -> None:
    target = made(tmp_path / "standin-1", tarn(), ("processor-listed", "security-chip"), "9.1")
    stick = stick_for(tmp_path)
    (stick / "tarn" / "checks.tbl").write_bytes(b"")
    code, refused = plain(target, "9.1", "clean", stick)
    assert (code, sorted(refused)) == (10, ["processor-listed", "security-chip"])
    assert (stick / "tarn" / "checks.tbl").read_bytes() != b""


def test_situation_9_another_base_language_takes_away_what_should_be_carried_over(tmp_path: Path) -> None:
    target = made(tmp_path / "standin-1", tarn(), (), "9.1", language="nl")
    stick = stick_for(tmp_path)
    assert (target.root / "home/petra/seed list.txt").exists()
    assert plain(target, "9.1", "in-place", stick) == (12, ["base-language"])
    assert not (target.root / "home/petra/seed list.txt").exists()
    other = made(tmp_path / "standin-2", tarn(), (), "9.1", language="nl")
    words = ["--machine", str(other.folder), "--media", str(stick), "--release", "9.1", "--carry-over", "files"]
    assert setup_program.run(words)[0] == 0


def test_situation_10_the_wrong_media_are_refused(tmp_path: Path) -> None:
    target = made(tmp_path / "standin-1", tarn(), (), "9.1", edition="desk")
    assert plain(target, "9.1", "in-place", stick_for(tmp_path / "a", "9.0")) == (10, ["media-release"])
    estate = stick_for(tmp_path / "b", editions=("estate",))
    assert plain(target, "9.1", "in-place", estate) == (10, ["media-edition"])
    assert plain(target, "9.1", "in-place", stick_for(tmp_path / "c", bits=32)) == (10, ["media-arch"])


def test_situations_11_and_20_word_size_and_pending_updates(tmp_path: Path) -> None:
    older = made(tmp_path / "standin-1", tarn(), (), "9.1", system_bits=32)
    stick = stick_for(tmp_path)
    assert plain(older, "9.1", "in-place", stick) == (10, ["word-size-path"])
    assert plain(older, "9.1", "clean", stick) == (0, [])
    behind = made(tmp_path / "standin-2", tarn(), (), "9.1", pending=2)
    assert plain(behind, "9.1", "in-place", stick) == (13, [])
    assert behind.truth["release"] == "8"


@pytest.mark.process
def test_situations_25_and_26_the_loader_moves_from_the_stick_to_the_disk(tmp_path: Path, standin: Path) -> None:
    target = made(tmp_path / "standin-1", brindle(), ("model-listed",), "7")
    stick = stick_for(tmp_path, "7", platform="brindle", editions=("studio",))
    loader = brindle().override("bridge-loader")
    folder = kit(tmp_path / "kit", brindle(), OverrideSet((loader,), ("model-listed",), ()), "7", "in-place", target)
    assert upgrade(folder, target, stick, standin)[0] == 0
    assert setup_program.starts(target) == "no"  # without the stick
    assert setup_program.starts(target, stick) == "yes"
    before = tree(target.root)
    assert sh(folder / "loader-apply", target.root).returncode == 0
    assert sh(folder / "loader-verify", target.root).returncode == 0
    assert setup_program.starts(target) == "yes"
    (target.root / "boot/bridge.ldr.patches").write_text("colour profile 6\n")
    assert setup_program.starts(target) == "dark"
    undone = sh(folder / "loader-undo", target.root)
    later = target.root / "boot/bridge.ldr.patches.later-KT-0001-loader"
    assert (undone.returncode, f"kept as: {later}" in undone.stdout, later.read_text()) == (
        0,
        True,
        "colour profile 6\n",
    )
    later.unlink()
    later.parent.rmdir()  # made for the loader
    assert tree(target.root) == before
    runbook = (folder / "runbook.md").read_text()
    assert "- [ ] **Blocking.** Run `sh loader-apply`" in runbook
    assert "- [ ] **Blocking.** Put in the patch for this model: scanner bridge 2." in runbook


@pytest.mark.process
def test_a_changed_media_file_goes_back_and_the_wrong_one_is_refused(tmp_path: Path) -> None:
    target = made(tmp_path / "standin-1", tarn(), ("processor-listed", "security-chip"), "9.1")
    stick = stick_for(tmp_path)
    before = tree(stick)
    table = tarn().override("loose-table")
    folder = kit(tmp_path / "kit", tarn(), OverrideSet((table,), (), ()), "9.1", "clean", target)
    manifest = json.loads((folder / "manifest.json").read_text())
    assert manifest["media_files"] == [
        {
            "path": "tarn/checks.tbl",
            "change": "emptied",
            "before": table.files[0].before,
            "after": "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
        }
    ]
    for _ in range(2):
        assert sh(folder / "media-apply", stick).returncode == 0
    assert (stick / "tarn/checks.tbl").read_bytes() == b""
    assert sh(folder / "media-undo", stick).returncode == 0
    assert tree(stick) == before
    (stick / "tarn/checks.tbl").write_text("another\n")
    refused = sh(folder / "media-apply", stick)
    assert refused.returncode == 4
    assert "is not the file that this kit was made for. Nothing was done." in refused.stderr
    assert sh(folder / "media-apply").returncode == 2  # no folder is taken unasked


def test_the_assessors_day_is_the_fleets(tmp_path: Path) -> None:
    target = made(tmp_path / "standin-1", tarn(), (), "9.1")
    assert read(target, tarn())["os.base_language"] == "en"
    assert date.fromisoformat(str(target.truth["backup"])) <= TODAY


@pytest.mark.process
@pytest.mark.parametrize("steps", range(1, 7))
def test_changed_media_that_were_cut_off_half_way_are_undone(tmp_path: Path, steps: int) -> None:
    target = made(tmp_path / "standin-1", tarn(), ("storage",), "9.1")
    chosen = OverrideSet((tarn().override("loose-table"), tarn().override("packed-stick")), (), ())
    folder, stick = kit(tmp_path / "kit", tarn(), chosen, "9.1", "clean", target), stick_for(tmp_path)
    before = tree(stick)
    script = (folder / "media-apply").read_text()
    for word in ("mkdir ", "cp ", "mv -f ", ": > "):
        script = script.replace(f"    {word}", f"    step; {word}").replace(f"then {word}", f"then step; {word}")
    script = script.replace("set -eu", f"set -eu\nn=0; step() {{ n=$((n + 1)); [ $n -lt {steps} ] || exit 9; }}", 1)
    (folder / "half").write_text(script)
    assert sh(folder / "half", stick).returncode == 9
    assert sh(folder / "media-undo", stick).returncode == 0
    assert tree(stick) == before
    assert sh(folder / "media-apply", stick).returncode == 0
    assert sh(folder / "media-verify", stick).returncode == 0
