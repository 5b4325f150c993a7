"""Seeds a data folder with Northmere Botanic Trust, through the use cases, day by day on a demo clock."""

from __future__ import annotations

import json
import shutil
from datetime import date, datetime
from importlib import resources
from pathlib import Path

from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import Life, LifeChange
from doorstone.core.exceptions.requests import NewAttachment, NewCondition, NewException, NewTerms
from doorstone.core.people import Deputy
from doorstone.demo.fleet import build_fleet, ndjson, stations, store_room
from doorstone.demo.media import MEDIA
from doorstone.store.database import Database
from doorstone.work import attempts, followups, media, sorting
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context, Policy
from doorstone.work.context.ids import id_of
from doorstone.work.context.passwords import Passwords
from doorstone.work.devices import disputes, lives, selections
from doorstone.work.exceptions import activity, decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.lapse import lapse
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes.done import NewFixResult
from doorstone.work.kits import kits
from doorstone.work.people import deputies, people
from doorstone.work.platforms import revisions, tasks
from doorstone.work.readings import failure_messages, import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.sheets import get_sheet
from doorstone.work.updates import NewObservation, record_observation

PASSWORD = "northmere-2027"
PEOPLE = [
    ("petra", "Petra Lindqvist-Oake", "technician"),
    ("anselm", "Anselm Farrow", "approver"),
    ("wilhelmina", "Wilhelmina Stroud", "administrator"),
    ("odile", "Odile Marchbank", "viewer"),
]
GONE = ("joss", "Joss Wren", "technician")
"""Left in January; answers for an exception still."""
CRITICAL, OPEN_DAY, STATION = "nbt-111", "nbt-114", "nbt-186"
SMALL_DISKS = ["nbt-047", "nbt-013", "nbt-052", "nbt-056", "nbt-059", "nbt-079", "nbt-087", "nbt-095"]
PETRA = Actor("petra", "technician", "console")
ANSELM = Actor("anselm", "approver", "console")
WILHELMINA = Actor("wilhelmina", "administrator", "console")


def sheet_text(platform: str = "tarn") -> tuple[str, dict[str, str]]:
    """A demo sheet and the files beside it."""
    folder = resources.files("doorstone.demo") / "sheets"
    beside = {
        "tarn": ("tarn-9-processors.csv", "tarn-packed.ini"),
        "brindle": ("brindle-models.csv", "brindle-settings.json", "brindle-bridge.b64"),
    }[platform]
    return (folder / f"{platform}.toml").read_text("utf-8"), {
        name: (folder / name).read_text("utf-8") for name in beside
    }


def first_sheet_text() -> tuple[str, dict[str, str]]:
    """The Tarn sheet as it was in June 2026: nobody knew yet where two overrides end, and the list was shorter."""
    text, lists = sheet_text()
    text = text.replace('until = "9.2"\n', "", 1).replace('until = "9.3"\n', "", 1)
    text = text.replace('{ from = "9.0", as = "installer-check" }, { from = "9.3", as = "floor" }', _CHECK)
    return text, {name: listed.replace("Quern Q7-920\n", "") for name, listed in lists.items()}


_CHECK = '{ from = "9.0", as = "installer-check" }'


def export_text() -> tuple[str, str]:
    """An inventory's export in its own columns and words, and the mapping that reads it."""
    folder = resources.files("doorstone.demo") / "exports"
    return (folder / "inventory.csv").read_text("utf-8"), (folder / "inventory-map.toml").read_text("utf-8")


