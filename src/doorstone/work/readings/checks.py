"""Checks of readings beside their form: their time, who may post them, what no sheet knows, what stays as it is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from difflib import get_close_matches
from typing import Any

from doorstone.formats.reading_records import ImportProblem, ReadingRecord, about_values
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import NOTHING_REPORTED, GuardedAttributes
from doorstone.store.readings.imports import ImportRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import all_sheets

EARLIEST = "1990-01-01T00:00:00"
PLACED_BY = ("os.platform", "os.release", "os.edition")


def sifted(
    row: ImportRow, part: Iterable[ReadingRecord | ImportProblem], latest: str
) -> tuple[list[ReadingRecord], list[ImportProblem]]:
    """Records that may be taken over, and what is wrong with the others."""
    records, problems = list[ReadingRecord](), list[ImportProblem]()
    limited = row.narrow or row.only_device
    for one in part:
        if isinstance(one, ImportProblem):
            problems.append(one)
        elif (wrong := _in_time(one, latest) or (_not_allowed(row, one) if limited else None)) is None:
            records.append(one)
        else:
            problems.append(wrong)
    return records, problems


def _not_allowed(row: ImportRow, one: ReadingRecord) -> ImportProblem | None:
    """A narrow token posts readings of its own device only, and never as an operator."""
    if row.only_device and one.device != row.only_device:
        message = f"This token may only post readings of {row.only_device}"
        return ImportProblem(one.line, "device", message, f"Leave {one.device} out, or use another token")
    if row.narrow and one.source in ("operator", "attempt"):
        message = f"A token for readings cannot speak as {one.source}"
        return ImportProblem(one.line, "source", message, "Use the collector's or a source of your own")
    return None


def _in_time(one: ReadingRecord, latest: str) -> ImportProblem | None:
    """The problem of a reading from the future or from before 1990. It would be believed for ever, or never."""
    if EARLIEST <= one.taken_at <= latest:
        return None
    when = "in the future" if one.taken_at > latest else f"before {EARLIEST[:4]}"
    return ImportProblem(
        one.line, "taken_at", f"{one.taken_at} lies {when}", "Set the clock that gave it, and read again"
    )


def nobody_knows(
    context: Context, records: Iterable[ReadingRecord], noted: set[tuple[str, str, str]]
) -> list[ImportProblem]:
    """Notes on platforms, releases and editions that no sheet knows, each once an import."""
    sheets = all_sheets(context)
    notes: list[ImportProblem] = []
    looked: set[tuple[Any, ...]] = set()
    for one in records:
        content = one.content
        named = id(content.table), content.numbers_of(PLACED_BY)
        if named in looked:
            continue
        looked.add(named)
        facts = content.facts
        platform = str(facts.get("os.platform", ""))
        if not platform:
            continue
        sheet = sheets.get(platform)
        known: dict[str, Sequence[str]] = {"os.platform": list(sheets)}
        if sheet is not None:
            known["os.release"] = [release.id for release in sheet.platform.releases]
            known["os.edition"] = sheet.platform.editions
        for fact, values in known.items():
            value = str(facts.get(fact, ""))
            if value and value not in values and (platform, fact, value) not in noted:
                noted.add((platform, fact, value))
                near = get_close_matches(value, values, 1, 0.5)
                hint = f"Is {near[0]} meant?" if near else f"Known: {', '.join(values) or 'none'}"
                notes.append(ImportProblem(one.line, fact, f"No sheet knows {value!r}; it is kept as it is", hint))
    return notes


def kept_as_they_are(context: Context, records: Iterable[ReadingRecord]) -> list[ImportProblem]:
    """Notes on attributes that rules rest on and that a file says otherwise than they are; they stay as they are."""
    reported: dict[int, GuardedAttributes] = {}  # by the object that holds it, which many readings share
    alike: dict[GuardedAttributes, list[ReadingRecord]] = {}
    for one in records:
        says = reported.get(id(one.about))
        if says is None:
            says = reported[id(one.about)] = _guarded(one)
        alike.setdefault(says, []).append(one)
    alike.pop(NOTHING_REPORTED, None)
    notes = []
    with context.database.read() as db:
        for says, mine in alike.items():
            apart = device_store.otherwise(db, [one.device for one in mine], says)
            notes += [note for one in mine if one.device in apart for note in _kept(one, says, apart[one.device])]
    return sorted(notes, key=lambda note: note.line)


def _guarded(one: ReadingRecord) -> GuardedAttributes:
    """What a reading says of the attributes that rules rest on."""
    critical = about_values(one.about).get("critical")
    return GuardedAttributes(one.about.get("site"), one.about.get("role"), None if critical is None else int(critical))


def _kept(one: ReadingRecord, says: GuardedAttributes, now: GuardedAttributes) -> Iterator[ImportProblem]:
    """A note for each attribute that a reading says otherwise."""
    for name, new, old in zip(GuardedAttributes._fields, says, now, strict=True):
        if new is not None and new != old:
            was = ("no", "yes")[int(old or 0)] if name == "critical" else f"{old or 'none'}"
            message = f"{one.device} has {name} {was}, and keeps it; the file says {one.about[name]}"
            hint = f"If the file is right, an approver changes it: doorstone device change {one.device} --{name}"
            yield ImportProblem(one.line, name, message, hint)
