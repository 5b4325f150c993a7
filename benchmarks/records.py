"""Records to measure on: a fleet brought in through the use cases, with exceptions on one device in twenty."""

from __future__ import annotations

import gc
import time
from collections import defaultdict
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from benchmarks import fleet as made_up
from benchmarks.fleet import DAY, PLATFORM, TARGET, Fleet
from doorstone.store import people as people_store
from doorstone.store.database import Database
from doorstone.store.devices import Filter
from doorstone.work import deciding, exceptions, intake, people, revisions
from doorstone.work.board import find_devices
from doorstone.work.desk import Actor, Desk, FixedClock
from doorstone.work.exceptions import ExceptionAsked, ExceptionTermsGiven
from doorstone.work.intake import ImportGiven

PETRA = Actor("petra", "technician", "console")
ANSELM = Actor("anselm", "approver", "console")
PASSWORD = "heather-and-peat-10"
WILHELMINA = Actor("wilhelmina", "administrator", "console")


@dataclass(frozen=True, slots=True)
class Records:
    """A data folder with its fleet, and a token of an administrator."""

    folder: Path
    fleet: Fleet
    token: str
    import_seconds: float

    def desk(self) -> Desk:
        return Desk(Database(self.folder / "doorstone.db"), FixedClock(DAY))


def open_desk(folder: Path) -> Desk:
    """A desk with the sheet and three people, and nothing else."""
    desk = Desk(Database(folder / "doorstone.db"), FixedClock(DAY))
    text, lists = made_up.sheet()
    revisions.load_sheet(desk, WILHELMINA, text, lists, "moor.toml")
    with desk.database.write() as db:
        for actor in (PETRA, ANSELM, WILHELMINA):
            people_store.add(db, actor.name, actor.name.title(), actor.role, "", desk.now())
    return desk


def write_readings(fleet: Fleet, path: Path) -> None:
    with path.open("w", encoding="utf-8") as file:
        file.writelines(fleet.lines())


def bring_in(desk: Desk, path: Path) -> float:
    """Import a file of readings; seconds taken. Raises if anything of it was refused."""
    gc.collect()
    began = time.perf_counter()
    found = intake.begin(desk, PETRA, ImportGiven("ndjson", path.name))
    with path.open("rb") as stream:
        intake.receive(desk, PETRA, found.id, stream)
    ended = intake.run(desk, found.id)
    taken = time.perf_counter() - began
    if ended.row.state != "done" or ended.row.rejected:
        raise RuntimeError(f"the import is {ended.row.state}: {ended.row.why}")
    return taken


def build(folder: Path, devices: int) -> Records:
    """Records of a fleet of so many devices."""
    fleet = made_up.build(devices)
    desk = open_desk(folder)
    path = folder / "readings.ndjson"
    write_readings(fleet, path)
    seconds = bring_in(desk, path)
    path.unlink()
    _except(desk, devices // 20)
    people.add_person(desk, WILHELMINA, "bench", "Bench", "technician", PASSWORD)
    token = people.issue_token(desk, WILHELMINA, "bench", "administrator", 30).secret
    desk.database.close()
    return Records(folder, fleet, token or "", seconds)


def _except(desk: Desk, wanted: int) -> None:
    """Exceptions in force on so many devices: those that need one, together where the same checks fail."""
    for checks, devices in _needing(desk, wanted).items():
        for at in range(0, len(devices), 1_000):
            terms = ExceptionTermsGiven(
                "It works and is to be replaced.", (), "petra", date(2027, 1, 18), date(2027, 9, 30), date(2027, 5, 1)
            )
            risk = exceptions.risk(desk)
            part = tuple(devices[at : at + 1_000])
            asked = ExceptionAsked(TARGET, True, checks, part, risk.text, terms, "")
            name = exceptions.request(desk, PETRA, asked).id
            deciding.decide(desk, ANSELM, name, "approve", "", 1)


def _needing(desk: Desk, wanted: int) -> dict[tuple[str, ...], list[str]]:
    """So many devices that need exceptions, by the checks that fail."""
    found: dict[tuple[str, ...], list[str]] = defaultdict(list)
    where = Filter(state="needs-exception")
    for row, stands in find_devices(desk, made_up.platform(), TARGET, where, {}, limit=wanted):
        checks = tuple(name for name, mark in stands.marks.items() if mark == "installer-check")
        found[checks].append(row.id)
    return found


__all__ = ["PLATFORM", "TARGET", "Records", "bring_in", "build", "open_desk", "write_readings"]
