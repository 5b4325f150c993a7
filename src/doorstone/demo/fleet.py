"""The Northmere fleet: about 180 devices from a fixed seed, as readings of several sources in NDJSON."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct

TODAY = date(2027, 1, 18)
SITES = {"Glasshouse": 44, "Herbarium": 40, "Seed Vault": 28, "Visitor Gate": 38, "Orrin Field Station": 30}
ROLES = {
    "Glasshouse": ["climate control", "bench", "office"],
    "Herbarium": ["imaging", "cataloguing", "office"],
    "Seed Vault": ["vault log", "laboratory", "office"],
    "Visitor Gate": ["ticket desk", "hall display", "office"],
    "Orrin Field Station": ["field notebook", "weather", "office"],
}
LEVEL_3 = ["avx", "avx2", "bmi1", "bmi2", "fma", "movbe", "sse4_2"]
LEVEL_2 = ["sse4_2", "popcnt", "ssse3"]


class Model(Struct, frozen=True):
    """A made-up machine model: what all of that model share."""

    name: str
    maker: str
    year: int
    cpu: str
    features: list[str]
    memory: list[int]
    most_memory: int
    disk: list[int]
    chip: str  # TPM version, empty for none
    vulkan: str
    uefi: bool = True
    share: int = 1


# fmt: off
MODELS = [
    Model("Fallow 520", "Fallow Works", 2024, "Quern Q5-820", LEVEL_3, [16384], 32768, [476], "2.0", "1.3", share=24),
    Model("Fallow 430", "Fallow Works", 2021, "Quern Q5-740", LEVEL_3, [8192, 16384], 32768, [238], "2.0", "1.3", share=20),
    Model("Fallow 340", "Fallow Works", 2018, "Quern Q3-410", LEVEL_3, [8192], 16384, [238], "2.0", "1.2", share=16),
    Model("Fallow 310", "Fallow Works", 2016, "Quern Q3-330", LEVEL_3, [4096, 8192], 16384, [119], "1.2", "1.2", share=12),
    Model("Tern Slate 2", "Tern Devices", 2019, "Marl M2 110", LEVEL_3, [4096], 4096, [58, 119], "2.0", "1.1", share=10),
    Model("Tern Slate 3", "Tern Devices", 2023, "Marl M4 310", LEVEL_3, [8192], 8192, [119], "2.0", "1.3", share=10),
    Model("Orrin Box", "Caddis", 2017, "Marl M3 120", LEVEL_3, [2048, 4096], 8192, [29, 58], "", "1.1", share=6),
    Model("Herb Tower", "Caddis", 2015, "Quern Q7-480", LEVEL_3, [16384], 32768, [931], "1.2", "1.3", uefi=False, share=6),
    Model("Gate Mini", "Caddis", 2012, "Quern Q2-210", LEVEL_2, [4096], 8192, [119], "", "1.0", uefi=False, share=7),
    Model("Fallow 90", "Fallow Works", 2009, "Quern Q1-110", [], [2048], 4096, [74], "", "0", uefi=False, share=2),
]
# fmt: on


class Built(Struct):
    """One device of the fleet: what it is, and the facts that a good reading finds."""

    id: str
    name: str
    site: str
    role: str
    critical: bool
    facts: dict[str, Any]


def build_fleet(seed: int = 20270118) -> list[Built]:
    """The whole fleet; the same seed gives the same fleet."""
    rng = random.Random(seed)
    models = [model for model in MODELS for _ in range(model.share)]
    fleet = []
    number = 0
    for site, count in SITES.items():
        for _ in range(count):
            number += 1
            fleet.append(_device(number, site, rng.choice(models), rng))
    _place_situations(fleet)
    for device in fleet:
        device.facts["exposure.network"] = _NETWORK.get(device.role, "internal")
        device.facts["exposure.data"] = _DATA.get(device.role, "none")
    return fleet


_NETWORK = {"ticket desk": "public", "hall display": "public", "vault log": "isolated", "weather": "isolated"}
_DATA = {"ticket desk": "personal", "office": "personal", "cataloguing": "internal", "laboratory": "internal"}
"""How far devices are exposed, by what they are there for."""


_LANGUAGES = {13: "nl", 47: "nl", 52: "nl", 56: "nl", 66: "nl", 88: "cy", 114: "de", 139: "cy"}
"""Devices whose base language is another than English; they display English all the same."""


def _device(number: int, site: str, model: Model, rng: random.Random) -> Built:
    role = rng.choice(ROLES[site])
    modern = model.uefi
    facts: dict[str, Any] = {
        "machine.maker": model.maker,
        "machine.model": model.name,
        "machine.serial": f"{model.name[:2].upper()}{rng.randrange(10**6):06d}",
        "machine.year": model.year,
        "cpu.model": model.cpu,
        "cpu.arch": "x86-64",
        "cpu.features": model.features,
        "memory.mib": rng.choice(model.memory) - rng.choice([0, 64, 128]),
        "memory.max_mib": model.most_memory,
        "disk.system_gib": rng.choice(model.disk),
        "disk.free_gib": 0,
        "disk.table": "gpt" if modern else "mbr",
        "disk.encrypted": modern and rng.random() < 0.5,
        "firmware.mode": "uefi" if modern else "legacy",
        "firmware.uefi_capable": modern or model.name == "Herb Tower",
        "firmware.secure_boot": ("on" if rng.random() < 0.9 else "off") if modern else "absent",
        "tpm.state": ("on" if rng.random() < 0.85 else "off") if model.chip else "absent",
        "tpm.version": model.chip or "0",
        "graphics.vulkan": model.vulkan,
        "account.online": rng.random() < 0.7,
        "os.platform": "tarn",
        "os.release": rng.choices(["8", "9.0", "9.1"], [70, 12, 18])[0] if _runs_nine(model) else "8",
        "os.edition": "estate" if rng.random() < 0.15 else "desk",
        "os.arch": "x86-64",
        "os.base_language": _LANGUAGES.get(number, "en"),
        "os.display_language": "en",
        "os.pending_updates": rng.choice([0, 0, 0, 2]),
        "os.restart_pending": number % 17 == 0,
        "os.old_drivers": 3 if number % 23 == 0 else 0,
        "care.last_backup": (TODAY - timedelta(days=rng.choice([1, 2, 3, 5, 9, 40]))).isoformat(),
        "care.recovery_key_saved": rng.random() < 0.9,
        **({"cpu.arch": "x86-32", "os.arch": "x86-32"} if model.name == "Fallow 90" else {}),
    }
    facts["disk.free_gib"] = int(facts["disk.system_gib"] * rng.choice([0.15, 0.4, 0.6]))
    short = "".join(word[0] for word in site.split()).lower()
    return Built(
        f"nbt-{number:03d}", f"{short}-{role.replace(' ', '-')}-{number}", site, role, role in _CRITICAL, facts
    )


_CRITICAL = {"vault log", "climate control"}


def _runs_nine(model: Model) -> bool:
    return model.cpu in {"Quern Q5-820", "Quern Q5-740", "Marl M4 310"} and bool(model.chip)


def _place_situations(fleet: list[Built]) -> None:
    """Devices whose story the documentation tells, always at the same place."""
    by_id = {device.id: device for device in fleet}

    def be(device: str, model: str, **facts: Any) -> None:
        wanted = next(m for m in MODELS if m.name == model)
        base = _device(int(device[4:]), by_id[device].site, wanted, random.Random(device))
        named = {name.replace("__", "."): value for name, value in facts.items()}
        ready = {
            "tpm.state": "on" if wanted.chip else "absent",
            "firmware.secure_boot": "on" if wanted.uefi else "absent",
            "account.online": True,
            "os.release": "8",
            "os.edition": "desk",
            "os.pending_updates": 0,
            "os.restart_pending": False,
            "os.old_drivers": 0,
            "care.last_backup": "2027-01-15",
            "care.recovery_key_saved": True,
            "disk.free_gib": 50,
        }
        by_id[device].facts = base.facts | ready | named
        by_id[device].name, by_id[device].role = base.name, base.role
        by_id[device].critical = base.role in _CRITICAL

    be("nbt-007", "Fallow 430", tpm__state="off")  # switched off in firmware: a fix
    be("nbt-012", "Fallow 310", memory__mib=8128)  # chip 1.2, unlisted: the upgrade by exception
    be("nbt-019", "Fallow 310", memory__mib=4032)  # the same, and memory to buy
    be("nbt-021", "Fallow 340")  # processor not listed, instructions there
    be("nbt-030", "Gate Mini")  # instruction level missing: a floor
    be("nbt-042", "Fallow 340", os__edition="estate")
    be("nbt-050", "Herb Tower", memory__mib=16256)
    be(
        "nbt-058", "Tern Slate 2", memory__mib=4032, disk__system_gib=58
    )  # memory that cannot grow, graphics ends at 9.3
    be("nbt-064", "Fallow 520")
    be("nbt-071", "Fallow 430", os__release="9.1")
    be("nbt-080", "Fallow 430")  # two tools disagree
    be("nbt-088", "Fallow 430")  # the assessor says no, the facts say yes
    be(
        "nbt-101", "Fallow 310", memory__mib=8128, os__release="9.1", disk__encrypted=True
    )  # runs 9.1 by exception already
    named = ["Sheet Catalogue 4", "Étiquettes Köln"]  # what the cataloguers live on, looked at after each upgrade
    be("nbt-102", "Fallow 310", memory__mib=8128, os__release="9.1", disk__encrypted=True, care__applications=named)
    be("nbt-103", "Fallow 310", memory__mib=8128)
    be("nbt-120", "Orrin Box", memory__mib=1984)  # a floor that a part removes
    be("nbt-133", "Fallow 340")
    be("nbt-046", "Fallow 520", account__online=False)  # set-up would stop at the account page
    be("nbt-055", "Fallow 430", memory__mib=8128)  # had half of that until the part was bought
    be("nbt-090", "Fallow 430")  # two tools disagreed; settled
    be("nbt-110", "Fallow 310", memory__mib=8128)  # the assessor says fine since the settings, the update page no
    be("nbt-140", "Fallow 430", cpu__features=LEVEL_2)  # on the vendor's list, instructions missing: a floor
    be("nbt-145", "Fallow 520", os__arch="x86-32")  # a 32-bit system on a 64-bit processor: no path in place
    be("nbt-150", "Fallow 90", cpu__arch="x86-32", os__arch="x86-32")  # no 64-bit processor
    be("nbt-160", "Fallow 430")  # nobody has read its chip


def readings(fleet: list[Built]) -> Iterator[dict[str, Any]]:
    """The readings of the fleet: most by the assessor, many by the collector too, some that differ."""
    taken = datetime(2027, 1, 11, 7, 30)
    for at, device in enumerate(fleet):
        about = {"name": device.name, "site": device.site, "role": device.role, "critical": device.critical}
        facts = dict(device.facts)
        if device.id == "nbt-160":
            facts.pop("tpm.state")
            facts.pop("tpm.version")
        time = taken + timedelta(minutes=at)
        assessor = {"device": device.id, **about, "source": "assessor", "taken_at": time.isoformat(), "facts": facts}
        if device.id == "nbt-088":
            assessor["verdicts"] = {"processor-listed": "fail"}
        if device.id in _TOLD:
            assessor["texts"] = _TOLD[device.id]
        yield assessor
        if device.id == "nbt-110":
            yield from _after_the_settings(device.id)
        if at % 3 == 0 or device.id in ("nbt-080", "nbt-090"):
            seen = {
                name: value for name, value in facts.items() if name.startswith(("cpu.", "memory.m", "tpm.", "os."))
            }
            if device.id in ("nbt-080", "nbt-090"):
                seen["tpm.state"] = "off"
            later = (time + timedelta(days=2)).isoformat()
            yield {"device": device.id, "source": "collector", "taken_at": later, "facts": seen}


_TOLD = {
    "nbt-103": ["No TPM 2.0 was found."],
    "nbt-012": ["This processor is of an older generation"],
    "nbt-019": ["This processor is of an older generation"],
    "nbt-058": ["The camera module is not ready for release 9"],
    "nbt-064": ["The camera module is not ready for release 9"],
}


def _after_the_settings(device: str) -> Iterator[dict[str, Any]]:
    """The assessor reports fine once the settings are in, while the update page still says no."""
    checks = ("security-chip", "processor-listed")
    for source, taken_at, word in (
        ("assessor", "2027-01-13T09:10:00", "pass"),
        ("file", "2027-01-14T16:40:00", "fail"),
    ):
        yield {"device": device, "source": source, "taken_at": taken_at, "verdicts": dict.fromkeys(checks, word)}


STATIONS = [
    ("Plate Station 1", 3, 120),
    ("Plate Station 2", 3, 120),
    ("Plate Station 3", 3, 476),
    ("Plate Station 4", 3, 476),
]


def stations() -> list[dict[str, Any]]:
    """The imaging stations of the Herbarium: readings of a dozen devices on the second platform."""
    found = []
    number = 180
    for model, count, disk in STATIONS:
        for at in range(count):
            number += 1
            facts = {
                "machine.maker": "Caddis",
                "machine.model": model,
                "cpu.arch": "x86-64",
                "os.arch": "x86-64",
                "memory.mib": 16256,
                "disk.system_gib": disk if at else disk - 8,
                "disk.free_gib": 60,
                "os.platform": "brindle",
                "os.release": "5" if model in ("Plate Station 1", "Plate Station 2") else "6",
                "os.edition": "studio",
                "os.base_language": "en",
                "os.pending_updates": 0,
                "care.last_backup": "2027-01-14",
            }
            found.append(
                {
                    "device": f"nbt-{number:03d}",
                    "name": f"h-plates-{number}",
                    "site": "Herbarium",
                    "role": "imaging",
                    "critical": False,
                    "source": "assessor",
                    "taken_at": f"2027-01-12T10:{at:02d}:00",
                    "facts": facts,
                }
            )
    found[3]["texts"] = ["This station is not eligible for the new Studio"]
    return found


def store_room() -> list[dict[str, Any]]:
    """Four machines of the Visitor Gate's store room: three that are not in service, one that no sheet knows."""
    facts = {
        "machine.maker": "Fallow",
        "machine.model": "Fallow 310",
        "cpu.model": "Quern Q3-330",
        "cpu.arch": "x86-64",
        "os.arch": "x86-64",
        "memory.mib": 4032,
        "disk.system_gib": 119,
        "tpm.version": "1.2",
        "tpm.state": "on",
        "os.platform": "tarn",
        "os.release": "8",
        "os.edition": "desk",
    }
    return [
        {
            "device": f"nbt-{number}",
            "name": f"g-store-{number}",
            "site": "Visitor Gate",
            "role": "hall display" if number != 196 else "ticket desk",
            "source": "collector",
            "taken_at": f"2027-01-14T14:{number - 193:02d}:00",
            "facts": {**facts, **({"os.platform": "fennel", "os.release": "3"} if number == 196 else {})},
        }
        for number in (193, 194, 195, 196)
    ]


def ndjson(fleet: list[Built]) -> str:
    return "".join(json.dumps(reading) + "\n" for reading in readings(fleet))