def seed(data: Path, passwords: Passwords | None = None) -> None:
    """Fill an empty data folder with the scenario."""
    database = Database(data / "doorstone.db")
    passwords = passwords or Passwords()

    def on(day: str) -> Context:
        return Context(database, FixedClock(datetime.fromisoformat(f"{day}T09:00:00")), passwords=passwords)

    context = on("2026-06-01")
    for name, display, role in [*PEOPLE, GONE]:
        people.add_person(context, Actor("local", "administrator", "local"), name, display, role, PASSWORD)
    revisions.load_sheet(context, WILHELMINA, *first_sheet_text(), "tarn.toml")
    for one in MEDIA:
        if one.platform == "tarn":
            media.add_media(on("2026-06-02"), PETRA, one)
    fleet = build_fleet()
    import_job.import_readings(
        on("2026-09-01"), PETRA, _as_of_autumn(ndjson(fleet)), ImportOptions("ndjson", "autumn.ndjson")
    )
    _upgrades_of_autumn(on)
    tasks.load_with_tasks(on("2027-01-11"), WILHELMINA, *sheet_text(), "tarn.toml")
    for task in tasks.list_tasks(on("2027-01-12"), "open"):
        done = "Gone through with the cataloguers; see the forecast."
        tasks.change_task(on("2027-01-12"), WILHELMINA, task.id, "done", note=done)
    revisions.load_sheet(on("2027-01-11"), WILHELMINA, *sheet_text("brindle"), "brindle.toml")
    for one in MEDIA:
        if one.platform == "brindle":
            media.add_media(on("2027-01-12"), PETRA, one)
    context = on("2027-01-15")
    import_job.import_readings(context, PETRA, ndjson(fleet), ImportOptions("ndjson", "january.ndjson"))
    plates = "".join(json.dumps(reading) + "\n" for reading in stations())
    import_job.import_readings(context, PETRA, plates, ImportOptions("ndjson", "plate-stations.ndjson"))
    export, mapping = export_text()
    given = ImportOptions("csv", "inventory.csv", skip=True, mapping=mapping)
    import_job.import_readings(context, PETRA, export, given)
    _winter(on)
    _sorted_out(on)
    database.close()


def _as_of_autumn(text: str) -> str:
    """The readings of devices that were upgraded or given memory in autumn, as they were before it."""
    devices = ('"nbt-101"', '"nbt-102"', '"nbt-055"')
    lines = [line for line in text.splitlines() if any(device in line for device in devices)]
    older = [line.replace("2027-01-15", "2026-08-30") for line in lines if '"assessor"' in line]
    older = [line.replace('"memory.mib": 8128', '"memory.mib": 4032') if "nbt-055" in line else line for line in older]
    older = [line.replace("2027-01-1", "2026-08-1") for line in older]
    return "".join(line.replace('"os.release": "9.1"', '"os.release": "8"') + "\n" for line in older)


def _terms(
    reason: str, start: str, expiry: str, review: str, *conditions: NewCondition, owner: str = "petra"
) -> NewTerms:
    days = [date.fromisoformat(day) for day in (start, expiry, review)]
    return NewTerms(reason, conditions, owner, days[0], days[1], days[2])


def _ask(context: Context, devices: list[str], requirements: list[str], terms: NewTerms, **more: object) -> str:
    release, up_to, renews = (
        str(more.get("release", "9.1")),
        bool(more.get("up_to", False)),
        str(more.get("renews", "")),
    )
    risk = exceptions.risk(context, get_sheet(context, "brindle" if release == "7" else "tarn").platform, release)
    asked = NewException(
        release, up_to, tuple(requirements), tuple(devices), risk.text, terms, risk.notice, renews=renews
    )
    return exceptions.request(context, PETRA, asked).id


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
            NewCondition(fact_condition={"fact": "disk.encrypted", "is": True}),
            NewCondition("No guests' media are put in.", due_on=date(2026, 12, 1), every_days=90),
        ),
    )
    decisions.decide(on("2026-09-03"), ANSELM, asked, "approve", "Replacement is in the budget.", None)
    plan = NewAttachment("Replacement plan 2027", "https://northmere.example/plans/stations-2027")
    activity.attach(on("2026-09-03"), PETRA, asked, plan)
    for device, day in (("nbt-101", "2026-09-07"), ("nbt-102", "2026-09-08")):
        context = on(day)
        kit = kits.make_kit(context, PETRA, device, "9.1", "in-place", "everything").id
        if device == "nbt-102":
            first = replace(_attempt(device, kit, day, "refused", ("security-chip",)), tool_version="set-up 9.1.2")
            attempts.record_attempt(context, PETRA, first)
        attempts.record_attempt(on(f"{day[:-1]}9"), PETRA, _attempt(device, kit, f"{day[:-1]}9", "completed", ()))
        _followed_up(on, device, slower=device == "nbt-102")


