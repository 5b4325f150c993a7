"""Contents of readings: what a reading adds to what each source of a device says now.

In: readings by the number of their content. Out: the devices' rows, their history. Work that is the same for many
devices is done once: devices with the same contents, from the same sources, in the same order, are the same case.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice, repeat
from typing import Any, NamedTuple, TypeVar

from msgspec import Struct

from doorstone.core.readings.source_content import ContentByTime, SourceContent, current_texts, drop_older, merge
from doorstone.store.devices import devices as device_store
from doorstone.store.devices.devices import Record
from doorstone.store.readings import contents as store
from doorstone.store.readings import values as value_store
from doorstone.store.readings.contents import Content, numbers_in

GUARDED = frozenset({"site", "role", "critical"})
"""Attributes that rules rest on: who decides, how many approve, which gates hold. Who may decide may change them."""
_Key = TypeVar("_Key")
_Value = TypeVar("_Value")
MOST_HELD = 50_000
MOST_DECODED = 5_000
MOST_VALUES = 100_000
CurrentContents = list[tuple[str, str, int]]
"""What each source says of a device now: (source, time of reading, number of the content)."""


class NewReading(NamedTuple):
    """A reading to apply: `content` is the number of its content; `about` what it says of the device itself."""

    device: str
    source: str
    taken_at: str
    content: int
    about: Mapping[str, Any] | None = None


class NewReadings(Struct, frozen=True):
    """Readings to apply, column by column: each is what stands at one place of all of them.

    `numbers` are those of `contents`, `codes` those of their values; otherwise as in `NewReading`.
    """

    devices: Sequence[str]
    sources: Sequence[str]
    times: Sequence[str]
    numbers: Sequence[int]
    contents: Sequence[Content]
    codes: Sequence[Sequence[int]]
    abouts: Sequence[Mapping[str, Any]]


class ContentCache:
    """Contents, shapes and values that were asked for, by number. They never change, so what is held cannot be old.

    Numbers given out by a transaction that is undone are not to be trusted: a cache lives no longer than its work.
    """

    def __init__(self) -> None:
        self._by_number: dict[int, SourceContent] = {}
        self._kept: dict[int, Content] = {}
        self._shapes: dict[int, tuple[str, ...]] = {}
        self._shape_numbers: dict[tuple[str, ...], int] = {}
        self._values: dict[int, Any] = {}
        self._texts: dict[int, str] = {}
        self._numbers: dict[tuple[str, str], int] = {}
        self._merged: dict[tuple[Any, ...], tuple[int | None, ...]] = {}

    # ------------------------------------------------------------- writing

    def value_numbers(self, db: sqlite3.Connection, pairs: Sequence[tuple[str, str]]) -> list[int]:
        """The numbers of values, each given as its fact and its JSON text; those that are new are kept."""
        known = self._numbers
        found = {pair: known.get(pair) for pair in pairs}
        if missing := [pair for pair, number in found.items() if number is None]:
            found |= (numbers := dict(zip(missing, self.new_value_numbers(db, missing), strict=True)))
            bounded(known, MOST_VALUES).update(numbers)
        return [found[pair] for pair in pairs]  # type: ignore[misc]

    def new_value_numbers(self, db: sqlite3.Connection, pairs: Sequence[tuple[str, str]]) -> list[int]:
        """As `value_numbers`, of many that are asked for once."""
        numbers = value_store.numbers_of(db, pairs)
        bounded(self._texts, MOST_VALUES).update(zip(numbers, [text for _, text in pairs], strict=True))
        return numbers

    def shape_number(self, db: sqlite3.Connection, facts: tuple[str, ...]) -> int:
        number = self._shape_numbers.get(facts)
        if number is None:
            number = bounded(self._shape_numbers)[facts] = store.shape_number(db, facts)
            bounded(self._shapes)[number] = facts
        return number

    def numbers_of(
        self, db: sqlite3.Connection, digests: Mapping[Content, int], uses: Mapping[Content, int] | None = None
    ) -> dict[Content, int]:
        """The numbers of contents, each given with its digest; those that are new are kept.

        `uses`: how many more readings hold each.
        """
        found = store.numbers_of(db, digests, uses or {})
        bounded(self._kept).update({number: content for content, number in found.items()})
        return found

    def number_of(self, db: sqlite3.Connection, facts: Mapping[str, Any], more: str = "") -> int:
        """The number of a content with these facts, their values as JSON holds them; kept if it is new.

        It may be current on a device without a reading that holds it, so history never ends for it.
        """
        names = tuple(sorted(facts))
        numbers = self.value_numbers(db, [(name, store.value_text(facts[name])) for name in names])
        content = Content(self.shape_number(db, names), store.codes_of(numbers), more)
        number = self.numbers_of(db, {content: store.digest(content, numbers)})[content]
        store.keep_merged(db, number)
        return number

    # ------------------------------------------------------------- reading

    def shape(self, db: sqlite3.Connection, number: int) -> tuple[str, ...]:
        """The facts of a shape, in the order of the codes."""
        found = self._shapes.get(number)
        if found is None:
            found = bounded(self._shapes)[number] = store.shape_facts(db, number)
        return found

    def kept(self, db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, Content]:
        """Contents as they are kept, by number."""
        found, missing = held_of(self._kept, numbers)
        if missing:
            rows = store.rows(db, missing)
            bounded(self._kept).update(rows)
            found |= rows
        return found

    def value(self, db: sqlite3.Connection, number: int) -> Any:
        """A value as JSON holds it."""
        return self.values(db, [number])[number]

    def values(self, db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, Any]:
        """Values as JSON holds them, by number."""
        found, missing = held_of(self._values, numbers)
        if missing:
            texts, unread = held_of(self._texts, missing)
            if unread:
                read = value_store.by_number(db, unread)
                bounded(self._texts, MOST_VALUES).update(read)
                texts |= read
            parsed = {number: json.loads(texts[number]) for number in missing}
            bounded(self._values, MOST_VALUES).update(parsed)
            found |= parsed
        return found

    def decoded(self, db: sqlite3.Connection, number: int) -> SourceContent:
        found = self._by_number.get(number)
        if found is None:
            found = bounded(self._by_number, MOST_DECODED)[number] = self._decode(db, self.kept(db, [number])[number])
        return found

    def _decode(self, db: sqlite3.Connection, content: Content) -> SourceContent:
        codes = numbers_in(content.codes)
        values = self.values(db, codes)
        facts = {name: values[code] for name, code in zip(self.shape(db, content.shape), codes, strict=True)}
        more = json.loads(content.more) if content.more else {}
        return SourceContent(facts, more.get("verdicts", {}), more.get("texts"))

    def columns(self, db: sqlite3.Connection, readings: Sequence[NewReading]) -> NewReadings:
        """Readings as columns."""
        kept = self.kept(db, {new.content for new in readings})
        contents = [kept[new.content] for new in readings]
        return NewReadings(
            [new.device for new in readings],
            [new.source for new in readings],
            [new.taken_at for new in readings],
            [new.content for new in readings],
            contents,
            [numbers_in(content.codes) for content in contents],
            [new.about or {} for new in readings],
        )

    def by_source(self, db: sqlite3.Connection, current: CurrentContents) -> dict[str, ContentByTime]:
        """Source -> what it says now. The contents are shared: they are not to be changed."""
        by_source: dict[str, ContentByTime] = {}
        for source, at, number in current:
            by_source.setdefault(source, {})[at] = self.decoded(db, number)
        return by_source

    # ------------------------------------------------------------- merging

    def merged(self, db: sqlite3.Connection, current: CurrentContents, new: NewReading) -> CurrentContents:
        """What each source says of a device once `new` is applied."""
        if not current:
            return [(new.source, new.taken_at, new.content)]
        mine = sorted((at, number) for source, at, number in current if source == new.source)
        times = sorted({*(at for at, _ in mine), new.taken_at})
        place = times.index(new.taken_at)
        key = (tuple(number for _, number in mine), place, len(times), new.content)
        if key not in self._merged:
            bounded(self._merged)[key] = self._merge(db, mine, times, new)
        kept = zip(times, self._merged[key], strict=True)
        others = [one for one in current if one[0] != new.source]
        return sorted([*others, *((new.source, at, number) for at, number in kept if number is not None)])

    def _merge(
        self, db: sqlite3.Connection, mine: Sequence[tuple[str, int]], times: Sequence[str], new: NewReading
    ) -> tuple[int | None, ...]:
        """For each time, the number of the content that still stands; None if nothing of it does."""
        if len(mine) == 1 and mine[0][0] < new.taken_at and self.covers(db, new.content, mine[0][1]):
            return None, new.content
        merged = merge(
            {at: self.decoded(db, number) for at, number in mine}, new.taken_at, self.decoded(db, new.content)
        )
        held = dict(mine) | {new.taken_at: new.content}
        return tuple(self._still(db, held[at], merged.get(at)) for at in times)

    def covers(self, db: sqlite3.Connection, new: int, old: int) -> bool:
        """Whether a content that is read later replaces an earlier one of its source: both hold facts only, and it has
        each fact of the earlier one.
        """
        held = self.kept(db, (new, old))
        return self.covers_content(db, held[new], held[old])

    def covers_content(self, db: sqlite3.Connection, new: Content, old: Content) -> bool:
        """As `covers`, given the contents themselves."""
        if new.more or old.more:
            return False
        return new.shape == old.shape or set(self.shape(db, old.shape)) <= set(self.shape(db, new.shape))

    def reports(self, db: sqlite3.Connection, number: int) -> bool:
        """Whether a content says which failures were reported in words, or that there were none."""
        return self.kept(db, (number,))[number].more != "" and self.decoded(db, number).texts is not None

    def _still(self, db: sqlite3.Connection, number: int, content: SourceContent | None) -> int | None:
        if content is None:
            return None
        if content == self.decoded(db, number):
            return number
        return self.number_of(db, content.facts, store.more_of(content.verdicts, None, content.texts))


_MISSING: Any = object()


def held_of(held: Mapping[int, _Value], numbers: Iterable[int]) -> tuple[dict[int, _Value], list[int]]:
    """The values held under these numbers, and the numbers that are not held. Another thread may empty `held` at any
    time.
    """
    found, missing = {}, []
    for number in numbers:
        value = held.get(number, _MISSING)
        if value is _MISSING:
            missing.append(number)
        else:
            found[number] = value
    return found, missing


def bounded(held: dict[_Key, _Value], most: int = MOST_HELD) -> dict[_Key, _Value]:
    """The dictionary, emptied first if it has grown to `most` entries."""
    if len(held) >= most:
        held.clear()
    return held


def current_contents(record: Record) -> CurrentContents:
    return contents_in(record.current_contents, record.last_read_at)


def contents_in(text: str, last_read_at: str) -> CurrentContents:
    """What `contents_text` has written."""
    if text[0] != "[":
        source, number, *_ = text.split(" ")
        return [(source, last_read_at, int(number))]
    return [(source, at, number) for source, at, number in json.loads(text)]


class SoleWord(NamedTuple):
    """What the one source of a device says. `shape` is that of its content; None where that is to be looked up."""

    source: str
    taken_at: str
    content: int
    shape: int | None


def sole_word(record: Record) -> SoleWord | None:
    """What the one source of a device says. None if there are several contents, or none."""
    text = record.current_contents
    if text[0] != "[":
        source, number, *shape = text.split(" ")
        return SoleWord(source, record.last_read_at, int(number), int(shape[0]) if shape else None)
    current = current_contents(record)
    return SoleWord(*current[0], None) if len(current) == 1 else None


def contents_text(current: CurrentContents, last_read_at: str) -> str:
    """What each source says of a device, whose newest reading is of `last_read_at`, as the row keeps it.

    JSON, [[source, time, number of the content], ...]; where one alone speaks in the newest reading, "source number",
    or as `word_text` has it.
    """
    if len(current) == 1 and current[0][1] == last_read_at:
        return f"{current[0][0]} {current[0][2]}"
    return store.value_text(current)


def word_text(source: str, content: int, shape: int) -> str:
    """As `contents_text`, where one source alone speaks in the newest reading, and says facts only: their shape too."""
    return f"{source} {content} {shape}"


def guarded(about: Mapping[str, Any], record: Record | None, number: int | None, *, obeyed: bool) -> Mapping[str, Any]:
    """What a reading may change of the device itself.

    Unless the import is `obeyed`, attributes that rules rest on stay as they are on a device that was known before
    import `number`.
    """
    return about if obeyed or is_new_to(record, number) else without_guarded(about)


def is_new_to(record: Record | None, number: int | None) -> bool:
    """Whether a device was not known before import `number`, given its row."""
    return record is None or (number is not None and record.last_import_id == number)


def without_guarded(about: Mapping[str, Any]) -> Mapping[str, Any]:
    """What anybody's reading may change of the device itself."""
    return {name: value for name, value in about.items() if name not in GUARDED}


