"""The files of a bundle that somebody was handed: a kit or an evidence pack, as a folder or a zip."""

from __future__ import annotations

import stat
import zipfile
import zlib
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from doorstone.cli.output import BAD_INPUT, fail

MANIFEST = "manifest.json"
MOST_BYTES = 256 * 2**20


def bundle_files(path: Path, what: str) -> tuple[dict[str, bytes], list[str]]:
    """The plain files of a folder or zip by path, and what no such bundle has: links, set-id files, other entries.

    `what` names the bundle in messages. Ends the command with a message if it cannot be read or is too large.
    """
    if path.is_dir():
        return _folder_files(path, what)
    files: dict[str, bytes] = {}
    faults: list[str] = []
    try:
        with zipfile.ZipFile(path) as bundle:
            if sum(entry.file_size for entry in bundle.infolist()) > MOST_BYTES:
                fail(
                    BAD_INPUT,
                    f"{path} holds more than {MOST_BYTES // 2**20} MiB",
                    f"No {what} is so large; do not unpack it",
                )
            top = _top([entry.filename for entry in bundle.infolist()])
            for entry in bundle.infolist():
                first, _, name = entry.filename.partition("/")
                mode = entry.external_attr >> 16
                if entry.is_dir():
                    continue
                if not name or first != top or ".." in Path(name).parts or name.startswith("/"):
                    faults.append(f"{entry.filename} lies outside the {what}'s folder")
                elif name in files:
                    faults.append(f"{name} stands twice")
                elif stat.S_ISLNK(mode):
                    faults.append(f"{name} is a link")
                else:
                    faults += _set_id(name, mode)
                    files[name] = _read(bundle, entry)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, OSError, zlib.error):
        fail(
            BAD_INPUT,
            f"{path} is no {what}, or is damaged",
            f"Name the {what}'s folder, or its zip; or download it again",
        )
    return files, faults


def _top(names: Sequence[str]) -> str:
    """The folder of the bundle: the one with a manifest, else the one with the most files."""
    manifests = [name.partition("/")[0] for name in names if name.partition("/")[2] == MANIFEST]
    tops = Counter(name.partition("/")[0] for name in names if "/" in name)
    return max(manifests or tops, key=lambda top: tops[top], default="")


def _read(bundle: zipfile.ZipFile, entry: zipfile.ZipInfo) -> bytes:
    """The bytes of an entry; none if they are damaged, which its digest then tells."""
    try:
        return bundle.read(entry)
    except (zipfile.BadZipFile, zlib.error):
        return b""


def _folder_files(path: Path, what: str) -> tuple[dict[str, bytes], list[str]]:
    if not (path / MANIFEST).exists() and len(inside := sorted(path.glob(f"*/{MANIFEST}"))) == 1:
        path = inside[0].parent  # unpacked into a folder of its own
    files: dict[str, bytes] = {}
    faults: list[str] = []
    size = 0
    for file in sorted(path.rglob("*")):
        name, mode = file.relative_to(path).as_posix(), file.lstat().st_mode
        if stat.S_ISLNK(mode):
            faults.append(f"{name} is a link")
        elif stat.S_ISREG(mode):
            size += file.lstat().st_size
            if size > MOST_BYTES:
                fail(BAD_INPUT, f"{path} holds more than {MOST_BYTES // 2**20} MiB", f"No {what} is so large")
            faults += _set_id(name, mode)
            files[name] = file.read_bytes()
        elif not stat.S_ISDIR(mode):
            faults.append(f"{name} is no plain file")
    return files, faults


def _set_id(name: str, mode: int) -> list[str]:
    return [f"{name} runs as another user (set-id)"] if mode & (stat.S_ISUID | stat.S_ISGID) else []
