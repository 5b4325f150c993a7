"""The spool of an import: what was checked and is not yet applied, in blocks that can be read one by one.

A block holds readings, each as device, source, time and two numbers: of what it says, and of what it says of the
device itself. What several readings of a block say stands in it once.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from doorstone.core.facts import dump
from doorstone.formats.reading_records import Content, ReadingRecord, about_values
from doorstone.store.readings.contents import body_of

MOST_HELD = 20_000
_SIZE = 8  # bytes before each block that give its length

ReadyReading = tuple[str, str, str, int, int]
"""Device, source, time, number of the content in the block, number of what is said of the device itself."""


class Block(msgspec.Struct, array_like=True):
    """Readings, and what they say: contents as text, and what is said of devices themselves, as it is kept."""

    readings: list[ReadyReading]
    bodies: list[str]
    abouts: list[dict[str, str | int]]


class ReadyWriter:
    """Writes the file; to be closed."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("wb")
        self._digest = hashlib.sha256()
        self._bodies: dict[int, tuple[Content, str]] = {}

    def write(self, records: Iterable[ReadingRecord]) -> None:
        """Write a block. Records that share a content, or what they say of devices, share the very object."""
        contents: dict[int, tuple[int, Content]] = {}
        abouts: dict[int, tuple[int, Any]] = {}
        readings = []
        for record in records:
            content, about = record.content, record.about
            said = contents.get(id(content))
            if said is None:
                said = contents[id(content)] = len(contents), content
            of_it = abouts.get(id(about))
            if of_it is None:
                of_it = abouts[id(about)] = len(abouts), about
            readings.append((record.device, record.source, record.taken_at, said[0], of_it[0]))
        bodies = [self._body(content) for _, content in contents.values()]
        block = Block(readings, bodies, [about_values(about) for _, about in abouts.values()])
        raw = msgspec.msgpack.encode(block)
        whole = len(raw).to_bytes(_SIZE, "big") + raw
        self._file.write(whole)
        self._digest.update(whole)

    def _body(self, content: Content) -> str:
        held = self._bodies.get(id(content))  # held with its text, so that its id stays its own
        if held is None:
            if len(self._bodies) >= MOST_HELD:
                self._bodies.clear()
            facts = {name: dump(value) for name, value in content.facts.items()}
            body = body_of(facts, content.verdicts, content.unread, content.texts)
            held = self._bodies[id(content)] = content, body
        return held[1]

    def close(self) -> None:
        """Have everything on the disk."""
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()

    def digest(self) -> str:
        """SHA-256 of what was written."""
        return self._digest.hexdigest()


def read_ready(path: Path, after: int = 0) -> Iterator[Block]:
    """The blocks in their order, without the first `after` readings."""
    decode = msgspec.msgpack.Decoder(Block).decode
    with path.open("rb") as file:
        while size := file.read(_SIZE):
            block = decode(file.read(int.from_bytes(size, "big")))
            if after < len(block.readings):
                yield Block(block.readings[after:], block.bodies, block.abouts) if after else block
            after = max(0, after - len(block.readings))


class Told(NamedTuple):
    """A reading with what it says: its content as text, and what it says of the device itself."""

    device: str
    source: str
    taken_at: str
    body: str
    about: dict[str, str | int]


def told(blocks: Iterable[Block]) -> Iterator[Told]:
    """The readings of blocks, one by one."""
    for block in blocks:
        for device, source, taken_at, said, of_it in block.readings:
            yield Told(device, source, taken_at, block.bodies[said], block.abouts[of_it])
