"""Reads a machine that is no Linux, through what Python and psutil tell of it."""

from __future__ import annotations

import platform
from collections.abc import Mapping
from pathlib import Path

import psutil

from doorstone.collect.linux import Probe, UnreadError

_ARCHES = {
    "x86_64": "x86-64",
    "amd64": "x86-64",
    "i386": "x86-32",
    "i686": "x86-32",
    "arm64": "arm64",
    "aarch64": "arm64",
}


def _arch(root: Path) -> object:
    return _ARCHES.get(platform.machine().lower(), platform.machine())


def _cores(root: Path) -> object:
    cores = psutil.cpu_count(logical=False) or psutil.cpu_count()
    if not cores:
        raise UnreadError("The system does not tell its cores")
    return cores


def _clock(root: Path) -> object:
    clock = psutil.cpu_freq()
    if clock is None or not (clock.max or clock.current):
        raise UnreadError("The system does not tell the processor's clock")
    return f"{int(clock.max or clock.current)} MHz"


def _named(value: str, what: str) -> str:
    if not value:
        raise UnreadError(f"The system does not tell {what}")
    return value


PROBES: Mapping[str, Probe] = {
    "cpu.model": lambda root: _named(platform.processor(), "its processor"),
    "cpu.arch": _arch,
    "cpu.cores": _cores,
    "cpu.clock_mhz": _clock,
    "memory.mib": lambda root: f"{psutil.virtual_memory().total} B",
    "disk.system_gib": lambda root: f"{psutil.disk_usage(root.anchor or '/').total} B",
    "disk.free_gib": lambda root: f"{psutil.disk_usage(root.anchor or '/').free} B",
    "os.platform": lambda root: _named(platform.system().lower(), "what it is"),
    "os.release": lambda root: _named(platform.release(), "its release"),
    "os.arch": _arch,
}
