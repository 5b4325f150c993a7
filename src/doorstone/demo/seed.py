"""Seeds a data folder with Northmere Botanic Trust, through the use cases, day by day on a demo clock."""

from __future__ import annotations

import shutil
from datetime import date, datetime
from importlib import resources
from pathlib import Path

from doorstone.demo.fleet import build_fleet, ndjson
from doorstone.store.database import Database
from doorstone.work import attempts, exceptions, intake, kits, people, sheets, sorting
from doorstone.work.attempts import AttemptGiven, ObservationGiven
from doorstone.work.desk import RISK_STATEMENT, Actor, Desk, FixedClock
from doorstone.work.exceptions import ExceptionAsked, ExceptionTermsGiven

PASSWORD = "northmere-2027"
PEOPLE = [
    ("petra", "Petra Lindqvist-Oake", "technician"),
    ("anselm", "Anselm Farrow", "approver"),
    ("wilhelmina", "Wilhelmina Stroud", "administrator"),
    ("odile", "Odile Marchbank", "viewer"),
]
PETRA = Actor("petra", "technician", "console")
ANSELM = Actor("anselm", "approver", "console")
WILHELMINA = Actor("wilhelmina", "administrator", "console")


def sheet_text() -> tuple[str, dict[str, str]]:
    """The Tarn sheet and the list beside it."""
    folder = resources.files("doorstone.demo") / "sheets"
    listed = (folder / "tarn-9-processors.csv").read_text("utf-8")
    return (folder / "tarn.toml").read_text("utf-8"), {"tarn-9-processors.csv": listed}


def seed(data: Path) -> None:
    """Fill an empty data folder with the scenario."""
    database = Database(data / "doorstone.db")

    def on(day: str) -> Desk:
        return Desk(database, FixedClock(datetime.fromisoformat(f"{day}T09:00:00")))

    desk = on("2026-06-01")
    for name, display, role in PEOPLE:
        people.add_person(desk, Actor("local", "administrator", "local"), name, display, role, PASSWORD)
    text, lists = sheet_text()
    sheets.load_sheet(desk, WILHELMINA, text, lists, "tarn.toml")
    fleet = build_fleet()
    running = _as_of_autumn(ndjson(fleet))
    intake.import_readings(on("2026-09-01"), PETRA, running, "ndjson")
    _upgrades_of_autumn(on)
    intake.import_readings(on("2027-01-15"), PETRA, ndjson(fleet), "ndjson")
    _winter(on)
    database.close()


def _as_of_autumn(text: str) -> str:
    """The readings of the devices that were upgraded in autumn, as they were before it."""
    lines = [line for line in text.splitlines() if '"nbt-101"' in line or '"nbt-102"' in line]
    older = [line.replace("2027-01-15", "2026-08-30") for line in lines if '"assessor"' in line]
    older = [line.replace("2027-01-1", "2026-08-1") for line in older]
    return "".join(line.replace('"os.release": "9.1"', '"os.release": "8"') + "\n" for line in older)


def _terms(reason: str, start: str, expiry: str, review: str, conditions: str = "") -> ExceptionTermsGiven:
    days = [date.fromisoformat(day) for day in (start, expiry, review)]
    return ExceptionTermsGiven(reason, conditions, "petra", days[0], days[1], days[2])


def _ask(desk: Desk, devices: list[str], requirements: list[str], terms: ExceptionTermsGiven, **more: object) -> str:
    release, up_to = str(more.get("release", "9.1")), bool(more.get("up_to", False))
    asked = ExceptionAsked(release, up_to, tuple(requirements), tuple(devices), RISK_STATEMENT, terms)
    return exceptions.request(desk, PETRA, asked).id


