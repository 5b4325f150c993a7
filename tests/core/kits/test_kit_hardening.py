"""Kits on machines that do not behave: links, pipes, another machine, kits over the same files, kills, other shells."""

from __future__ import annotations

import os
import shutil
import subprocess
from datetime import date
from pathlib import Path
from typing import Any

import pytest

from doorstone.core.kits.scripts import SYSTEM, Holds, scripts
from doorstone.core.kits.settings_store import KitFileChange

pytestmark = pytest.mark.process
SHELLS = ["sh", *(["busybox sh"] if shutil.which("busybox") else [])]
TARGET = "etc/tarn/rules.conf"


def kit(folder: Path, name: str, text: str = "new\n", change: str = "put", holds: Holds | None = None) -> Path:
    """A kit of one whole file, or of one that is removed."""
    made = folder / name
    (made / "files").mkdir(parents=True)
    source = "files/rules.conf" if change == "put" else ""
    piece = KitFileChange("system", TARGET, change, "same" if source else "gone", source, source)
    files = {"files/rules.conf": text.encode(), **scripts(SYSTEM, name, [piece], "next", holds or Holds())}
    for path, data in files.items():
        (made / path).write_bytes(data)
    sums = subprocess.run(["sha256sum", *sorted(files)], cwd=made, capture_output=True, text=True, check=True).stdout
    (made / "SHA256SUMS").write_text(sums)
    return made


def run(script: Path, *words: object, shell: str = "sh") -> subprocess.CompletedProcess[str]:
    return subprocess.run([*shell.split(), str(script), *map(str, words)], capture_output=True, text=True, timeout=120)


@pytest.fixture
def root(tmp_path: Path) -> Path:
    place = tmp_path / "root"
    (place / "etc/tarn").mkdir(parents=True)
    return place


def put(root: Path, text: str, mode: int = 0o600) -> Path:
    file = root / TARGET
    file.write_text(text)
    file.chmod(mode)
    return file


@pytest.mark.parametrize("shell", SHELLS)
def test_a_whole_file_keeps_its_mode_and_comes_back_as_it_was(root: Path, tmp_path: Path, shell: str) -> None:
    file = put(root, "old\n")
    made = kit(tmp_path, "KT-1")
    for _ in range(2):
        assert run(made / "apply", root, shell=shell).returncode == 0
    assert (file.read_text(), file.stat().st_mode & 0o777) == ("new\n", 0o600)
    assert run(made / "verify", root, shell=shell).returncode == 0
    assert run(made / "undo", root, shell=shell).returncode == 0
    assert (file.read_text(), file.stat().st_mode & 0o777) == ("old\n", 0o600)
    assert not (root / ".doorstone").exists()


def test_an_empty_root_is_no_root(tmp_path: Path) -> None:
    for name in ("apply", "undo", "verify"):
        done = run(kit(tmp_path, f"KT-{name}") / name, "")
        assert (done.returncode, "is not a folder" in done.stderr) == (2, True)


@pytest.mark.parametrize("where", ["etc", "etc/tarn", TARGET, ".doorstone"])
def test_nothing_is_written_through_a_link(root: Path, tmp_path: Path, where: str) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    place = root / where
    if place.exists():
        shutil.rmtree(place)
    place.parent.mkdir(parents=True, exist_ok=True)
    place.symlink_to(outside if where != TARGET else outside / "file")
    done = run(kit(tmp_path, "KT-1") / "apply", root)
    assert (done.returncode, "is a link, and links are not followed. Nothing was done" in done.stderr) == (4, True)
    assert list(outside.iterdir()) == []


def test_a_pipe_in_the_way_hangs_nothing(root: Path, tmp_path: Path) -> None:
    os.mkfifo(root / TARGET)
    made = kit(tmp_path, "KT-1")
    assert "is no plain file" in run(made / "apply", root).stderr
    assert run(made / "verify", root).returncode == 1


@pytest.mark.parametrize("first", ["KT-1", "KT-2"])
def test_kits_over_the_same_file_are_undone_in_turn_and_restore_what_was_before_both(
    root: Path, tmp_path: Path, first: str
) -> None:
    file = put(root, "old\n")
    kits = {name: kit(tmp_path, name, f"{name}\n") for name in ("KT-1", "KT-2")}
    for made in kits.values():
        assert run(made / "apply", root).returncode == 0
    done = run(kits[first] / "undo", root)
    if first == "KT-1":
        assert (done.returncode, "undo KT-2 first" in done.stderr, file.read_text()) == (4, True, "KT-2\n")
        assert run(kits["KT-2"] / "undo", root).returncode == 0
    assert run(kits["KT-1"] / "undo", root).returncode == 0
    assert (file.read_text(), (root / ".doorstone").exists()) == ("old\n", False)


@pytest.mark.parametrize("change", ["put", "drop"])
def test_what_others_changed_since_is_kept_beside_and_named(root: Path, tmp_path: Path, change: str) -> None:
    file = put(root, "old\n")
    made = kit(tmp_path, "KT-1", change=change)
    run(made / "apply", root)
    file.write_text("theirs\n")
    done = run(made / "undo", root)
    later = root / f"{TARGET}.later-KT-1"
    assert (done.returncode, f"kept as: {later}" in done.stdout) == (0, True)
    assert (file.read_text(), later.read_text()) == ("old\n", "theirs\n")


