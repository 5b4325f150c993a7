"""Checks of readings beside their form: their time, who may post them, what no sheet knows, what stays as it is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from difflib import get_close_matches
from operator import attrgetter
from typing import Any

from doorstone.core.devices.names import name_key
from doorstone.formats.reading_records import ImportProblem, ReadingColumns, about_values
from doorstone.formats.readings import FilePart
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import NOTHING_REPORTED, GuardedAttributes
from doorstone.store.readings.imports import ImportRow
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import all_sheets

EARLIEST = "1990-01-01T00:00:00"
PLACED_BY = ("os.platform", "os.release", "os.edition")


def sifted(row: ImportRow, part: Iterable[FilePart], latest: str) -> tuple[list[ReadingColumns], list[ImportProblem]]:
    """Readings that may be taken over, and what is wrong with the others."""
    found, every = list[ReadingColumns](), list[ImportProblem]()
    for readings, problems in part:
        wrong = {
            place: _out_of_time(readings.lines[place], at, latest)
            for place, at in enumerate(readings.times)
            if not EARLIEST <= at <= latest
        }
        if row.narrow or row.only_device:
            wrong = _not_allowed(row, readings) | wrong
        found.append(readings.without(wrong))
        every += sorted([*problems, *wrong.values()], key=attrgetter("line"))
    return found, every


def _not_allowed(row: ImportRow, readings: ReadingColumns) -> dict[int, ImportProblem]:
    """A narrow token posts readings of its own device only, and never as an operator. By the places of readings."""
    wrong = {}
    for place, (line, device, source) in enumerate(
        zip(readings.lines, readings.devices, readings.sources, strict=True)
    ):
        if row.only_device and name_key(device) != name_key(row.only_device):
            message = f"This token may only post readings of {row.only_device}"
            wrong[place] = ImportProblem(line, "device", message, f"Leave {device} out, or use another token")
        elif row.narrow and source in ("operator", "attempt"):
            message = f"A token for readings cannot speak as {source}"
            wrong[place] = ImportProblem(line, "source", message, "Use the collector's or a source of your own")
    return wrong


def _out_of_time(line: int, taken_at: str, latest: str) -> ImportProblem:
    """The problem of a reading from the future or from before 1990. It would be believed for ever, or never."""
    when = "in the future" if taken_at > latest else f"before {EARLIEST[:4]}"
    return ImportProblem(line, "taken_at", f"{taken_at} lies {when}", "Set the clock that gave it, and read again")


def nobody_knows(
    context: Context, part: Iterable[ReadingColumns], noted: set[tuple[str, str, str]]
) -> list[ImportProblem]:
    """Notes on platforms, releases and editions that no sheet knows, each once an import."""
    sheets = all_sheets(context)
    notes: list[ImportProblem] = []
    for line, named in _named_first(part):
        platform = named.get("os.platform", "")
        if not platform:
            continue
        sheet = sheets.get(platform)
        known: dict[str, Sequence[str]] = {"os.platform": list(sheets)}
        if sheet is not None:
            known["os.release"] = [release.id for release in sheet.platform.releases]
            known["os.edition"] = sheet.platform.editions
        for fact, values in known.items():
            value = named.get(fact, "")
            if value and value not in values and (platform, fact, value) not in noted:
                noted.add((platform, fact, value))
                near = get_close_matches(value, values, 1, 0.5)
                hint = f"Is {near[0]} meant?" if near else f"Known: {', '.join(values) or 'none'}"
                notes.append(ImportProblem(line, fact, f"No sheet knows {value!r}; it is kept as it is", hint))
    return notes


def _named_first(part: Iterable[ReadingColumns]) -> Iterator[tuple[int, dict[str, str]]]:
    """What readings say of where a device belongs, each once, with the first line that says it."""
    looked: set[tuple[Any, ...]] = set()
    for readings in part:
        table = readings.table
        for line, shape, numbers in zip(readings.lines, readings.shapes, readings.numbers, strict=True):
            named = tuple([numbers[at] if at >= 0 else -1 for at in table.places(shape, PLACED_BY)])
            if (id(table), named) not in looked:
                looked.add((id(table), named))
                yield line, {fact: str(table.values[n][1]) for fact, n in zip(PLACED_BY, named, strict=True) if n >= 0}


def kept_as_they_are(context: Context, part: Iterable[ReadingColumns]) -> list[ImportProblem]:
    """Notes on attributes that rules rest on and that a file says otherwise than they are; they stay as they are."""
    reported: dict[int, GuardedAttributes] = {}  # by the object that holds it, which many readings share
    alike: dict[GuardedAttributes, list[tuple[int, str, Mapping[str, str]]]] = {}
    for readings in part:
        for line, device, about in zip(readings.lines, readings.devices, readings.abouts, strict=True):
            says = reported.get(id(about))
            if says is None:
                says = reported[id(about)] = _guarded(about)
            alike.setdefault(says, []).append((line, device, about))
    alike.pop(NOTHING_REPORTED, None)
    notes = []
    with context.database.read() as db:
        for says, mine in alike.items():
            apart = device_store.otherwise(db, [device for _, device, _ in mine], says)
            if apart:
                notes += [note for one in mine if one[1] in apart for note in _kept(*one, says, apart[one[1]])]
    return sorted(notes, key=attrgetter("line"))


def _guarded(about: Mapping[str, str]) -> GuardedAttributes:
    """What is said of the attributes that rules rest on."""
    critical = about_values(about).get("critical")
    return GuardedAttributes(about.get("site"), about.get("role"), None if critical is None else int(critical))


def _kept(
    line: int, device: str, about: Mapping[str, str], says: GuardedAttributes, now: GuardedAttributes
) -> Iterator[ImportProblem]:
    """A note for each attribute that a reading says otherwise."""
    for name, new, old in zip(GuardedAttributes._fields, says, now, strict=True):
        if new is not None and new != old:
            was = ("no", "yes")[int(old or 0)] if name == "critical" else f"{old or 'none'}"
            message = f"{device} has {name} {was}, and keeps it; the file says {about[name]}"
            hint = f"If the file is right, an approver changes it: doorstone device change {device} --{name}"
            yield ImportProblem(line, name, message, hint)
