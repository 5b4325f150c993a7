"""The spool of an import: what was checked and is not yet applied, in blocks that can be read one by one.

Each distinct value stands in it once, in the first block that needs it; a reading is device, source, time, and
numbers: of the facts that it has, of their values, of what it says of the device itself. A block holds them as columns.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby
from operator import attrgetter
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import msgspec

from doorstone.core.facts import dump
from doorstone.core.readings.value_table import ValueTable
from doorstone.formats.reading_records import ReadingColumns, about_values
from doorstone.store.readings.contents import more_of, value_text

_SIZE = 8  # bytes before each block that give its length


class Block(msgspec.Struct, array_like=True):
    """Readings as columns, and what they are the first to say: `values` as a fact and JSON, `shapes` as names of facts.

    A `fresh` block begins new tables of values and shapes. Of each reading, `shape` and `numbers` stand for numbers in
    these tables, `about` for one in `abouts`, which are as they are kept. `more` holds by place what is no fact.
    """

    fresh: bool
    values: list[tuple[str, str]]
    shapes: list[list[str]]
    abouts: list[dict[str, str | int]]
    devices: list[str]
    sources: list[str]
    times: list[str]
    shape: list[int]
    numbers: list[tuple[int, ...]]
    about: list[int]
    more: dict[int, str]

    def part(self, first: int, last: int) -> Block:
        """The readings from place `first` to before `last`."""
        cut = slice(first, last)
        more = {place - first: text for place, text in self.more.items() if first <= place < last}
        return Block(
            False, [], [], self.abouts, self.devices[cut], self.sources[cut], self.times[cut], self.shape[cut],
            self.numbers[cut], self.about[cut], more,
        )  # fmt: skip


class ReadyWriter:
    """Writes the spool; to be closed."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("wb")
        self._digest = hashlib.sha256()
        self._table: ValueTable | None = None
        self._values = self._shapes = 0

    def write(self, part: Sequence[ReadingColumns]) -> None:
        """Write a block, or more where the readings' table of values changes."""
        for table, alike in groupby([readings for readings in part if readings.lines], key=attrgetter("table")):
            self._write(table, list(alike))

    def _write(self, table: ValueTable, part: Sequence[ReadingColumns]) -> None:
        fresh = table is not self._table
        if fresh:
            self._table, self._values, self._shapes = table, 0, 0
        devices = [device for readings in part for device in readings.devices]
        order = sorted(
            range(len(devices)), key=devices.__getitem__
        )  # rows that stand side by side are written together
        abouts, about = _numbered([about for readings in part for about in readings.abouts])
        block = Block(
            fresh,
            [(name, value_text(dump(value))) for name, value in table.values[self._values :]],
            [list(names) for names in table.shapes[self._shapes :]],
            [about_values(dict(items)) for items in abouts],
            _ordered(devices, order),
            _ordered([source for readings in part for source in readings.sources], order),
            _ordered([at for readings in part for at in readings.times], order),
            _ordered([shape for readings in part for shape in readings.shapes], order),
            _ordered([numbers for readings in part for numbers in readings.numbers], order),
            _ordered(about, order),
            _more(part, order),
        )
        self._values, self._shapes = len(table.values), len(table.shapes)
        raw = msgspec.msgpack.encode(block)
        whole = len(raw).to_bytes(_SIZE, "big") + raw
        self._file.write(whole)
        self._digest.update(whole)

    def close(self) -> None:
        """Have everything on the disk."""
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()

    def digest(self) -> str:
        """SHA-256 of what was written."""
        return self._digest.hexdigest()


_Value = TypeVar("_Value")


def _ordered(column: Sequence[_Value], order: Sequence[int]) -> list[_Value]:
    return list(map(column.__getitem__, order))


def _numbered(abouts: Sequence[Mapping[str, str]]) -> tuple[list[tuple[tuple[str, str], ...]], list[int]]:
    """What is said of devices, each once, and for each reading which of it: most say it in one object."""
    numbers: dict[tuple[tuple[str, str], ...], int] = {}
    objects = dict(zip(map(id, abouts), abouts, strict=True))
    known = {key: numbers.setdefault(tuple(about.items()), len(numbers)) for key, about in objects.items()}
    return list(numbers), list(map(known.__getitem__, map(id, abouts)))


def _more(part: Sequence[ReadingColumns], order: Sequence[int]) -> dict[int, str]:
    """What readings say beside facts, by place in the block."""
    found, first = dict[int, str](), 0
    for readings in part:
        for place, rest in readings.rest.items():
            if text := more_of(rest.verdicts, rest.unread, rest.texts):
                found[first + place] = text
        first += len(readings.lines)
    return {now: found[was] for now, was in enumerate(order) if was in found} if found else {}


class SpoiledError(Exception):
    """A file of an import changed or vanished on the disk, or another version of the service wrote it."""


class ReadyReader:
    """Reads a spool. `values` and `shapes` are the tables of the block that was read last, `table` is their number."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.table = 0
        self.values: list[tuple[str, str]] = []
        self.shapes: list[tuple[str, ...]] = []

    def blocks(self, after: int = 0) -> Iterator[Block]:
        """The blocks in their order, without the first `after` readings."""
        decode = msgspec.msgpack.Decoder(Block).decode
        with self._path.open("rb") as file:
            while size := file.read(_SIZE):
                try:
                    block = decode(file.read(int.from_bytes(size, "big")))
                except msgspec.DecodeError as error:
                    raise SpoiledError(f"{self._path.name} was written by another version of the service") from error
                if block.fresh:
                    self.table, self.values, self.shapes = self.table + 1, [], []
                self.values += block.values
                self.shapes += map(tuple, block.shapes)
                held = len(block.devices)
                if after < held:
                    yield block.part(after, held) if after else block
                after = max(after - held, 0)

    def readings(self) -> Iterator[CheckedReading]:
        """The readings one by one, with their facts."""
        for block in self.blocks():
            rows = zip(block.devices, block.sources, block.times, block.shape, block.numbers, strict=True)
            for device, source, taken_at, shape, numbers in rows:
                texts = [self.values[number][1] for number in numbers]
                facts = zip(self.shapes[shape], map(msgspec.json.decode, texts), strict=True)
                yield CheckedReading(device, source, taken_at, dict(facts))


class CheckedReading(NamedTuple):
    """A reading with the facts that it holds, their values as JSON holds them."""

    device: str
    source: str
    taken_at: str
    facts: dict[str, Any]