def test_an_undo_that_is_repeated_after_a_kill_finds_its_end(root: Path, tmp_path: Path) -> None:
    file = put(root, "old\n")
    made = kit(tmp_path, "KT-1")
    run(made / "apply", root)
    text, end = (made / "undo").read_text(), 'if [ -e "$keep/folders" ]; then'
    (made / "cut").write_text(text.replace(end, f"kill -9 $$\n{end}", 1))
    assert run(made / "cut", root).returncode == -9
    assert file.read_text() == "old\n"
    assert run(made / "undo", root).returncode == 0
    assert (file.read_text(), sorted(p.name for p in file.parent.iterdir())) == ("old\n", ["rules.conf"])


@pytest.mark.parametrize("note", ["1.after", "1.target", "1.before", "1.saved", "folders"])
def test_what_the_kit_keeps_is_never_a_link(root: Path, tmp_path: Path, note: str) -> None:
    file, outside = put(root, "old\n"), tmp_path / "outside"
    made = kit(tmp_path, "KT-1")
    assert run(made / "apply", root).returncode == 0
    outside.write_text("theirs\n")
    kept = root / ".doorstone/KT-1" / note
    kept.unlink(missing_ok=True)
    kept.symlink_to(outside)
    for script in ("apply", "undo"):
        done = run(made / script, root)
        assert (done.returncode, "is a link, and links are not followed" in done.stderr) == (4, True)
    assert (outside.read_text(), file.read_text()) == ("theirs\n", "new\n")


def test_an_apply_killed_anywhere_leaves_nothing_of_the_kit_after_undo(root: Path, tmp_path: Path) -> None:
    """Killed before each command of apply in turn, by its own trace; undo brings back what was there, every time."""
    file, killed = put(root, "old\n"), 0
    made = kit(tmp_path, "KT-1")
    text = (made / "apply").read_text().split("\n")
    steps = [at for at, row in enumerate(text) if row.startswith("    ") and row.strip().split(" ")[0] in STEPS]
    for at in steps:
        (made / "cut").write_text("\n".join([*text[:at], "kill -9 $$", *text[at:]]))
        killed += run(made / "cut", root).returncode == -9
        undone = run(made / "undo", root)
        assert undone.returncode == 0, text[at]
        found = {path.relative_to(root): path.read_text() for path in root.rglob("*") if path.is_file()}
        assert found == {Path(TARGET): "old\n"}, text[at]
    assert killed >= 8
    assert file.read_text() == "old\n"


STEPS = {"printf", "mv", "cp", "cat", "note", "rm", "mkdir", "[", "if"}


@pytest.mark.parametrize("size", ["empty", "missing"])
def test_an_empty_note_counts_as_missing(root: Path, tmp_path: Path, size: str) -> None:
    file = put(root, "old\n")
    made = kit(tmp_path, "KT-1")
    run(made / "apply", root)
    after = root / ".doorstone/KT-1/1.after"
    if size == "empty":
        after.write_text("")
    else:
        after.unlink()
    assert run(made / "undo", root).returncode == 0
    assert (file.read_text(), [path.name for path in file.parent.iterdir()]) == ("old\n", ["rules.conf"])


def test_a_clock_before_the_day_of_the_kit_is_refused(root: Path, tmp_path: Path) -> None:
    later = kit(tmp_path, "KT-1", holds=Holds(made_on=date(2027, 1, 19)))
    done = run(later / "apply", root)
    assert (done.returncode, "the clock of this machine says 20270118" in done.stderr) == (5, True)
    assert not (root / TARGET).exists()
    assert run(kit(tmp_path, "KT-2", holds=Holds(made_on=date(2027, 1, 18))) / "apply", root).returncode == 0


DAY = Holds(date(2020, 1, 1))
HERE = Holds(None, (("nbt-012", "Herbarium 12", "SN 77"),))


@pytest.mark.parametrize(
    ("holds", "hostname", "serial", "words"),
    [
        (DAY, "", "", "was to be used through 20200101"),
        (HERE, "nbt-013.northmere.example", "", "nbt-013.northmere.example, and the kit is for nbt-012"),
        (HERE, "", "SN78", "and the kit is for nbt-012"),
        (HERE, "NBT-012", "", ""),
        (HERE, "other", "sn 77", ""),
        (HERE, "", "", ""),  # nobody says which machine it is
    ],
)
def test_apply_checks_its_day_and_its_machine_and_can_be_forced(
    root: Path, tmp_path: Path, holds: Holds, hostname: str, serial: str, words: str
) -> None:
    if hostname:
        (root / "etc/hostname").write_text(f"{hostname}\n")
    if serial:
        (root / "sys/class/dmi/id").mkdir(parents=True)
        (root / "sys/class/dmi/id/product_serial").write_text(f"{serial}\n")
    made = kit(tmp_path, "KT-1", holds=holds)
    done = run(made / "apply", root)
    assert (done.returncode, words in done.stderr) == (5 if words else 0, True)
    assert (root / TARGET).exists() is not bool(words)
    assert run(made / "apply", root, "--force").returncode == 0


def test_a_kit_that_lost_its_sums_or_a_file_is_not_applied(root: Path, tmp_path: Path) -> None:
    for name in ("SHA256SUMS", "files/rules.conf"):
        made = kit(tmp_path, f"KT-{len(name)}")
        (made / name).unlink()
        done: Any = run(made / "apply", root)
        assert (done.returncode, "changed or is incomplete" in done.stderr, name in done.stderr) == (3, True, True)