def apply_readings(
    db: sqlite3.Connection,
    contents: ContentCache,
    readings: Iterable[NewReading],
    now: dict[str, tuple[Record, CurrentContents]],
    at: str,
    number: int | None,
    obeyed: bool = True,
) -> list[tuple[str, str]]:
    """Add readings, in their order, to the rows in `now`; a device that was not known gets one.

    `number` is the import that they come with; for `obeyed` see `guarded`. Returns (device, source) of those whose
    failure messages may differ.
    """
    reporting = []
    for new in readings:
        device, source, taken_at, content, about = new
        held = now.get(device)
        if held is None:
            current = [(source, taken_at, content)]
            record = device_store.new_record(device, at)
        else:
            record, before = held
            current = contents.merged(db, before, new)
            if any(contents.reports(db, one) for name, _, one in before if name == source):
                reporting.append((device, source))
        if contents.reports(db, content):
            reporting.append((device, source))
        own = guarded(about or {}, record if held else None, number, obeyed=obeyed)
        last = max(record.last_read_at, taken_at)
        text = contents_text(current, last)
        record = record._replace(
            current_contents=text, last_import_id=number or record.last_import_id, last_read_at=last, **own
        )
        now[device] = record, current
    return reporting


def keep(
    db: sqlite3.Connection,
    contents: ContentCache,
    readings: NewReadings,
    now: Mapping[str, tuple[Record, CurrentContents]],
    reporting: Iterable[tuple[str, str]],
    number: int | None,
    changed: Collection[str],
    held: Mapping[str, Record],
) -> None:
    """Write the history of the readings, and failure messages. The devices' rows are written already.

    `changed` are the devices that are new or have moved; `held` are the rows as they were before.
    """
    last = {device: record.last_read_at for device, record in held.items()}
    keys = zip(readings.devices, readings.sources, readings.times, strict=True)
    store.release(db, device_store.contents_read(db, [key for key in keys if key[2] <= last.get(key[0], "")]))
    device_store.add_readings(
        db,
        zip(
            readings.devices,
            readings.sources,
            readings.times,
            readings.numbers,
            repeat(number),
            map(changed.__contains__, readings.devices),
        ),
    )
    for device, source in reporting:
        mine = contents.by_source(db, now[device][1]).get(source, {})
        device_store.keep_texts(db, device, source, current_texts(mine))


def without_older(db: sqlite3.Connection, contents: ContentCache, record: Record, fact: str, before: str) -> Record:
    """The row without values of a fact that are older than a time: something has changed it since."""
    kept: CurrentContents = []
    for source, held in contents.by_source(db, current_contents(record)).items():
        for at, content in drop_older(held, fact, before).items():
            number = contents.number_of(db, content.facts, store.more_of(content.verdicts, None, content.texts))
            kept.append((source, at, number))
    return record._replace(current_contents=contents_text(sorted(kept), record.last_read_at))


def batches(items: Iterable[_Value], size: int) -> Iterator[list[_Value]]:
    """Items in lists of at most `size`."""
    rest = iter(items)
    while part := list(islice(rest, size)):
        yield part
