"""Reads a Linux machine through its public files, without root where it can be."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

Probe = Callable[[Path], object]
_ARCHES = {"x86_64": "x86-64", "i686": "x86-32", "i586": "x86-32", "i386": "x86-32", "aarch64": "arm64"}


_PLACEHOLDERS = {"to be filled by o.e.m.", "default string", "not specified", "none", "system product name"}


class UnreadError(Exception):
    """A fact that cannot be read; the message says why."""


def _text(path: Path) -> str:
    return path.read_text("utf-8", errors="replace").strip("\x00 \n\t")


def _firmware_text(path: Path) -> str:
    """A line that firmware has filled in; makers leave placeholders."""
    text = _text(path)
    if not text or text.lower() in _PLACEHOLDERS:
        raise UnreadError(f"{path} holds nothing")
    return text


# ----------------------------------------------------------------- processor


def _cpu(root: Path) -> dict[str, str]:
    """The first processor of /proc/cpuinfo."""
    pairs = {}
    for line in _text(root / "proc/cpuinfo").split("\n\n")[0].splitlines():
        name, _, value = line.partition(":")
        pairs[name.strip()] = value.strip()
    return pairs


def _cpu_field(root: Path, *names: str) -> str:
    found = _cpu(root)
    for name in names:
        if found.get(name):
            return found[name]
    raise UnreadError(f"/proc/cpuinfo has no {names[0]!r}")


def cpu_arch(root: Path) -> object:
    found = _cpu(root)
    if "flags" in found:
        return "x86-64" if "lm" in found["flags"].split() else "x86-32"
    if found.get("CPU architecture") == "8":
        return "arm64"
    raise UnreadError("/proc/cpuinfo does not tell the architecture")


def cpu_cores(root: Path) -> object:
    cores = set()
    blocks = [block for block in _text(root / "proc/cpuinfo").split("\n\n") if block.strip()]
    for at, block in enumerate(blocks):
        pairs = dict(re.findall(r"^([^:\n]+?)\s*:\s*(.*)$", block, re.MULTILINE))
        cores.add((pairs.get("physical id", "0"), pairs.get("core id", str(at))))
    return len(cores)


def cpu_clock(root: Path) -> object:
    try:
        return f"{_text(root / 'sys/devices/system/cpu/cpu0/cpufreq/cpuinfo_max_freq')} kHz"
    except OSError:
        return f"{_cpu_field(root, 'cpu MHz')} MHz"


def cpu_features(root: Path) -> object:
    return _cpu_field(root, "flags", "Features").split()


def memory(root: Path) -> object:
    """What is fitted, from the memory blocks that are online; else what the kernel has left for itself."""
    blocks = root / "sys/devices/system/memory"
    try:
        size = int(_text(blocks / "block_size_bytes"), 16)
        online = sum(_text(block / "online") == "1" for block in blocks.glob("memory[0-9]*"))
        if online:
            return f"{size * online} B"
    except (OSError, ValueError):
        pass
    found = re.search(r"^MemTotal:\s*(\d+) kB", _text(root / "proc/meminfo"), re.MULTILINE)
    if not found:
        raise UnreadError("/proc/meminfo has no MemTotal")
    return f"{found[1]} KiB"


# ---------------------------------------------------------------------- disk


def _root_numbers(root: Path) -> tuple[str, str]:
    """Major:minor of what is mounted at /, and the name of its source."""
    for line in _text(root / "proc/self/mountinfo").splitlines():
        fields = line.split()
        if len(fields) > 9 and fields[4] == "/":
            return fields[2], fields[fields.index("-") + 2]
    raise UnreadError("/proc/self/mountinfo has no root")


def _chain(root: Path) -> Iterator[Path]:
    """The block devices under the root file system, from the file system down to the disk, as folders of /sys/block."""
    numbers, source = _root_numbers(root)
    blocks = root / "sys/block"
    waiting = [_by_number(blocks, numbers) or _by_name(blocks, Path(source).name)]
    while waiting:
        block = waiting.pop()
        if block is None:
            raise UnreadError(f"{source} is no disk of /sys/block")
        if block.parent != blocks:
            block = block.parent
        yield block
        slaves = block / "slaves"
        if slaves.is_dir():
            waiting += [_by_name(blocks, slave.name) for slave in sorted(slaves.iterdir())]


def _by_number(blocks: Path, numbers: str) -> Path | None:
    for pattern in ("*/dev", "*/*/dev"):
        for path in sorted(blocks.glob(pattern)):
            if _text(path) == numbers:
                return path.parent
    return None


def _by_name(blocks: Path, name: str) -> Path | None:
    if (blocks / name).is_dir():
        return blocks / name
    return next(iter(sorted(blocks.glob(f"*/{name}"))), None)


def _disk(root: Path) -> Path:
    return list(_chain(root))[-1]


def disk_size(root: Path) -> object:
    return f"{int(_text(_disk(root) / 'size')) * 512} B"


def disk_free(root: Path) -> object:
    if root != Path("/"):
        raise UnreadError("A recording of files does not hold free space")
    held = os.statvfs("/")
    return f"{held.f_bavail * held.f_frsize} B"


def disk_table(root: Path) -> object:
    numbers = _text(_disk(root) / "dev")
    found = re.search(r"^E:ID_PART_TABLE_TYPE=(\w+)$", _text(root / f"run/udev/data/b{numbers}"), re.MULTILINE)
    if not found:
        raise UnreadError("udev does not tell the partition table of the system disk")
    return "mbr" if found[1] == "dos" else found[1]


def disk_encrypted(root: Path) -> object:
    return any(_is_crypt(block) for block in _chain(root))


def _is_crypt(block: Path) -> bool:
    try:
        return _text(block / "dm/uuid").startswith("CRYPT-")
    except FileNotFoundError:
        return False


# ------------------------------------------------------------------ firmware


def firmware_mode(root: Path) -> object:
    if not (root / "sys/firmware").is_dir():
        raise UnreadError("There is no /sys/firmware to tell")
    return "uefi" if (root / "sys/firmware/efi").is_dir() else "legacy"


def uefi_capable(root: Path) -> object:
    if firmware_mode(root) == "uefi":
        return True
    raise UnreadError("A system that was started in legacy mode cannot tell")


def secure_boot(root: Path) -> object:
    if firmware_mode(root) == "legacy":
        return "absent"
    variables = sorted((root / "sys/firmware/efi/efivars").glob("SecureBoot-*"))
    if not variables:
        return "absent"
    data = variables[0].read_bytes()
    if len(data) < 5:
        raise UnreadError(f"{variables[0]} is cut off")
    return "on" if data[4] == 1 else "off"


def _tpm(root: Path) -> Path:
    chips = sorted((root / "sys/class/tpm").glob("tpm[0-9]*"))
    if not chips:
        raise UnreadError("The system sees no chip: it is absent, or switched off in firmware")
    return chips[0]


def tpm_version(root: Path) -> object:
    chip = _tpm(root)
    try:
        return {"1": "1.2", "2": "2.0"}[_text(chip / "tpm_version_major")]
    except KeyError as error:
        raise UnreadError(f"{chip} is of an unknown version") from error


def tpm_state(root: Path) -> object:
    return "on" if _tpm(root) else "absent"


# -------------------------------------------------------------------- system


def _os_release(root: Path, name: str) -> object:
    try:
        text = _text(root / "etc/os-release")
    except FileNotFoundError:
        text = _text(root / "usr/lib/os-release")
    found = re.search(rf"^{name}=[\"']?([^\"'\n]+)", text, re.MULTILINE)
    if not found:
        raise UnreadError(f"/etc/os-release has no {name}")
    return found[1]


def os_arch(root: Path) -> object:
    machine = os.uname().machine if root == Path("/") else _text(root / "proc/sys/kernel/arch")
    return _ARCHES.get(machine, machine)


def base_language(root: Path) -> object:
    for name in ("etc/locale.conf", "etc/default/locale"):
        if (root / name).is_file():
            found = re.search(r"^LANG=[\"']?([A-Za-z]{2,3})(?:_([A-Z]{2}))?", _text(root / name), re.MULTILINE)
            if found:
                return f"{found[1]}-{found[2]}" if found[2] else found[1]
    raise UnreadError("Neither /etc/locale.conf nor /etc/default/locale names a language")


def display_language(root: Path) -> object:
    if root != Path("/"):
        raise UnreadError("A recording of files does not hold the session's language")
    found = re.match(r"([A-Za-z]{2,3})(?:_([A-Z]{2}))?", os.environ.get("LC_ALL") or os.environ.get("LANG") or "")
    if not found:
        raise UnreadError("The session names no language")
    return f"{found[1]}-{found[2]}" if found[2] else found[1]


def _display(root: Path, at: int) -> object:
    for connector in sorted((root / "sys/class/drm").glob("card*-*")):
        if (connector / "status").is_file() and _text(connector / "status") == "connected":
            modes = _text(connector / "modes").splitlines()
            if modes:
                return modes[0].split("x")[at]
    raise UnreadError("No screen is connected")


PROBES: Mapping[str, Probe] = {
    "machine.maker": lambda root: _firmware_text(root / "sys/class/dmi/id/sys_vendor"),
    "machine.model": lambda root: _firmware_text(root / "sys/class/dmi/id/product_name"),
    "machine.serial": lambda root: _firmware_text(root / "sys/class/dmi/id/product_serial"),
    "cpu.model": lambda root: _cpu_field(root, "model name", "Model"),
    "cpu.arch": cpu_arch,
    "cpu.cores": cpu_cores,
    "cpu.clock_mhz": cpu_clock,
    "cpu.features": cpu_features,
    "memory.mib": memory,
    "disk.system_gib": disk_size,
    "disk.free_gib": disk_free,
    "disk.table": disk_table,
    "disk.encrypted": disk_encrypted,
    "firmware.mode": firmware_mode,
    "firmware.uefi_capable": uefi_capable,
    "firmware.secure_boot": secure_boot,
    "tpm.version": tpm_version,
    "tpm.state": tpm_state,
    "display.width": lambda root: _display(root, 0),
    "display.height": lambda root: _display(root, 1),
    "os.platform": lambda root: _os_release(root, "ID"),
    "os.release": lambda root: _os_release(root, "VERSION_ID"),
    "os.edition": lambda root: _os_release(root, "VARIANT_ID"),
    "os.arch": os_arch,
    "os.base_language": base_language,
    "os.display_language": display_language,
}
"""Fact -> what reads it. The year of make, graphics, updates and care are told by no file that can be trusted."""
