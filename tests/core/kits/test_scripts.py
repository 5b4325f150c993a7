"""The scripts of a kit as files of their own: whole where they are rendered, and without a finding of shellcheck."""

from __future__ import annotations

import re
import subprocess
import sys
from datetime import date
from pathlib import Path

import pytest

from doorstone.core.kits.scripts import AREAS, Holds, scripts, set_up_script
from doorstone.core.kits.settings_store import KitFileChange

CHANGES = [
    KitFileChange("prefs", "etc/up.ini", "put", "ini", "up.ini", "up.ini"),
    KitFileChange("tree", "etc/tree.json", "patch", "json", "tree.patch", "tree.want"),
    KitFileChange("media", "old.bin", "drop", "gone"),
    KitFileChange("boot", "boot/lines.txt", "put", "lines", "lines.txt", "lines.txt", "ab12"),
    KitFileChange("loader", "boot/loader", "put", "same", "loader", "loader"),
]
HOLDS = Holds(date(2027, 3, 1), (("nbt-012", "reading room's 2", "S/N 7"),))
SHARED_HEAD = "SC2034"  # the head is the same everywhere; undo and verify each leave one of its names unused


def rendered() -> dict[str, bytes]:
    made = {"set-up": set_up_script("KT-0001", "media/set-up", ["--skip", "it's"], answers=True)}
    for area in AREAS:
        made |= scripts(area, "KT-0001", CHANGES, "Restart 'now'", HOLDS)
    return made


@pytest.mark.parametrize("name", sorted(rendered()))
def test_nothing_is_left_to_fill_in(name: str) -> None:
    assert re.findall(r"@[A-Z_]+@", rendered()[name].decode()) == []


@pytest.mark.process
def test_shellcheck_finds_nothing(tmp_path: Path) -> None:
    for name, data in rendered().items():
        (tmp_path / name).write_bytes(data)
    checker = Path(sys.executable).with_name("shellcheck")
    command = [str(checker), "--shell", "sh", "--exclude", SHARED_HEAD, *sorted(rendered())]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True)
    assert (done.stdout, done.returncode) == ("", 0)