def _followed_up(on: object, device: str, slower: bool) -> None:
    """What the upgrade left to do was done the day after; on one the previous release's folder is still there."""
    assert callable(on)
    context = on("2026-09-10")
    for step in followups.device_followups(context, device).steps:
        name, answer = id_of("FU", step.id), ""
        if step.kind == "performance":
            answer = "slower" if slower else "as-before"
        if step.kind == "ends-rollback" and slower:
            continue
        day = on("2026-09-24") if step.kind == "ends-rollback" else context
        followups.settle(day, PETRA, name, "done", answer, "", confirm=step.kind == "ends-rollback")
    kit = kits.list_kits(context, device)[0].id
    report = {"place": "system", "section": "setup/compat", "name": "accept", "state": "right"}
    for day, state in (("2026-09-10", "right"), ("2027-01-12", "missing" if slower else "right")):
        report_of = {"kit": kit, "ok": state == "right", "settings": [{**report, "state": state}]}
        followups.add_verification(on(day), PETRA, kit, device, report_of)


def _attempt(device: str, kit: str, day: str, outcome: str, refused_by: tuple[str, ...]) -> NewAttempt:
    seen = "Set-up named the chip; the settings had been lost." if refused_by else "The notice was shown and accepted."
    began, ended = datetime.fromisoformat(f"{day}T07:15:00"), datetime.fromisoformat(f"{day}T08:20:00")
    used = "MD-0001"
    return NewAttempt(
        device, kit, "9.1", "in-place", "everything", outcome, refused_by, seen, used, "set-up 9.1.3", began, ended,
        notice_accepted=not refused_by,
    )  # fmt: skip


def _winter(on: object) -> None:
    assert callable(on)
    activity.attest(on("2027-01-15"), PETRA, "EX-0001", 2, "Looked in with the cataloguers.")
    phased = NewObservation(
        "nbt-064", date(2027, 1, 12), "release", "not-offered", "phased", "update-service", "In waves, until March."
    )
    record_observation(on("2027-01-15"), PETRA, phased)
    for device, days in (("nbt-101", ("2026-11-16", "2027-01-12")), ("nbt-102", ("2026-11-16", "2026-11-19"))):
        for day in days:
            for kind, result, reason in (
                ("security", "arrived", ""),
                ("driver", "not-offered", "unsupported"),
                ("release", "not-offered", "unknown"),
            ):
                seen = NewObservation(device, date.fromisoformat(day), kind, result, reason, "update-service", "")
                record_observation(on("2027-01-15"), PETRA, seen)
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
            owner="joss",
        ),
        up_to=True,
        release="9.2",
    )
    decisions.decide(on("2027-01-15"), ANSELM, granted, "approve", "The instruction level is measured.", None)
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
    decisions.decide(on("2027-01-17"), ANSELM, declined, "decline", "Four checks at once; replace the slate.", None)


def _sorted_out(on: object) -> None:
    """What came up while sorting: a dispute settled, a failure message matched, disks excepted and one read again."""
    assert callable(on)
    disputes.settle_dispute(
        on("2027-01-16"), PETRA, "nbt-090", "fact", "tpm.state", "on",
        "Looked at firmware set-up: the chip is on; the collector ran before the last restart.",
    )  # fmt: skip
    older = "This processor is of an older generation"
    failure_messages.match_message(on("2027-01-16"), WILHELMINA, "tarn", older, "processor-listed")
    selections.save_selection(
        on("2027-01-16"), PETRA, "Palm house slates", "tarn", "", DeviceFilter(model="Tern Slate 2", site="Glasshouse")
    )
    selections.save_selection(
        on("2027-01-16"), PETRA, "To be excepted", "tarn", "", DeviceFilter(state="needs-exception")
    )
    granted = _ask(
        on("2027-01-16"),
        SMALL_DISKS,
        ["storage"],
        _terms(
            "Small disks run the release with the small layout; they are replaced with the devices.",
            "2027-01-16",
            "2027-12-31",
            "2027-07-01",
        ),
    )
    decisions.decide(on("2027-01-16"), ANSELM, granted, "approve", "The small layout was tried in December.", None)
    secure_boot = NewFixResult("Switch Secure Boot on in firmware set-up")
    fixes_done.record_fix(on("2027-01-16"), PETRA, "nbt-024", secure_boot)
    failed = replace(secure_boot, outcome="failed", note="Firmware set-up asks for a password that nobody has.")
    fixes_done.record_fix(on("2027-01-16"), PETRA, "nbt-096", failed)
    _in_every_stage(on)
    kits.make_kit(on("2027-01-18"), PETRA, ["nbt-021", "nbt-133"], "9.1", "in-place", "everything")
    _a_station(on)
    again = {"device": SMALL_DISKS[0], "source": "collector", "taken_at": "2027-01-17T08:05:00"}
    line = json.dumps({**again, "facts": {"disk.system_gib": 29}})
    import_job.import_readings(on("2027-01-18"), PETRA, line, ImportOptions("ndjson", "one-device.ndjson"))


