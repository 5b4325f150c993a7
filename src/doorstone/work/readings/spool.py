"""The spool of an import: what was checked and is not yet applied, in blocks that can be read one by one.

Each distinct value stands in it once, in the first block that needs it; a reading is device, source, time, and
numbers: of the facts that it has, of their values, of what it says of the device itself.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from operator import attrgetter
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from doorstone.core.facts import dump
from doorstone.core.readings.value_table import ValueTable
from doorstone.formats.reading_records import Content, ReadingRecord, about_values
from doorstone.store.readings.contents import more_of, value_text

_SIZE = 8  # bytes before each block that give its length
_DEVICE = attrgetter("device")


class ReadyReading(msgspec.Struct, array_like=True, gc=False):
    """`shape` and `values` are numbers in the spool's tables, `about` is one in its block; `more` holds no facts."""

    device: str
    source: str
    taken_at: str
    shape: int
    values: tuple[int, ...]
    more: str
    about: int


class Block(msgspec.Struct, array_like=True):
    """Readings, and what they are the first to say: `values` as a fact and JSON, `shapes` as names of facts.

    A `fresh` block begins new tables of values and shapes. `abouts` are as they are kept.
    """

    fresh: bool
    values: list[tuple[str, str]]
    shapes: list[list[str]]
    abouts: list[dict[str, str | int]]
    readings: list[ReadyReading]


class ReadyWriter:
    """Writes the spool; to be closed."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("wb")
        self._digest = hashlib.sha256()
        self._table: ValueTable | None = None
        self._values = self._shapes = 0

    def write(self, records: Sequence[ReadingRecord]) -> None:
        """Write a block, or two where the records' table of values changes."""
        readings: list[ReadyReading] = []
        abouts: dict[tuple[tuple[str, str], ...], int] = {}
        known: dict[int, int] = {}  # of what is said of devices: most say it in one object
        fresh = False
        for record in records:
            content = record.content
            if content.table is not self._table:
                if readings:
                    self._write(readings, abouts, fresh)
                    readings, abouts, known = [], {}, {}
                self._table, self._values, self._shapes, fresh = content.table, 0, 0, True
            about = known.get(id(record.about))
            if about is None:
                about = known[id(record.about)] = abouts.setdefault(tuple(record.about.items()), len(abouts))
            readings.append(
                ReadyReading(
                    record.device, record.source, record.taken_at, content.shape, content.numbers, _more(content), about
                )
            )
        if readings:
            self._write(readings, abouts, fresh)

    def _write(self, readings: list[ReadyReading], abouts: Iterable[tuple[tuple[str, str], ...]], fresh: bool) -> None:
        assert self._table is not None
        values, shapes = self._table.values, self._table.shapes
        block = Block(
            fresh,
            [(name, value_text(dump(value))) for name, value in values[self._values :]],
            [list(names) for names in shapes[self._shapes :]],
            [about_values(dict(about)) for about in abouts],
            sorted(readings, key=_DEVICE),  # rows of the records that stand side by side are written together
        )
        self._values, self._shapes = len(values), len(shapes)
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


def _more(content: Content) -> str:
    if not content.verdicts and not content.unread and content.texts is None:
        return ""
    return more_of(content.verdicts, content.unread, content.texts)


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
                block = decode(file.read(int.from_bytes(size, "big")))
                if block.fresh:
                    self.table, self.values, self.shapes = self.table + 1, [], []
                self.values += block.values
                self.shapes += map(tuple, block.shapes)
                skipped = min(after, len(block.readings))
                after -= skipped
                block.readings = block.readings[skipped:]
                if block.readings:
                    yield block

    def readings(self) -> Iterator[CheckedReading]:
        """The readings one by one, with their facts."""
        for block in self.blocks():
            for one in block.readings:
                texts = [self.values[number][1] for number in one.values]
                facts = zip(self.shapes[one.shape], map(msgspec.json.decode, texts), strict=True)
                yield CheckedReading(one.device, one.source, one.taken_at, dict(facts))


class CheckedReading(NamedTuple):
    """A reading with the facts that it holds, their values as JSON holds them."""

    device: str
    source: str
    taken_at: str
    facts: dict[str, Any]
