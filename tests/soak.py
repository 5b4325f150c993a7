"""Months of daily readings of a fleet in which no two devices say the same: what records, memory and pages make of it.

`python -m tests.soak DAYS DEVICES SEED`; a line every tenth day. Serial numbers, sizes less what firmware keeps, free
space and days of backups differ from device to device and from day to day.
"""

from __future__ import annotations

import json
import random
import resource
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from datetime import time as hour
from pathlib import Path

from doorstone.core.devices.filter import DeviceFilter
from doorstone.demo.seed import sheet_text
from doorstone.store.database import Database
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import Passwords
from doorstone.work.devices.views import list_devices
from doorstone.work.due import due_list as due
from doorstone.work.forecast import forecasts
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.history import DEVICES, thin_history
from doorstone.work.readings.import_job import ImportOptions

START = date(2027, 1, 18)
WHO = Actor("soak", "administrator", "test")


@dataclass(frozen=True, slots=True)
class Day:
    """What one day cost: seconds to import, to list a page and to say what is due; MiB of records and of memory."""

    number: int
    importing: float
    page: float
    due: float
    records: float
    memory: float
    devices: int

    def __str__(self) -> str:
        return (
            f"day {self.number:3}  import {self.importing:6.1f} s  page {self.page * 1000:5.0f} ms  "
            f"due {self.due:5.2f} s  records {self.records:7.1f} MiB  memory {self.memory:6.0f} MiB"
        )


def readings(devices: int, day: date, chance: random.Random) -> Iterator[str]:
    """A day's readings, one JSON object a line."""
    at = datetime.combine(day, hour(7)).isoformat()
    for number in range(devices):
        own = random.Random(number)  # the parts of a machine stay as they are
        old = own.random() < 0.4
        facts = {
            "machine.serial": f"SN-{number:07}",
            "machine.model": f"Fallow {own.choice([310, 340, 430, 520])}",
            "cpu.model": own.choice(["Quern Q3-410", "Quern Q5-740"]),
            "cpu.arch": "x86-64",
            "cpu.features": ["avx", "avx2", "bmi1", "bmi2", "fma", "movbe"],
            "memory.mib": own.choice([4096, 8192, 16384]) - own.randrange(20, 300),
            "memory.max_mib": 16384,
            "disk.system_gib": own.choice([58, 119, 238, 476]) - own.randrange(0, 3),
            "disk.free_gib": chance.randrange(5, 200),
            "firmware.mode": "uefi",
            "firmware.secure_boot": own.choice(["on", "on", "off"]),
            "tpm.version": "1.2" if old else "2.0",
            "tpm.state": own.choice(["on", "on", "on", "off"]),
            "graphics.vulkan": own.choice(["1.1", "1.3"]),
            "account.online": True,
            "os.platform": "tarn",
            "os.release": "8",
            "os.edition": own.choice(["desk", "estate"]),
            "os.arch": "x86-64",
            "os.base_language": "en",
            "os.pending_updates": chance.randrange(0, 4),
            "care.last_backup": (day - timedelta(days=chance.randrange(0, 20))).isoformat(),
        }
        about = {"source": "collector", "taken_at": at, "site": f"site {number % 7}"}
        yield json.dumps({"device": f"m-{number:06}", "facts": facts, **about}) + "\n"


def soak(folder: Path, days: int, devices: int, seed: int, tell: bool = False) -> list[Day]:
    """So many days of so many devices; a `Day` for each."""
    chance, found = random.Random(seed), list[Day]()
    database = Database(folder / "doorstone.db")
    text, lists = sheet_text()
    for number in range(days):
        today = START + timedelta(days=number)
        context = Context(database, FixedClock(datetime.combine(today, hour(9))), passwords=Passwords("tests"))
        if number == 0:
            revisions.load_sheet(context, WHO, text, lists, "tarn.toml")
        began = time.perf_counter()
        import_job.import_readings(context, WHO, "".join(readings(devices, today, chance)), ImportOptions("ndjson"))
        imported = time.perf_counter()
        list_devices(context, "tarn", "9.1", DeviceFilter(), limit=50)
        listed = time.perf_counter()
        due.due_list(context)
        asked = time.perf_counter()
        for _ in range(-(-devices // DEVICES)):  # the scheduler has far more rounds in a day
            thin_history(context)
        counted = forecasts.overview(context, "tarn", "9.1").roll_up.devices
        with database.read() as db:  # the write-ahead log beside them is up to 64 MiB, however many devices there are
            held = (
                db.execute("SELECT page_count * page_size FROM pragma_page_count, pragma_page_size").fetchone()[0]
                / 2**20
            )
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        found.append(Day(number + 1, imported - began, listed - imported, asked - listed, held, memory, counted))
        if tell and number % 10 in (0, 9):
            print(found[-1], flush=True)
    database.close()
    return found


def main(days: int, devices: int, seed: int) -> int:
    with tempfile.TemporaryDirectory() as folder:
        found = soak(Path(folder), days, devices, seed, tell=True)
    first, last = found[0], found[-1]
    growth = last.records / first.records
    print(f"{days} days of {devices:,} devices, seed {seed}: records {growth:.1f} times those of the first day")
    return 0 if all(day.devices == devices for day in found) else 1


if __name__ == "__main__":
    sys.exit(main(*(int(word) for word in sys.argv[1:4])))
