"""Intake: importing readings, all or nothing."""

from __future__ import annotations

from dataclasses import dataclass

from doorstone.core.facts import dump
from doorstone.formats.readings import ReadingRecord, read_csv, read_ndjson
from doorstone.store import devices as store
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError, Trouble
from doorstone.work.picture import all_specs
from doorstone.work.sheets import all_sheets

_TRUE = {"yes", "true", "1"}


@dataclass(frozen=True, slots=True)
class ImportReport:
    id: str
    readings: int
    devices: int
    added: int


def import_readings(desk: Desk, actor: Actor, text: str, form: str) -> ImportReport:
    """Import NDJSON or CSV. Any bad line refuses the whole import: `BadInputError` with a trouble a line."""
    if form not in ("ndjson", "csv"):
        raise BadInputError(f"{form!r} is not a form of readings", "Use ndjson or csv")
    with desk.database.read() as db:
        if before := made_before(db, actor):
            return get_import(desk, before)
    specs = all_specs(all_sheets(desk))
    parsed = (read_ndjson if form == "ndjson" else read_csv)(text, specs)
    if parsed.problems:
        troubles = [Trouble(f"line {p.line}, {p.place}", p.message, p.mend) for p in parsed.problems[:100]]
        count = len(parsed.problems)
        lines = "1 line" if count == 1 else f"{count} lines"
        raise BadInputError(f"Nothing was imported: {lines} cannot be read", "Mend them and import again", troubles)
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_import(desk, before)
        devices = {r.device for r in parsed.records}
        number = store.add_import(db, desk.now(), actor.name, form, len(parsed.records), len(devices))
        added = sum(store.upsert(db, r.device, _about(r), desk.now()) for r in parsed.records)
        for r in parsed.records:
            facts = {name: dump(value) for name, value in r.reading.facts.items()}
            taken_at = r.reading.taken_at.isoformat()
            store.add_reading(db, r.device, number, r.reading.source, taken_at, facts, dict(r.reading.verdicts))
        store.finish_import(db, number, added)
        body = {"readings": len(parsed.records), "devices": len(devices), "added": added, "form": form}
        record(desk, db, actor, "readings imported", "import", id_of("IM", number), body, creates=True)
    return ImportReport(id_of("IM", number), len(parsed.records), len(devices), added)


def _about(record_: ReadingRecord) -> dict[str, str | int]:
    about: dict[str, str | int] = {name: text for name, text in record_.about.items() if name != "critical"}
    if "critical" in record_.about:
        about["critical"] = int(record_.about["critical"].lower() in _TRUE)
    return about


def get_import(desk: Desk, name: str) -> ImportReport:
    with desk.database.read() as db:
        row = store.get_import(db, number_of("IM", name))
    if row is None:
        raise MissingError(f"There is no import {name!r}", "Import readings first")
    return ImportReport(name, row["readings"], row["devices"], row["added"])
