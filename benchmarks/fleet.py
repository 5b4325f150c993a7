"""A made-up fleet of any size, from a seed: a sheet of 12 releases, 14 requirements and 20 overrides, readings as
NDJSON, and exceptions on one device in twenty.

No two readings are equal: each device has a serial number, sizes less what firmware keeps, free space and dates that
differ from day to day, its own order of keys. Three devices in a hundred are known from two sources that disagree.
"""

from __future__ import annotations

import json
import random
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from doorstone.core.platforms.platform import Platform
from doorstone.work.platforms import revisions

DAY = datetime(2027, 1, 18, 9)
PLATFORM, TARGET = "moor", "10"
RELEASES = [str(number) for number in range(1, 13)]
PROCESSORS = [f"Alder {number}" for number in range(100, 140)]
UNSEEN = [f"Birch {number}" for number in range(200)]
"""Processors that a vendor lists and no machine has."""
LISTED = "moor-processors.csv"
SITES = ["glasshouses", "herbarium", "library", "lodge", "mill", "nursery", "orchard", "seed-bank", "shop", "tower"]
LANGUAGES = ["cy", "en", "gd"]
ROLES = ["counter", "desk", "display", "field", "laboratory"]

# Each requirement: its condition as TOML, its sort, and fixes as (when, gives).
REQUIREMENTS: dict[str, tuple[str, str, list[tuple[str, str]]]] = {
    "word-size": ('{ fact = "cpu.arch", is = "x86-64" }', "floor", []),
    "instructions": ('{ fact = "cpu.features", has_all = ["avx2", "fma"] }', "floor", []),
    "processor-listed": (f'{{ fact = "cpu.model", listed_in = "{LISTED}" }}', "installer-check", []),
    "cores": ('{ fact = "cpu.cores", at_least = 2 }', "floor", []),
    "clock": ('{ fact = "cpu.clock_mhz", at_least = 1400, tolerance = "3%" }', "installer-check", []),
    "chip": (
        '{ all = [{ fact = "tpm.version", at_least_version = "2.0" }, { fact = "tpm.state", is = "on" }] }',
        "installer-check",
        [('{ fact = "tpm.state", is = "off" }', '{ "tpm.state" = "on" }')],
    ),
    "secure-boot": (
        '{ fact = "firmware.secure_boot", is = "on" }',
        "installer-check",
        [('{ fact = "firmware.secure_boot", is = "off" }', '{ "firmware.secure_boot" = "on" }')],
    ),
    "uefi": ('{ fact = "firmware.mode", is = "uefi" }', "installer-check", []),
    "partitions": ('{ fact = "disk.table", is = "gpt" }', "installer-check", []),
    "memory": ('{ fact = "memory.mib", at_least = 6144, tolerance = "3%" }', "installer-check", []),
    "memory-start": ('{ fact = "memory.mib", at_least = 2048, tolerance = "3%" }', "floor", []),
    "storage": ('{ fact = "disk.system_gib", at_least = 60, tolerance = "3%" }', "installer-check", []),
    "graphics": ('{ fact = "graphics.vulkan", at_least_version = "1.2" }', "installer-check", []),
    "display": ('{ fact = "display.width", at_least = 1280 }', "installer-check", []),
}
CHECKS = [name for name, (_, sort, _) in REQUIREMENTS.items() if sort == "installer-check"]


