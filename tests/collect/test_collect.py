"""The collector on recorded machines, on this one, and where there is no Linux."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

import pytest

from doorstone.collect import collect, device_name, generic
from doorstone.core.facts import BUILT_IN
from doorstone.formats.readings import read_text

BLOCK = "sys/block"
RECORDED: Mapping[str, str] = {
    "etc/hostname": "g bench/4\n",
    "etc/os-release": 'ID=tarn\nVERSION_ID="8"\nVARIANT_ID=desk\n',
    "etc/locale.conf": "LANG=de_CH.UTF-8\n",
    "proc/sys/kernel/arch": "x86_64\n",
    "proc/cpuinfo": (
        "processor\t: 0\nmodel name\t: Quern Q3-330\ncpu MHz\t\t: 2400.000\nphysical id\t: 0\ncore id\t\t: 0\n"
        "flags\t\t: fpu lm avx avx2 bmi1 bmi2 fma movbe\n\n"
        "processor\t: 1\nmodel name\t: Quern Q3-330\nphysical id\t: 0\ncore id\t\t: 1\nflags\t\t: fpu lm\n\n"
        "processor\t: 2\nmodel name\t: Quern Q3-330\nphysical id\t: 0\ncore id\t\t: 1\nflags\t\t: fpu lm\n"
    ),
    "proc/meminfo": "MemTotal:        8044000 kB\nMemFree: 1 kB\n",
    "proc/self/mountinfo": (
        "22 1 253:0 / / rw,relatime shared:1 - ext4 /dev/mapper/root rw\n23 22 8:1 / /boot rw - ext4 /dev/sda1 rw\n"
    ),
    "sys/devices/system/cpu/cpu0/cpufreq/cpuinfo_max_freq": "3600000\n",
    f"{BLOCK}/dm-0/dev": "253:0\n",
    f"{BLOCK}/dm-0/dm/uuid": "CRYPT-LUKS2-0123-root\n",
    f"{BLOCK}/dm-0/slaves/sda2/dev": "8:2\n",
    f"{BLOCK}/sda/dev": "8:0\n",
    f"{BLOCK}/sda/size": "500118192\n",
    f"{BLOCK}/sda/sda1/dev": "8:1\n",
    f"{BLOCK}/sda/sda2/dev": "8:2\n",
    "run/udev/data/b8:0": "S:disk/by-id/x\nE:ID_PART_TABLE_TYPE=gpt\n",
    "sys/firmware/efi/efivars/SecureBoot-8be4df61": "\x06\x00\x00\x00\x01",
    "sys/class/tpm/tpm0/tpm_version_major": "2\n",
    "sys/class/dmi/id/sys_vendor": "Fallow Works\n",
    "sys/class/dmi/id/product_name": "Fallow 310\n",
    "sys/class/drm/card0-eDP-1/status": "connected\n",
    "sys/class/drm/card0-eDP-1/modes": "1920x1080\n1280x800\n",
}


def record(folder: Path, **changes: str | None) -> Path:
    """A recorded file tree; a change replaces a file, None leaves it out. `__` stands for a slash in a name."""
    named = {name.replace("__", "/"): text for name, text in changes.items()}
    for name, text in {**RECORDED, **named}.items():
        if text is not None:
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(text.encode("latin-1"))
    return folder


def test_a_recorded_machine_is_read_fact_by_fact(tmp_path: Path) -> None:
    found = collect(record(tmp_path))
    assert found.facts == {
        "machine.maker": "Fallow Works",
        "machine.model": "Fallow 310",
        "cpu.model": "Quern Q3-330",
        "cpu.arch": "x86-64",
        "cpu.cores": 2,
        "cpu.clock_mhz": 3600,
        "cpu.features": ["avx", "avx2", "bmi1", "bmi2", "fma", "fpu", "lm", "movbe"],
        "memory.mib": 7855,  # 8,044,000 KiB
        "disk.system_gib": 238,  # 500,118,192 sectors of 512 bytes
        "disk.table": "gpt",
        "disk.encrypted": True,
        "firmware.mode": "uefi",
        "firmware.uefi_capable": True,
        "firmware.secure_boot": "on",
        "tpm.version": "2.0",
        "tpm.state": "on",
        "display.width": 1920,
        "display.height": 1080,
        "os.platform": "tarn",
        "os.release": "8",
        "os.edition": "desk",
        "os.arch": "x86-64",
        "os.base_language": "de-CH",
    }
    assert found.unread["machine.serial"] == "There is no /sys/class/dmi/id/product_serial"
    assert found.unread["disk.free_gib"] == "A recording of files does not hold free space"
    assert set(found.facts) | set(found.unread) == {n for n in BUILT_IN if not n.startswith("media.")}


@pytest.mark.parametrize(
    ("changes", "fact", "value"),
    [
        ({"sys__firmware__efi__efivars__SecureBoot-8be4df61": "\x06\0\0\0\0"}, "firmware.secure_boot", "off"),
        ({f"{BLOCK}/dm-0/dm/uuid": "LVM-0123"}, "disk.encrypted", False),
        ({"run/udev/data/b8:0": "E:ID_PART_TABLE_TYPE=dos\n"}, "disk.table", "mbr"),
        ({"sys/class/tpm/tpm0/tpm_version_major": "1\n"}, "tpm.version", "1.2"),
        ({"proc/cpuinfo": "model name: Q\nflags: fpu avx\n"}, "cpu.arch", "x86-32"),
        ({"etc/locale.conf": None, "etc/default/locale": 'LANG="en"\n'}, "os.base_language", "en"),
        (
            {
                "sys/devices/system/memory/block_size_bytes": "8000000\n",
                "sys/devices/system/memory/memory0/online": "1\n",
                "sys/devices/system/memory/memory1/online": "1\n",
                "sys/devices/system/memory/memory2/online": "0\n",
            },
            "memory.mib",
            256,  # two blocks of 0x8000000 bytes
        ),
    ],
)
def test_other_machines(tmp_path: Path, changes: dict[str, str | None], fact: str, value: object) -> None:
    assert collect(record(tmp_path, **changes)).facts[fact] == value


def test_a_machine_started_in_legacy_mode(tmp_path: Path) -> None:
    folder = record(tmp_path, **{"sys/firmware/efi/efivars/SecureBoot-8be4df61": None, "sys/firmware/acpi": ""})
    found = collect(folder)
    assert (found.facts["firmware.mode"], found.facts["firmware.secure_boot"]) == ("legacy", "absent")
    assert found.unread["firmware.uefi_capable"] == "A system that was started in legacy mode cannot tell"


@pytest.mark.parametrize(
    ("gone", "fact", "why"),
    [
        ("sys/class/tpm/tpm0/tpm_version_major", "tpm.state", "it is absent, or switched off in firmware"),
        ("run/udev/data/b8:0", "disk.table", "There is no /run/udev/data/b8:0"),
        ("proc/cpuinfo", "cpu.model", "There is no /proc/cpuinfo"),
        ("proc/self/mountinfo", "disk.system_gib", "There is no /proc/self/mountinfo"),
        ("etc/locale.conf", "os.base_language", "names a language"),
    ],
)
def test_what_is_not_there_is_said_with_why(tmp_path: Path, gone: str, fact: str, why: str) -> None:
    found = collect(record(tmp_path, **{gone: None}))
    assert fact not in found.facts
    assert why in found.unread[fact]


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("proc/cpuinfo", "\x00\xff\xfe" * 50),
        ("proc/self/mountinfo", "garbage\n"),
        (f"{BLOCK}/sda/size", "many"),
        ("sys/firmware/efi/efivars/SecureBoot-8be4df61", "\x06"),
        ("sys/class/dmi/id/product_name", "To be filled by O.E.M.\n"),
        ("etc/os-release", "VERSION_ID=\n"),
    ],
)
def test_garbage_is_unread_and_never_a_crash(tmp_path: Path, name: str, text: str) -> None:
    found = collect(record(tmp_path, **{name: text}))
    assert set(found.facts) | set(found.unread) == {n for n in BUILT_IN if not n.startswith("media.")}
    assert len(found.unread) > len(collect(record(tmp_path / "whole")).unread)


def test_the_reading_imports_as_it_is(tmp_path: Path) -> None:
    root = record(tmp_path)
    reading = collect(root).reading(device_name(root), "collector", datetime(2027, 1, 18, 8))
    assert reading["device"] == "g-bench-4"
    parsed = read_text(json.dumps(reading), "ndjson", BUILT_IN)
    assert parsed.problems == ()
    assert parsed.records[0].content.unread["disk.free_gib"] == "A recording of files does not hold free space"
    assert len(parsed.records[0].reading.facts) == 23


def test_this_machine_is_read_for_real() -> None:
    found = collect()
    held = int(next(line for line in Path("/proc/meminfo").read_text().splitlines() if "MemTotal" in line).split()[1])
    assert found.facts["memory.mib"] >= held // 1024 * 0.99
    assert found.facts["cpu.cores"] >= 1
    assert found.facts["disk.free_gib"] <= found.facts["disk.system_gib"]
    assert set(found.facts) | set(found.unread) == {n for n in BUILT_IN if not n.startswith("media.")}


def test_elsewhere_python_tells_what_it_can_and_the_rest_is_unread(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("platform.system", lambda: "Wherever")
    found = collect()
    assert found.facts["os.platform"] == "wherever"
    assert {"cpu.arch", "cpu.cores", "memory.mib", "disk.system_gib"} <= set(found.facts) <= set(generic.PROBES)
    assert found.unread["tpm.state"] == "No public file of the system tells it"
