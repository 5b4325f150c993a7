"""The collector: a reading of the machine it runs on, and for every fact it cannot read, why."""

from __future__ import annotations

import platform
import re
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct

from doorstone.collect import generic, linux
from doorstone.core.facts import BUILT_IN, FactError, dump


class Collected(Struct, frozen=True):
    """Fact -> value as JSON holds it, and fact -> why it could not be read."""

    facts: Mapping[str, Any]
    unread: Mapping[str, str]

    def reading(self, device: str, source: str, taken_at: datetime) -> dict[str, Any]:
        """A reading that imports as it is."""
        head = {"device": device, "source": source, "taken_at": taken_at.isoformat(timespec="seconds")}
        return {**head, "facts": dict(self.facts), "unread": dict(self.unread)}


def collect(root: Path = Path("/")) -> Collected:
    """Read the machine whose files are under `root`; any other root than `/` is a recording of a Linux machine."""
    probes = linux.PROBES if root != Path("/") or platform.system() == "Linux" else generic.PROBES
    facts: dict[str, Any] = {}
    unread: dict[str, str] = {}
    for name, spec in BUILT_IN.items():
        if name.startswith("media."):
            continue
        probe = probes.get(name)
        if probe is None:
            unread[name] = "No public file of the system tells it"
            continue
        try:
            facts[name] = dump(spec.parse(probe(root)))
        except PermissionError as error:
            unread[name] = f"{_place(root, error)} is for root only"
        except (OSError, linux.UnreadError, ValueError, IndexError) as error:
            unread[name] = _why(root, error)
    return Collected(facts, unread)


def _why(root: Path, error: Exception) -> str:
    if isinstance(error, FileNotFoundError):
        return f"There is no {_place(root, error)}"
    if isinstance(error, OSError):
        return f"{error.strerror}: {_place(root, error)}"
    known = isinstance(error, FactError | linux.UnreadError)
    return str(error) if known else f"The system's files hold what was not expected: {error}"


def _place(root: Path, error: OSError) -> str:
    """The file as it is on the machine, wherever its recording lies."""
    path = Path(str(error.filename))
    return f"/{path.relative_to(root)}" if path.is_relative_to(root) else str(path)


def device_name(root: Path = Path("/")) -> str:
    """The machine's own name, made fit for a device id."""
    try:
        name = (root / "etc/hostname").read_text("utf-8").strip() if root != Path("/") else platform.node()
    except OSError:
        name = ""
    fit = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-._")[:64]
    return fit or "this-device"
