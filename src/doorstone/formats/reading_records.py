"""What reading a file gives: records, each one reading of a device, and problems that name the line."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from datetime import datetime
from types import MappingProxyType
from typing import Any

import msgspec
from msgspec import Struct, field

from doorstone.core.facts import FactValue, Reading
from doorstone.core.readings.value_table import ValueTable

_NOTHING: Mapping[str, Any] = MappingProxyType({})
DEVICE_ID = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


class Content(msgspec.Struct, frozen=True, gc=False):
    """What a reading says, whoever reports it of whichever device: facts as a shape and numbers in a table of values.

    `texts` are failures in the source's own words, None if the file does not speak of them; `unread` maps a fact to why
    it could not be read.
    """

    table: ValueTable
    shape: int
    numbers: tuple[int, ...]
    verdicts: Mapping[str, bool] = _NOTHING
    texts: tuple[str, ...] | None = None
    unread: Mapping[str, str] = _NOTHING

    @property
    def facts(self) -> dict[str, FactValue]:
        return self.table.facts(self.shape, self.numbers)


class ReadingRecord(msgspec.Struct, gc=False):
    """One reading of one device. `taken_at` is ISO 8601 in UTC; `about` is what the file says of the device itself."""

    line: int
    device: str
    source: str
    taken_at: str
    content: Content
    about: Mapping[str, str]

    @property
    def reading(self) -> Reading:
        return Reading(self.source, datetime.fromisoformat(self.taken_at), self.content.facts, self.content.verdicts)


class Rest(Struct, frozen=True, gc=False):
    """What a reading says beside facts, as in `Content`."""

    verdicts: Mapping[str, bool] = _NOTHING
    texts: tuple[str, ...] | None = None
    unread: Mapping[str, str] = _NOTHING


class ReadingColumns(Struct):
    """Readings whose values stand in one table, column by column: each is what stands at one place of all of them.

    `lines` say where they come from; `shapes` and `numbers` are their facts in the table; `rest` holds by its place
    what one says beside facts, as few do. Otherwise as in `ReadingRecord`.
    """

    table: ValueTable
    lines: list[int] = field(default_factory=list)
    devices: list[str] = field(default_factory=list)
    sources: list[str] = field(default_factory=list)
    times: list[str] = field(default_factory=list)
    abouts: list[Mapping[str, str]] = field(default_factory=list)
    shapes: list[int] = field(default_factory=list)
    numbers: list[tuple[int, ...]] = field(default_factory=list)
    rest: dict[int, Rest] = field(default_factory=dict)

    def without(self, places: Collection[int]) -> ReadingColumns:
        """These but for those at some places."""
        if not places:
            return self
        kept = [place for place in range(len(self.lines)) if place not in places]
        return ReadingColumns(
            self.table,
            [self.lines[place] for place in kept],
            [self.devices[place] for place in kept],
            [self.sources[place] for place in kept],
            [self.times[place] for place in kept],
            [self.abouts[place] for place in kept],
            [self.shapes[place] for place in kept],
            [self.numbers[place] for place in kept],
            {now: self.rest[was] for now, was in enumerate(kept) if was in self.rest} if self.rest else {},
        )

    def records(self) -> Iterator[ReadingRecord]:
        """The readings one by one."""
        rows = zip(
            self.lines, self.devices, self.sources, self.times, self.abouts, self.shapes, self.numbers, strict=True
        )
        for place, (line, device, source, taken_at, about, shape, numbers) in enumerate(rows):
            rest = self.rest.get(place, _NO_REST)
            content = Content(self.table, shape, numbers, rest.verdicts, rest.texts, rest.unread)
            yield ReadingRecord(line, device, source, taken_at, content, about)


_NO_REST = Rest()


class ImportProblem(Struct, frozen=True):
    """One thing wrong with an import: the line (of JSON the item), the field or column, what is wrong, the hint.

    A `fatal` one concerns the file as a whole: no line of it can be used.
    """

    line: int
    place: str
    message: str
    hint: str
    word: str = "line"
    fatal: bool = False

    @property
    def where(self) -> str:
        return f"{self.word} {self.line}, {self.place}"

    def __str__(self) -> str:
        return f"{self.where}: {self.message}. {self.hint}"


def about_values(about: Mapping[str, str]) -> dict[str, str | int]:
    """What a file says of the device itself, as it is kept: `critical` as 0 or 1."""
    values: dict[str, str | int] = dict(about)
    if "critical" in about:
        values["critical"] = int(about["critical"].lower() in {"yes", "true", "1", "on"})
    return values