def sheet(memory_mib: int = 6144, *, dropped: bool = False) -> tuple[str, dict[str, str]]:
    """The sheet's text and its list. `memory_mib` is what requirement `memory` asks: another number, another sheet.

    With `dropped`, 200 of the 226 names of the list are gone, six of which machines of the fleet have.
    """
    parts = [
        'format = 1\n[platform]\nid = "moor"\nname = "Moor"\nmaker = "Moor Works"\neditions = ["field"]\n'
        '[store]\nkind = "drop-in-ini"\nplaces = { system = "etc/moor/settings.d" }\nset_up = "/media/moor/set-up"\n'
    ]
    for at, release in enumerate(RELEASES):
        start = date(2022, 1, 11) + timedelta(days=183 * at)
        ends = start + timedelta(days=183 * 4)
        earlier = json.dumps(RELEASES[max(0, at - 4) : at])
        more = f"upgrade_from = {earlier}\nrollback_days = 10\n" if at else ""
        parts.append(
            f'[[release]]\nid = "{release}"\npublished = {start}\nservicing_ends = {{ field = {ends} }}\n{more}'
        )
    for name, (condition, sort, fixes) in REQUIREMENTS.items():
        asked = condition.replace("6144", str(memory_mib))
        parts.append(
            f'[[requirement]]\nid = "{name}"\ntitle = "{name}"\nfrom = "2"\ncondition = {asked}\n'
            f'enforced_at = ["set-up"]\nsort = [{{ from = "2", as = "{sort}" }}]\nbecause = "Measured."\n'
        )
        for when, gives in fixes:
            parts.append(
                f'[[requirement.fix]]\ntitle = "Switch {name} on"\nkind = "firmware-setting"\nwhen = {when}\n'
                f"gives = {gives}\nminutes = 10\n"
            )
        if sort == "installer-check":
            parts.append('[[requirement.effect]]\nfrom = "2"\nrelease = "withheld"\ndriver = "unpromised"\n')
    draw = random.Random(20)
    for number in range(20):
        covers = [CHECKS[number]] if number < len(CHECKS) else sorted(draw.sample(CHECKS, 3))
        until = "" if number < 6 else f'until = "{draw.randint(8, 12)}"\n'
        parts.append(
            f'[[override]]\nid = "way-{number:02d}"\ntitle = "Way {number}"\ncovers = {json.dumps(covers)}\n'
            f'routes = ["in-place", "clean"]\nfrom = "2"\n{until}kind = "setting"\n'
            f'origin = "{draw.choice(["vendor", "field"])}"\nweight = {draw.randint(1, 9)}\n'
            f'settings = [{{ path = "set-up", name = "way-{number:02d}", type = "flag", value = true,'
            ' place = "system" }]\n'
        )
    names = PROCESSORS[:20] + UNSEEN[:6] if dropped else PROCESSORS[:26] + UNSEEN
    listed = "model\n" + "".join(f"{name}\n" for name in names)
    return "\n".join(parts), {LISTED: listed}


@dataclass(frozen=True, slots=True)
class Fleet:
    """`kinds` are distinct sets of parts; device n is of kind `shares[n]`, at the site and in the role drawn for it."""

    kinds: list[dict[str, Any]]
    shares: list[int]
    places: list[tuple[str, str]]
    times: list[datetime]

    def __len__(self) -> int:
        return len(self.shares)

    def facts(self, number: int, day: int = 0) -> dict[str, Any]:
        """The facts that a device reports on a day, counted from the first: its parts, and what changes daily."""
        own, passing = random.Random(number), random.Random(f"{number} {day}")
        facts = dict(self.kinds[self.shares[number]])
        facts["machine.serial"] = f"SN-{number:08}"
        facts["memory.mib"] -= own.randrange(0, 40)
        facts["disk.system_gib"] -= own.randrange(0, 2)
        facts["disk.free_gib"] = passing.randrange(50, 300)
        facts["os.pending_updates"] = passing.randrange(0, 4)
        facts["os.base_language"] = own.choice(LANGUAGES)
        today = DAY.date() + timedelta(days=day)
        facts["os.last_update"] = (today - timedelta(days=passing.randrange(0, 40))).isoformat()
        facts["care.last_backup"] = (today - timedelta(days=passing.randrange(0, 20))).isoformat()
        names = list(facts)
        if number % 7 == 0:
            own.shuffle(names)
        return {name: facts[name] for name in names}

    def lines(self, day: int = 0) -> Iterator[str]:
        """A day's readings as NDJSON: one a device, and a second for those of which another source says otherwise."""
        for number, ((site, role), at) in enumerate(zip(self.places, self.times, strict=True)):
            facts, taken_at = self.facts(number, day), (at + timedelta(days=day)).isoformat()
            reading = {
                "device": device(number),
                "source": "collector",
                "taken_at": taken_at,
                "site": site,
                "role": role,
            }
            yield json.dumps({**reading, "facts": facts}) + "\n"
            if disagrees(number):
                other = {"display.width": 2560 if facts["display.width"] >= 1280 else 800}
                yield json.dumps({**reading, "source": "assessor", "facts": other}) + "\n"

    def excepted(self) -> Iterator[int]:
        """One device in twenty."""
        return iter(range(0, len(self), 20))


