"""Records to measure on: a fleet brought in through the use cases, with exceptions on one device in twenty."""

from __future__ import annotations

import gc
import time
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from benchmarks import fleet as made_up
from benchmarks.fleet import DAY, PLATFORM, TARGET, Fleet
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.exceptions.requests import NewException, NewTerms
from doorstone.store import people as people_store
from doorstone.store.database import Database
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.people import people
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.standings import find_devices

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

    def context(self) -> Context:
        return Context(Database(self.folder / "doorstone.db"), FixedClock(DAY))


def open_records(folder: Path) -> Context:
    """A context with the sheet and three people, and nothing else."""
    context = Context(Database(folder / "doorstone.db"), FixedClock(DAY))
    text, lists = made_up.sheet()
    revisions.load_sheet(context, WILHELMINA, text, lists, "moor.toml")
    with context.database.write() as db:
        for actor in (PETRA, ANSELM, WILHELMINA):
            people_store.add(db, actor.name, actor.name.title(), actor.role, "", context.now())
    return context


def write_readings(lines: Iterable[str], path: Path) -> None:
    with path.open("w", encoding="utf-8") as file:
        file.writelines(lines)


def bring_in(context: Context, path: Path) -> float:
    """Import a file of readings; seconds taken. Raises if anything of it was refused."""
    gc.collect()
    began = time.perf_counter()
    found = import_job.begin(context, PETRA, ImportOptions("ndjson", path.name))
    with path.open("rb") as stream:
        import_job.receive(context, PETRA, found.id, stream)
    ended = import_job.run(context, found.id)
    taken = time.perf_counter() - began
    if ended.row.state != "done" or ended.row.rejected:
        raise RuntimeError(f"the import is {ended.row.state}: {ended.row.why}")
    return taken


def build(folder: Path, devices: int) -> Records:
    """Records of a fleet of so many devices."""
    fleet = made_up.build(devices)
    context = open_records(folder)
    path = folder / "readings.ndjson"
    write_readings(fleet.lines(), path)
    seconds = bring_in(context, path)
    path.unlink()
    _except(context, devices // 20)
    people.add_person(context, WILHELMINA, "bench", "Bench", "technician", PASSWORD)
    token = people.issue_token(context, WILHELMINA, "bench", "administrator", 30).secret
    context.database.close()
    return Records(folder, fleet, token or "", seconds)


def _except(context: Context, wanted: int) -> None:
    """Exceptions in force on so many devices: those that need one, together where the same checks fail."""
    for checks, devices in _needing(context, wanted).items():
        for at in range(0, len(devices), 1_000):
            terms = NewTerms(
                "It works and is to be replaced.", (), "petra", date(2027, 1, 18), date(2027, 9, 30), date(2027, 5, 1)
            )
            risk = exceptions.risk(context)
            part = tuple(devices[at : at + 1_000])
            asked = NewException(TARGET, True, checks, part, risk.text, terms, "")
            name = exceptions.request(context, PETRA, asked).id
            decisions.decide(context, ANSELM, name, "approve", "", 1)


def _needing(context: Context, wanted: int) -> dict[tuple[str, ...], list[str]]:
    """So many devices that need exceptions, by the checks that fail."""
    found: dict[tuple[str, ...], list[str]] = defaultdict(list)
    where = DeviceFilter(state="needs-exception")
    for row, stands in find_devices(context, made_up.platform(), TARGET, where, {}, limit=wanted):
        checks = tuple(name for name, mark in stands.marks.items() if mark == "installer-check")
        found[checks].append(row.id)
    return found


__all__ = ["PLATFORM", "TARGET", "Records", "bring_in", "build", "open_records", "write_readings"]