def _a_station(on: object) -> None:
    """A plate station that its maker left behind: a larger disk, an exception, the loader; it starts from its stick."""
    assert callable(on)
    fixes_done.record_fix(on("2027-01-15"), PETRA, STATION, NewFixResult("Fit a 480 GB disk"))
    asked = _ask(
        on("2027-01-15"),
        [STATION],
        ["model-listed"],
        _terms(
            "The scan head has no successor; a new line is planned for 2029.", "2027-01-15", "2027-12-31", "2027-07-01"
        ),
        release="7",
    )
    decisions.decide(on("2027-01-15"), ANSELM, asked, "approve", "The loader was tried on the bench.", None)
    kit = kits.make_kit(on("2027-01-16"), PETRA, STATION, "7", "in-place", "everything").id
    done = replace(
        _attempt(STATION, kit, "2027-01-16", "completed", ()),
        release="7",
        media="MD-0005",
        tool_version="installer 7.0",
    )
    attempts.record_attempt(on("2027-01-17"), PETRA, done)


def _in_every_stage(on: object) -> None:
    """One that waits for a second approver, one that is asked back, one that has lapsed, an owner who has left."""
    assert callable(on)
    careful = on("2027-01-16")
    careful.policy = Policy(two_approvers="critical")
    log = _ask(
        careful,
        [CRITICAL],
        ["processor-listed"],
        _terms(
            "The vault's log is written here around the clock; a new station is ordered for autumn.",
            "2027-01-18",
            "2027-10-31",
            "2027-06-01",
            NewCondition("The log is copied every night.", due_on=date(2027, 2, 1), every_days=30),
        ),
    )
    decisions.decide(on("2027-01-17"), ANSELM, log, "approve", "Seen with the vault's keeper.", None)
    renewal = _ask(
        on("2027-01-17"),
        ["nbt-101", "nbt-102"],
        ["security-chip", "processor-listed"],
        _terms("The replacement was moved to the spring of 2028.", "2027-09-02", "2028-03-31", "2027-12-01"),
        renews="EX-0001",
    )
    activity.comment(on("2027-01-17"), ANSELM, renewal, "Who has confirmed the new date?", question=True)
    open_day = _ask(
        on("2027-01-16"),
        [OPEN_DAY],
        ["processor-listed"],
        _terms("The ticket desk is needed for the open day.", "2027-01-16", "2027-01-17", "2027-01-16"),
    )
    decisions.decide(on("2027-01-16"), WILHELMINA, open_day, "approve", "For the open day only.", None)
    _not_in_service(on)
    leave = Deputy("anselm", "wilhelmina", date(2027, 2, 8), date(2027, 2, 19))
    deputies.name_deputy(on("2027-01-16"), ANSELM, leave, "Anselm is on leave in February.")
    joss = people.get_person(on("2027-01-16"), "joss")
    people.change_person(on("2027-01-16"), WILHELMINA, "joss", joss.version, people.PersonChange(active=False))
    lapse(on("2027-01-18"))


def _not_in_service(on: object) -> None:
    """The store room of the Visitor Gate: one waits for a part, one is retired, one was replaced, one is unknown."""
    assert callable(on)
    lines = "".join(json.dumps(reading) + "\n" for reading in store_room())
    import_job.import_readings(on("2027-01-16"), PETRA, lines, ImportOptions("ndjson", "store-room.ndjson"))
    day = date(2027, 1, 17)
    fan = LifeChange(Life.SET_ASIDE, day, "Waits for a new fan, ordered in January.", look_on=date(2027, 2, 12))
    broken = LifeChange(Life.RETIRED, day, "Its board is broken and no part is to be had.", wiped_by="petra")
    moved = LifeChange(Life.REPLACED, day, "A newer desk took its place.", wiped_by="petra", replaced_by="nbt-064")
    for device, change in (("nbt-193", fan), ("nbt-194", broken), ("nbt-195", moved)):
        lives.change_lives(on("2027-01-17"), PETRA, [device], change)


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