def _upgrades_of_autumn(on: object) -> None:
    """Two stations were carried to 9.1 by exception in September 2026: one at the second try."""
    assert callable(on)
    asked = _ask(
        on("2026-09-02"),
        ["nbt-101", "nbt-102"],
        ["security-chip", "processor-listed"],
        _terms(
            "The cataloguing stations work and are to be replaced in the 2027 budget.",
            "2026-09-03",
            "2027-09-01",
            "2027-03-01",
            "The disk stays encrypted; no guests' media.",
        ),
    )
    exceptions.decide(on("2026-09-03"), ANSELM, asked, "approve", "Replacement is in the budget.", None)
    for device, day in (("nbt-101", "2026-09-07"), ("nbt-102", "2026-09-08")):
        desk = on(day)
        kit = kits.make_kit(desk, PETRA, device, "9.1", "in-place", "everything").id
        if device == "nbt-102":
            attempts.record_attempt(desk, PETRA, _attempt(device, kit, day, "refused", ("security-chip",)))
        attempts.record_attempt(on(f"{day[:-1]}9"), PETRA, _attempt(device, kit, f"{day[:-1]}9", "completed", ()))


def _attempt(device: str, kit: str, day: str, outcome: str, refused_by: tuple[str, ...]) -> AttemptGiven:
    seen = "Set-up named the chip; the settings had been lost." if refused_by else "The notice was shown and accepted."
    began, ended = datetime.fromisoformat(f"{day}T07:15:00"), datetime.fromisoformat(f"{day}T08:20:00")
    media = "Tarn 9.1, en, x86-64"
    return AttemptGiven(
        device, kit, "9.1", "in-place", "everything", outcome, refused_by, seen, media, "set-up 9.1.3", began, ended
    )


def _winter(on: object) -> None:
    assert callable(on)
    for day in ("2026-11-16", "2027-01-12"):
        for device in ("nbt-101", "nbt-102"):
            for kind, result, reason in (
                ("security", "arrived", ""),
                ("driver", "not-offered", "unsupported"),
                ("release", "not-offered", "unknown"),
            ):
                seen = ObservationGiven(device, date.fromisoformat(day), kind, result, reason, "update-service", "")
                attempts.record_observation(on("2027-01-15"), PETRA, seen)
    sorting.decide(
        on("2027-01-15"), WILHELMINA, "tarn", "processor-listed", "9.1", "model", "Fallow 310", "installer-check",
        "attempt", "Two Fallow 310 have run 9.1 since September without a fault.",
    )  # fmt: skip
    granted = _ask(
        on("2027-01-15"),
        ["nbt-021", "nbt-042", "nbt-133"],
        ["processor-listed"],
        _terms(
            "The Fallow 340 has every instruction that the release needs; only the list lacks it.",
            "2027-01-15",
            "2027-12-31",
            "2027-07-01",
        ),
        up_to=True,
        release="9.2",
    )
    exceptions.decide(on("2027-01-15"), ANSELM, granted, "approve", "The instruction level is measured.", None)
    _ask(
        on("2027-01-16"),
        ["nbt-103"],
        ["security-chip", "processor-listed"],
        _terms("Same case as nbt-101 and nbt-102, which run well.", "2027-01-18", "2027-09-01", "2027-05-01"),
    )
    declined = _ask(
        on("2027-01-16"),
        ["nbt-058"],
        ["memory-set-up", "storage", "graphics-level", "processor-listed"],
        _terms("The slate shows labels in the palm house, nothing else.", "2027-01-18", "2027-12-01", "2027-06-01"),
    )
    exceptions.decide(on("2027-01-17"), ANSELM, declined, "decline", "Four checks at once; replace the slate.", None)


def seed_once(data: Path) -> bool:
    """Seed `data` unless that was done before; made beside it first, so that nothing is left half done."""
    if (data / "doorstone.db").exists():
        return False
    partial = data.with_name(data.name + ".seeding")
    shutil.rmtree(partial, ignore_errors=True)
    seed(partial)
    if data.exists():
        data.rmdir()
    partial.replace(data)
    return True
