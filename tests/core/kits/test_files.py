"""Kits are rendered, and their scripts really run, with sh, on a file tree."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import sys
import zipfile
from datetime import date
from io import BytesIO
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.kits.case import KitCase, KitException
from doorstone.core.kits.files import archive, kit_refusals, render
from doorstone.core.kits.gates import check_gates
from doorstone.core.kits.overrides import OverrideSet, choose
from doorstone.core.kits.settings_store import setting_text
from doorstone.core.media import Media
from doorstone.core.platforms.platform import Origin, Override, Route, Setting
from doorstone.core.sorting.assessment import assess
from tests.build import CHIPLESS, GOOD, MEDIA, TODAY, tarn, view

CHECKS = ("graphics-level", "memory-set-up", "online-account", "processor-listed", "security-chip")
FACTS = {**CHIPLESS, **MEDIA, "memory.mib": 4096, "graphics.vulkan": "1.1", "account.online": False}


def case(**changes: Any) -> KitCase:
    seen = view(FACTS)
    choice = choose(tarn(), "9.1", Route.IN_PLACE, seen.values(), TODAY, CHECKS, CHECKS)
    assert choice.best is not None
    made = KitCase(
        "KT-0042",
        tarn(),
        3,
        "a" * 64,
        "9.1",
        Route.IN_PLACE,
        "everything",
        ("nbt-012",),
        choice.best,
        (KitException("EX-0007", CHECKS, date(2027, 9, 1), "The disk stays encrypted.", "petra"),),
        check_gates(tarn(), Route.IN_PLACE, seen),
        TODAY,
    )
    return replace(made, **changes)


def write(folder: Path, made: KitCase) -> Path:
    kit = folder / made.id
    for path, data in render(made).items():
        (kit / path).parent.mkdir(parents=True, exist_ok=True)
        (kit / path).write_bytes(data)
    return kit


def tree(root: Path) -> dict[str, tuple[str, int, bytes | str]]:
    """Everything below a root: kind, mode, and bytes or link target."""
    found: dict[str, tuple[str, int, bytes | str]] = {}
    for path in sorted(root.rglob("*")):
        name, mode = str(path.relative_to(root)), path.lstat().st_mode & 0o7777
        if path.is_symlink():
            found[name] = ("link", mode, str(path.readlink()))
        else:
            found[name] = ("folder", mode, b"") if path.is_dir() else ("file", mode, path.read_bytes())
    return found


def sh(script: Path, *words: object, **more: Any) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["sh", str(script), *map(str, words)], capture_output=True, text=True, timeout=60, **more)


@pytest.fixture
def root(tmp_path: Path) -> Path:
    place = tmp_path / "root"
    settings_folder = place / "etc" / "tarn" / "settings.d"
    settings_folder.mkdir(parents=True)
    (settings_folder / "10-vendor.ini").write_text("[start]\nsplash = true\n")
    return place


# ------------------------------------------------------------------ rendering


def test_same_inputs_same_bytes() -> None:
    assert render(case()) == render(case())
    assert archive("KT-0042", render(case())) == archive("KT-0042", render(case()))


@pytest.mark.process
def test_same_bytes_on_another_machines_clock_and_in_another_run() -> None:
    program = (
        "import hashlib; from tests.core.kits.test_files import *; "
        "print(hashlib.sha256(archive('KT-0042', render(case()))).hexdigest())"
    )
    found = set()
    for zone, seed in (("Pacific/Kiritimati", "2"), ("America/Adak", "3")):
        env = {**os.environ, "TZ": zone, "PYTHONHASHSEED": seed, "LC_ALL": "C"}
        done = subprocess.run([sys.executable, "-c", program], env=env, capture_output=True, text=True, check=True)
        found.add(done.stdout)
    assert found == {hashlib.sha256(archive("KT-0042", render(case()))).hexdigest() + "\n"}


def test_the_files_of_a_kit() -> None:
    files = render(case())
    assert list(files) == [
        "SHA256SUMS",
        "answers.ini",
        "apply",
        "manifest.json",
        "runbook.md",
        "set-up",
        "settings/set-up.ini",
        "settings/system.ini",
        "undo",
        "verify",
    ]
    assert files["settings/system.ini"].decode().splitlines()[1:] == [
        "[setup/compat]",
        "accept = security-chip; processor-listed",
    ]
    assert files["answers.ini"].decode().splitlines()[1:] == ["[account]", "kind = local"]


def test_the_sums_cover_every_other_file() -> None:
    files = render(case())
    sums = dict(reversed(line.split("  ")) for line in files["SHA256SUMS"].decode().splitlines())
    assert set(sums) == set(files) - {"SHA256SUMS"}
    assert all(hashlib.sha256(files[name]).hexdigest() == digest for name, digest in sums.items())


def test_the_manifest_says_what_the_kit_rests_on() -> None:
    manifest = json.loads(render(case())["manifest.json"])
    assert manifest["kit"] == "KT-0042"
    assert manifest["sheet"] == {"revision": 3, "sha256": "a" * 64}
    assert [o["id"] for o in manifest["overrides"]] == [
        "compat-drop-in",
        "offline-answer",
        "plain-graphics",
        "small-memory",
    ]
    assert manifest["exceptions"] == [{"id": "EX-0007", "requirements": list(CHECKS), "expiry": "2027-09-01"}]
    assert manifest["set_up"][:4] == ["--release", "9.1", "--route", "in-place"]
    assert manifest["set_up"][-1] == "--plain-drawing"
    assert manifest["excess"] == []


def test_the_archive_holds_the_kit_in_one_folder_with_runnable_scripts() -> None:
    with zipfile.ZipFile(BytesIO(archive("KT-0042", render(case())))) as bundle:
        modes = {entry.filename: entry.external_attr >> 16 for entry in bundle.infolist()}
    assert modes["KT-0042/apply"] == 0o755
    assert modes["KT-0042/manifest.json"] == 0o644
    assert all(name.startswith("KT-0042/") for name in modes)


def test_the_runbook_is_in_order() -> None:
    text = render(case())["runbook.md"].decode()
    titles = [line for line in text.splitlines() if line.startswith("## ")]
    assert titles == [
        "## 1. Check the gates",
        "## 2. Before anything changes",
        "## 3. Put the settings in",
        "## 4. Restart",
        "## 5. Prepare the media",
        "## 6. Start set-up",
        "## 7. What you will see",
        "## 8. What to accept and record",
        "## 9. After",
        "## 10. To undo the settings",
    ]


def test_situations_13_15_and_16_stand_in_the_runbook() -> None:
    text = render(case())["runbook.md"].decode()
    assert "Restart the device now, before set-up." in text
    assert "A restart loses Small memory profile. Run `sh apply` again after one." in text
    assert "Set-up shows a notice that the device is not supported. Accept it." in text
    assert "EX-0007 allows graphics-level, memory-set-up" in text
    assert "risk acknowledged by petra. Keep to: The disk stays encrypted." in text
    hall = OverrideSet((tarn().override("hall-profile"),), (), ())
    assert "Set-up's title names Tarn Hall Display. That is normal" in render(case(chosen=hall))["runbook.md"].decode()


def test_situation_8_the_caution_about_update_download_stands_in_the_runbook() -> None:
    assert "Leave set-up's own update download off" in render(case())["runbook.md"].decode()


def test_two_overrides_that_add_to_one_list_are_merged() -> None:
    def adding(name: str, *items: str) -> Override:
        setting = Setting("setup/compat", "accept", "list", list(items), "system")
        return replace(tarn().override("compat-drop-in"), id=name, settings=(setting,))

    both = OverrideSet((adding("a", "x", "y"), adding("b", "y", "z")), (), ())
    assert b"accept = x; y; z\n" in render(case(chosen=both))["settings/system.ini"]


def test_what_a_person_typed_adds_no_step_to_the_runbook() -> None:
    typed = "Encrypted.\n\n## 11. Switch everything off\n- [ ] really"
    held = KitException("EX-0007", CHECKS, date(2027, 9, 1), typed, "petra")
    text = render(case(exceptions=(held,)))["runbook.md"].decode()
    assert not any(line.startswith("## 11") for line in text.splitlines())
    assert "Keep to: Encrypted. ## 11. Switch everything off - [ ] really" in text
    from_cupboard = Media("MD-1", "tarn", "9.1", "9.1", ("desk",), "en", "x86-64", 10**9, "a" * 64, True, typed)
    text = render(case(media=from_cupboard))["runbook.md"].decode()
    assert "It is on Encrypted. ## 11. Switch everything off - [ ] really." in text


@pytest.mark.parametrize(
    ("kind", "value", "text"),
    [("flag", True, "true"), ("integer", 7, "7"), ("list", ["a", "b"], "a; b"), ("text", "x", "x")],
)
def test_values_as_the_store_holds_them(kind: str, value: Any, text: str) -> None:
    assert setting_text(Setting("p", "n", kind, value, "system")) == text


# ------------------------------------------------------- apply, verify, undo


@pytest.mark.process
def test_apply_then_undo_is_the_identity(root: Path, tmp_path: Path) -> None:
    kit, before = write(tmp_path, case()), tree(root)
    assert sh(kit / "apply", root).returncode == 0
    assert (root / "etc/tarn/settings.d/60-doorstone.ini").exists()
    assert (root / "run/tarn-set-up/settings.d/60-doorstone.ini").exists()
    assert sh(kit / "undo", root).returncode == 0
    assert tree(root) == before


@pytest.mark.process
def test_situation_14_what_was_there_before_comes_back_with_its_mode(root: Path, tmp_path: Path) -> None:
    old = root / "etc/tarn/settings.d/60-doorstone.ini"
    old.write_text("[setup/compat]\naccept = something-else\n")
    old.chmod(0o640)
    kit, before = write(tmp_path, case()), tree(root)
    sh(kit / "apply", root)
    assert tree(root) != before
    sh(kit / "undo", root)
    assert tree(root) == before


@pytest.mark.process
def test_applying_twice_is_harmless(root: Path, tmp_path: Path) -> None:
    kit, before = write(tmp_path, case()), tree(root)
    sh(kit / "apply", root)
    once = tree(root)
    assert sh(kit / "apply", root).returncode == 0
    assert tree(root) == once
    sh(kit / "undo", root)
    assert tree(root) == before


@pytest.mark.process
@pytest.mark.parametrize("steps", range(1, 9))
def test_an_apply_that_was_killed_half_way_is_undone(root: Path, tmp_path: Path, steps: int) -> None:
    kit, before = write(tmp_path, case()), tree(root)
    # Stop the script before its n-th change, as a power cut would.
    script = (kit / "apply").read_text()
    for word in ("mkdir ", "cp ", "mv -f ", ": > "):
        script = script.replace(f"    {word}", f"    step; {word}").replace(f"then {word}", f"then step; {word}")
    script = script.replace("set -eu", f"set -eu\nn=0; step() {{ n=$((n + 1)); [ $n -lt {steps} ] || exit 9; }}", 1)
    (kit / "half").write_text(script)
    assert sh(kit / "half", root).returncode == 9
    assert sh(kit / "undo", root).returncode == 0
    assert tree(root) == before


@pytest.mark.process
def test_undo_without_apply_does_nothing(root: Path, tmp_path: Path) -> None:
    kit, before = write(tmp_path, case()), tree(root)
    done = sh(kit / "undo", root)
    assert (done.returncode, "not applied here" in done.stdout) == (0, True)
    assert tree(root) == before


@pytest.mark.process
def test_a_changed_kit_is_not_applied(root: Path, tmp_path: Path) -> None:
    kit, before = write(tmp_path, case()), tree(root)
    (kit / "settings/system.ini").write_text("[setup/compat]\naccept = everything\n")
    done = sh(kit / "apply", root)
    assert (done.returncode, "Nothing was done" in done.stderr) == (3, True)
    assert tree(root) == before


def verified(kit: Path, root: Path) -> tuple[int, dict[str, Any]]:
    done = sh(kit / "verify", root)
    return done.returncode, json.loads(done.stdout)


def states(report: dict[str, Any]) -> dict[str, str]:
    return {row["name"]: row["state"] for row in report["settings"]}


@pytest.mark.process
def test_verify_says_right(root: Path, tmp_path: Path) -> None:
    kit = write(tmp_path, case())
    sh(kit / "apply", root)
    code, report = verified(kit, root)
    assert (code, report["ok"], report["kit"]) == (0, True, "KT-0042")
    assert states(report) == {"accept": "right", "memory": "right"}


@pytest.mark.process
def test_verify_says_missing_before_apply(root: Path, tmp_path: Path) -> None:
    code, report = verified(write(tmp_path, case()), root)
    assert (code, report["ok"]) == (1, False)
    assert states(report) == {"accept": "missing", "memory": "missing"}


@pytest.mark.process
def test_verify_says_different_when_a_later_file_wins(root: Path, tmp_path: Path) -> None:
    kit = write(tmp_path, case())
    sh(kit / "apply", root)
    (root / "etc/tarn/settings.d/90-site.ini").write_text("[setup/compat]\naccept = none\n")
    _, report = verified(kit, root)
    row = next(row for row in report["settings"] if row["name"] == "accept")
    assert (row["state"], row["expected"], row["found"]) == ("different", "security-chip; processor-listed", "none")


@pytest.mark.process
def test_situation_12_a_setting_misspelt_by_one_letter_is_a_near_miss(root: Path, tmp_path: Path) -> None:
    kit = write(tmp_path, case())
    sh(kit / "apply", root)
    file = root / "etc/tarn/settings.d/60-doorstone.ini"
    file.write_text(file.read_text().replace("accept =", "acept ="))
    code, report = verified(kit, root)
    row = next(row for row in report["settings"] if row["name"] == "accept")
    assert (code, row["state"], row["near"]) == (1, "near-miss", "acept")
    assert row["slip"] == "letter 3: c is missing"


@pytest.mark.process
def test_set_up_gets_exactly_the_arguments_of_the_kit(root: Path, tmp_path: Path) -> None:
    kit = write(tmp_path, case())
    echo = tmp_path / "echo"
    echo.write_text('#!/bin/sh\nfor word in "$@"; do printf "%s\\n" "$word"; done\n')
    echo.chmod(0o755)
    done = sh(kit / "set-up", "--more", env={**os.environ, "SET_UP": str(echo)})
    assert done.stdout.splitlines() == [
        "--release", "9.1", "--route", "in-place", "--carry-over", "everything", "--plain-drawing",
        "--answers", str(kit / "answers.ini"), "--more",
    ]  # fmt: skip


hostile = st.text(st.characters(min_codepoint=32, max_codepoint=126), min_size=1, max_size=40).map(
    lambda text: f"x{text}$(touch /tmp/doorstone-escaped)`id`'\"\\"
)


@pytest.mark.process
@settings(max_examples=15, deadline=None)
@given(hostile, hostile)
def test_hostile_values_never_reach_a_script_unquoted(
    tmp_path_factory: pytest.TempPathFactory, word: str, value: str
) -> None:
    folder = tmp_path_factory.mktemp("hostile")
    setting = Setting("setup/compat", "accept", "text", value, "system")
    bad = Override(
        "bad", word, frozenset(CHECKS), frozenset({Route.IN_PLACE}), "9.0", None, "argument", Origin.OWN, 1,
        settings=(setting,), arguments=(word,),
    )  # fmt: skip
    kit = write(folder, case(chosen=OverrideSet((bad,), (), ())))
    (folder / "root").mkdir()
    assert sh(kit / "apply", folder / "root").returncode == 0
    code, report = verified(kit, folder / "root")
    assert (code, report["settings"][0]["found" if code else "expected"]) == (0, value.strip())
    show = folder / "show"
    show.write_text('#!/bin/sh\nprintf "%s" "$7"\n')
    show.chmod(0o755)
    assert sh(kit / "set-up", env={**os.environ, "SET_UP": str(show)}).stdout == word
    assert sh(kit / "undo", folder / "root").returncode == 0
    assert not Path("/tmp/doorstone-escaped").exists()
    shutil.rmtree(folder)


# ------------------------------------------------------------------ refusals


def refused(facts: dict[str, Any], excepted: dict[str, str] | None = None, **more: Any) -> dict[str, str]:
    seen = view({**facts, **MEDIA})
    found = kit_refusals(
        assess(tarn(), "9.1", seen),
        excepted or {},
        more.get("stale", {}),
        None,
        check_gates(tarn(), Route.IN_PLACE, seen),
    )
    return {r.subject: r.reason for r in found}


def test_a_device_that_is_ready_gets_its_kit() -> None:
    assert refused(dict(GOOD)) == {}
    assert refused(dict(CHIPLESS), {"security-chip": "EX-1", "processor-listed": "EX-1"}) == {}


def test_everything_that_refuses_a_kit_is_named() -> None:
    facts = {k: v for k, v in CHIPLESS.items() if k != "firmware.mode"}
    facts |= {"cpu.features": [], "firmware.secure_boot": "off", "care.last_backup": "2026-12-01"}
    found = refused(facts, {"processor-listed": "EX-1"})
    assert found == {
        "instruction-level": "Instruction level x86-64-v3 is a floor",
        "security-chip": "Security chip, TPM 2.0, switched on has no approved exception in force",
        "firmware-uefi": "UEFI firmware mode is unread",
        "secure-boot": "Secure Boot switched on can be fixed",
        "backup": "A recent backup: care.last_backup 2026-12-01",
    }


def test_a_stale_exception_refuses_a_kit() -> None:
    assert refused(dict(GOOD), stale={"EX-0002": ["storage: disk changed"]}) == {
        "EX-0002": "EX-0002 is stale: storage: disk changed"
    }