def disagrees(number: int) -> bool:
    """Whether a second source speaks of a device, and names another display: three in a hundred."""
    return number % 100 in (11, 47, 83)


def spoiled(lines: Iterable[str]) -> Iterator[str]:
    """The same with one line in a hundred that cannot be read."""
    for number, line in enumerate(lines):
        yield line[: len(line) // 2] + "\n" if number % 100 == 50 else line


def device(number: int) -> str:
    return f"mb-{number:07d}"


def build(devices: int, kinds: int = 3_000, seed: int = 7) -> Fleet:
    draw = random.Random(seed)
    distinct: dict[str, dict[str, Any]] = {}
    while len(distinct) < kinds:
        facts = _facts(draw)
        distinct.setdefault(json.dumps(facts), facts)
    weights = [1 / (rank + 30) for rank in range(kinds)]
    shares = [*range(min(kinds, devices)), *draw.choices(range(kinds), weights, k=max(0, devices - kinds))]
    draw.shuffle(shares)
    places = [(draw.choice(SITES), draw.choice(ROLES)) for _ in range(devices)]
    times = [DAY - timedelta(minutes=draw.randrange(12 * 60)) for _ in range(devices)]
    return Fleet(list(distinct.values()), shares, places, times)


def _facts(draw: random.Random) -> dict[str, Any]:
    def mostly(good: Any, *others: Any, share: float = 0.85) -> Any:
        return good if draw.random() < share else draw.choice(others)

    secure = mostly("on", "off", "absent")
    return {
        "os.platform": PLATFORM,
        "os.release": draw.choice(RELEASES[5:9]),
        "os.edition": "field",
        "machine.model": f"Heron {draw.randrange(60)}",
        "cpu.arch": mostly("x86-64", "x86", share=0.97),
        "cpu.features": mostly(["aes", "avx2", "fma", "sse4"], ["aes", "sse4"], share=0.95),
        "cpu.model": draw.choice(PROCESSORS),
        "cpu.cores": mostly(4, 1, 2, 8, share=0.6),
        "cpu.clock_mhz": mostly(2400, 1200, 1380, 3100, share=0.6),
        "tpm.version": mostly("2.0", "1.2"),
        "tpm.state": mostly("on", "off", "absent"),
        "firmware.secure_boot": secure,
        "firmware.mode": "uefi" if secure == "on" else mostly("uefi", "legacy", share=0.5),
        "disk.table": mostly("gpt", "mbr"),
        "memory.mib": mostly(8192, 1024, 4096, 16384, share=0.6),
        "disk.system_gib": mostly(238, 30, 59, 476, share=0.6),
        "graphics.vulkan": mostly("1.3", "1.1", "1.2"),
        "display.width": mostly(1920, 1024, 1366, share=0.9),
    }


def columns(fleet: Fleet) -> Mapping[str, list[Any]]:
    """The facts of every device as columns, sets joined: what a peer is given in memory."""
    held: dict[str, list[Any]] = {name: [] for name in fleet.kinds[0]}
    for number in range(len(fleet)):
        facts = fleet.facts(number)
        for name, column in held.items():
            column.append(";".join(facts[name]) if isinstance(facts[name], list) else facts[name])
    return held


def platform(memory_mib: int = 6144) -> Platform:
    """The platform that the sheet describes."""
    return revisions.parse_sheet(*sheet(memory_mib), "moor.toml")
