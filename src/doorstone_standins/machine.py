"""A simulated machine: `machine.json` holds the truth about its hardware, `root/` is its system's file tree."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass
class Machine:
    """One machine in a folder of its own."""

    folder: Path

    @property
    def root(self) -> Path:
        return self.folder / "root"

    @property
    def truth(self) -> dict[str, Any]:
        data: dict[str, Any] = json.loads((self.folder / "machine.json").read_text())
        return data

    def change(self, **values: Any) -> None:
        """Change the truth: a part, a firmware switch, the release after an upgrade."""
        data = self.truth | values
        (self.folder / "machine.json").write_text(json.dumps(data, indent=2, sort_keys=True) + "\n")

    def build(self) -> None:
        """The system tree as the platform's maker leaves it."""
        if self.truth.get("platform") == "brindle":
            place = self.root / "opt" / "brindle"
            place.mkdir(parents=True)
            (place / "settings.json").write_text(BRINDLE_SETTINGS)
            return
        settings = self.root / "etc" / "tarn" / "settings.d"
        settings.mkdir(parents=True)
        (settings / "10-vendor.ini").write_text("[start]\nsplash = true\n\n[network]\nname = northmere\n")
        (self.root / "home" / "petra").mkdir(parents=True)

    def restart(self) -> None:
        """What lives only inside the set-up environment is lost."""
        run = self.root / "run"
        if run.is_dir():
            for path in sorted(run.rglob("*"), reverse=True):
                if path.is_file():
                    path.unlink()
                else:
                    path.rmdir()


BRINDLE_SETTINGS = """{
    "scratch": {"plates": "full", "keep-days": 30},
    "network": {"share": "//herbarium/plates"}
}
"""
BASE: dict[str, Any] = {
    "name": "standin-1",
    "platform": "tarn",
    "model": "Fallow 340",
    "maker": "Fallow Works",
    "chip": {"version": "1.2", "on": True},
    "processor": "Quern Q3-410",
    "bits": 64,
    "system_bits": 64,
    "language": "en",
    "instructions": ["avx", "avx2", "bmi1", "bmi2", "fma", "movbe", "sse4_2"],
    "memory_mb": 8192,
    "memory_slots_mb": 16384,
    "disk_gb": 238,
    "free_gb": 120,
    "firmware": "uefi",
    "uefi_capable": True,
    "key_saved": True,
    "signed_loading": "on",
    "vulkan": "1.3",
    "account": True,
    "release": "8",
    "edition": "desk",
    "encrypted": False,
    "pending": 0,
    "backup": "2027-01-15",
}


def create(folder: Path, **differences: Any) -> Machine:
    """A new machine: the base truth with differences, and a small system tree with settings of its own."""
    folder.mkdir(parents=True)
    (folder / "machine.json").write_text("{}")
    machine = Machine(folder)
    machine.change(**(BASE | differences))
    machine.build()
    if machine.truth["platform"] == "tarn":
        (machine.root / "home" / "petra" / "seed list.txt").write_text("Cardamine, Silene, Lychnis\n")
    return machine


STATION: dict[str, Any] = {
    "platform": "brindle",
    "model": "Plate Station 2",
    "maker": "Caddis",
    "edition": "studio",
    "release": "6",
    "disk_gb": 119,
    "memory_mb": 16384,
}
"""How an imaging station differs from the base truth."""
