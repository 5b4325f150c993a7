"""Simulated set-up media: a folder that stands for what is on a stick."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from doorstone_standins.worlds import CHECKS_TABLE


def create(
    folder: Path,
    release: str,
    *,
    platform: str = "tarn",
    language: str = "en",
    editions: tuple[str, ...] = ("desk", "estate"),
    bits: int = 64,
) -> Path:
    """Make media with a release on it, as a media maker gives them."""
    place = folder / platform
    place.mkdir(parents=True)
    about = {"release": release, "language": language, "editions": list(editions), "bits": bits}
    (place / "release.json").write_text(json.dumps(about, indent=2) + "\n")
    (folder / "boot").mkdir()
    (folder / "boot" / "start.bin").write_bytes(b"START" + release.encode())
    if platform == "tarn":
        (place / "checks.tbl").write_bytes(CHECKS_TABLE)
    return folder


def about(folder: Path, platform: str) -> dict[str, Any]:
    """What is on the media."""
    found: dict[str, Any] = json.loads((folder / platform / "release.json").read_text())
    return found
