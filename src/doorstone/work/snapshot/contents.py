"""Contents of readings: what a reading adds to what each source of a device says now.

In: readings by the number of their content. Out: the devices' rows, their history, their counts. Work that is the
same for many devices is done once: two devices of whom the same was said, by the same sources, in the same order
and on the same days, are the same case.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, NamedTuple, TypeVar

from doorstone.core.readings.source_content import ContentByTime, SourceContent, current_texts, drop_older, merge
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import Record
from doorstone.store.readings import contents as said_store

GUARDED = frozenset({"site", "role", "critical"})
"""Attributes that rules rest on: who decides, how many approve, which gates hold. Who may decide may change them."""
_Key = TypeVar("_Key")
_Value = TypeVar("_Value")
MOST_HELD = 50_000
Heard = list[tuple[str, str, int]]
"""What each source says of a device now: (source, time of reading, number of the content)."""


class NewReading(NamedTuple):
    """A reading to be heard: `said` is the number of its content; `about` what it says of the device itself."""

    device: str
    source: str
    taken_at: str
    said: int
    about: Mapping[str, Any] | None = None


class ContentCache:
    """The contents that were asked for, by number. Contents never change, so what is held cannot be old.

    Numbers given out by a transaction that is undone are not to be trusted: a contents lives no longer than its work.
    """

    def __init__(self) -> None:
        self._said: dict[int, SourceContent] = {}
        self._numbers: dict[str, int] = {}
        self._merged: dict[tuple[Any, ...], tuple[int | None, ...]] = {}

    def number_of(self, db: sqlite3.Connection, body: str) -> int:
        number = self._numbers.get(body)
        if number is None:
            number = bounded(self._numbers)[body] = said_store.number_of(db, body)
            bounded(self._said)[number] = _said(json.loads(body))
        return number

    def quiet(self, db: sqlite3.Connection, numbers: Iterable[int]) -> set[int]:
        """Those of these contents that tell of no failure messages, not even that there are none."""
        return {number for number in numbers if self.said(db, number).texts is None}

    def said(self, db: sqlite3.Connection, number: int) -> SourceContent:
        found = self._said.get(number)
        if found is None:
            found = bounded(self._said)[number] = _said(said_store.bodies(db, [number])[number])
        return found

    def words(self, db: sqlite3.Connection, heard: Heard) -> dict[str, ContentByTime]:
        """Source -> what it says now. The contents are shared: they are not to be changed."""
        missing = [number for _, _, number in heard if number not in self._said]
        for number, body in said_store.bodies(db, missing).items() if missing else ():
            bounded(self._said)[number] = _said(body)
        words: dict[str, ContentByTime] = {}
        for source, at, number in heard:
            words.setdefault(source, {})[at] = self.said(db, number)
        return words

    def merged(self, db: sqlite3.Connection, heard: Heard, new: NewReading) -> Heard:
        """What is said of a device once `new` has been read."""
        if not heard:
            return [(new.source, new.taken_at, new.said)]
        mine = sorted((at, number) for source, at, number in heard if source == new.source)
        times = sorted({*(at for at, _ in mine), new.taken_at})
        place = times.index(new.taken_at)
        key = (tuple(number for _, number in mine), place, len(times), new.said)
        if key not in self._merged:
            bounded(self._merged)[key] = self._merge(db, mine, times, new)
        kept = zip(times, self._merged[key], strict=True)
        others = [one for one in heard if one[0] != new.source]
        return sorted([*others, *((new.source, at, number) for at, number in kept if number is not None)])

    def _merge(
        self, db: sqlite3.Connection, mine: Sequence[tuple[str, int]], times: Sequence[str], new: NewReading
    ) -> tuple[int | None, ...]:
        """The number of what still stands of each time; None if nothing does."""
        merged = merge({at: self.said(db, number) for at, number in mine}, new.taken_at, self.said(db, new.said))
        held = dict(mine) | {new.taken_at: new.said}
        return tuple(self._kept(db, held[at], merged.get(at)) for at in times)

    def _kept(self, db: sqlite3.Connection, number: int, said: SourceContent | None) -> int | None:
        if said is None:
            return None
        if said == self.said(db, number):
            return number
        return self.number_of(db, said_store.body_of(said.facts, said.verdicts, None, said.texts))


def _said(body: Mapping[str, Any]) -> SourceContent:
    return SourceContent(body.get("facts", {}), body.get("verdicts", {}), body.get("texts"))


def bounded(held: dict[_Key, _Value], most: int = MOST_HELD) -> dict[_Key, _Value]:
    """What is held, emptied first if it has grown to `most`."""
    if len(held) >= most:
        held.clear()
    return held


def current_contents(record: Record) -> Heard:
    return [(source, at, number) for source, at, number in json.loads(record.current_contents)]


def contents_json(heard: Heard) -> str:
    return json.dumps(heard, separators=(",", ":"))


def apply_readings(
    db: sqlite3.Connection,
    contents: ContentCache,
    readings: Iterable[NewReading],
    now: dict[str, tuple[Record, Heard]],
    at: str,
    number: int | None,
    obeyed: bool = True,
) -> list[tuple[str, str]]:
    """Add readings, in their order, to the rows in `now`; a device that was not known gets one.

    `number` is the import that they come with. Unless it is `obeyed`, attributes that rules rest on stay as they are
    on a device that was known before it. Returns (device, source) of those whose failure messages may differ.
    """
    told = []
    for new in readings:
        device, source, taken_at, said, about = new
        held = now.get(device)
        if held is None:
            heard = [(source, taken_at, said)]
            record = device_store.new_record(device, at)
            words = f'[["{source}","{taken_at}",{said}]]'
        else:
            record, before = held
            heard = contents.merged(db, before, new)
            words = contents_json(heard)
            if _tells(db, contents, before, source):
                told.append((device, source))
        if contents.said(db, said).texts is not None:
            told.append((device, source))
        own = about or {}
        if not obeyed and held is not None and (number is None or record.last_import_id != number):
            own = {name: value for name, value in own.items() if name not in GUARDED}
        last = max(record.last_read_at, taken_at)
        record = record._replace(
            current_contents=words, last_import_id=number or record.last_import_id, last_read_at=last, **own
        )
        now[device] = record, heard
    return told


def keep(
    db: sqlite3.Connection,
    contents: ContentCache,
    readings: Iterable[NewReading],
    now: Mapping[str, tuple[Record, Heard]],
    told: Iterable[tuple[str, str]],
    number: int | None,
) -> None:
    """Write the readings' history and the failure messages; the devices' rows are there by now."""
    device_store.add_readings(db, [(r[0], r[1], r[2], r[3], number) for r in readings])
    for device, source in told:
        words = contents.words(db, now[device][1]).get(source, {})
        device_store.keep_texts(db, device, source, current_texts(words))


def _tells(db: sqlite3.Connection, contents: ContentCache, heard: Heard, source: str) -> bool:
    return any(contents.said(db, number).texts is not None for name, _, number in heard if name == source)


def without_older(db: sqlite3.Connection, contents: ContentCache, record: Record, fact: str, before: str) -> Record:
    """The row without what was said of a fact before a time: something has changed it since."""
    kept: Heard = []
    for source, words in contents.words(db, current_contents(record)).items():
        for at, said in drop_older(words, fact, before).items():
            number = contents.number_of(db, said_store.body_of(said.facts, said.verdicts, None, said.texts))
            kept.append((source, at, number))
    return record._replace(current_contents=contents_json(sorted(kept)))


def batches(items: Iterable[_Value], size: int) -> Iterator[list[_Value]]:
    """Items in lists of at most `size`."""
    rest = iter(items)
    while part := list(islice(rest, size)):
        yield part
