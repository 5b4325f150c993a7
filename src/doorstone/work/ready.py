"""What an import has checked, on its way to the records: one file of readings, and one of what they say.

A reading is a line of device, source, time, the number of its content in the other file, and what it says of the
device itself. Each content stands once for every `MOST_HELD` that differ, in the order in which readings need them.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from doorstone.core.facts import dump
from doorstone.formats.quick_lines import about_values
from doorstone.formats.records import Content, ReadingRecord
from doorstone.store.said import body_of

MOST_HELD = 20_000


class ReadyReading(NamedTuple):
    """A reading as it was checked; `body` is its content as text."""

    device: str
    source: str
    taken_at: str
    body: str
    about: dict[str, Any] | None


class ReadyWriter:
    """Writes both files; to be closed."""

    def __init__(self, readings: Path, contents: Path) -> None:
        self._readings = readings.open("w", encoding="utf-8")
        self._contents = contents.open("w", encoding="utf-8")
        self._numbers: dict[int, tuple[Content, int]] = {}
        self._abouts: dict[int, tuple[Mapping[str, str], str]] = {}
        self._next = 0

    def write(self, records: Iterable[ReadingRecord]) -> None:
        self._readings.writelines(
            f"{r.device}\t{r.source}\t{r.taken_at}\t{self._number(r.content)}\t{self._told(r.about)}\n" for r in records
        )

    def _number(self, content: Content) -> int:
        held = self._numbers.get(id(content))  # held with its number, so that its id stays its own
        if held is not None:
            return held[1]
        facts = {name: dump(value) for name, value in content.facts.items()}
        self._contents.write(body_of(facts, content.verdicts, content.unread, content.texts) + "\n")
        if len(self._numbers) >= MOST_HELD:
            self._numbers.clear()
        self._numbers[id(content)] = content, self._next
        self._next += 1
        return self._next - 1

    def _told(self, about: Mapping[str, str]) -> str:
        if not about:
            return ""
        held = self._abouts.get(id(about))
        if held is None:
            if len(self._abouts) >= MOST_HELD:
                self._abouts.clear()
            held = self._abouts[id(about)] = about, json.dumps(about_values(about))
        return held[1]

    def close(self) -> None:
        self._readings.close()
        self._contents.close()


def read_ready(readings: Path, contents: Path, after: int = 0) -> Iterator[ReadyReading]:
    """The readings in their order, without the first `after`."""
    with readings.open(encoding="utf-8") as lines, contents.open(encoding="utf-8") as bodies:
        held: dict[int, str] = {}
        last = -1
        abouts: dict[str, dict[str, Any] | None] = {"": None}
        for at, line in enumerate(lines):
            device, source, taken_at, number_text, about = line.rstrip("\n").split("\t")
            number = int(number_text)
            while last < number:
                last += 1
                held[last] = next(bodies).rstrip("\n")
                held.pop(last - 2 * MOST_HELD, None)
            if at < after:
                continue
            if about not in abouts:
                if len(abouts) >= MOST_HELD:
                    abouts = {"": None}
                abouts[about] = json.loads(about)
            yield ReadyReading(device, source, taken_at, held[number], abouts[about])
