"""Lines of NDJSON as most of them are, read in one step: a file's lines are put alike and say what others said.

How a line is put, its keys, their order and the blanks between them, is learned from lines that were read in full.
A line is taken in one step only where nothing can differ from what a full look would make of it: it is put so to the
last character, its words are plain, its day is one of the calendar, and its content stood in a line that was read in
full before, character for character.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date

from doorstone.formats.mapping import ABOUT
from doorstone.formats.records import DEVICE_ID, Content, ReadingRecord

MOST_HELD = 20_000
MOST_LAYOUTS = 8
MOST_TRIES = 64  # at learning how lines are put
_NAME = f"({DEVICE_ID.pattern})"
_TIME = r"((\d{4}-\d\d-\d\d)T(?:[01]\d|2[0-3]):[0-5]\d:[0-5]\d)"
_WORDS: Mapping[str, str] = {
    "device": _NAME, "source": _NAME, "taken_at": _TIME, **dict.fromkeys(ABOUT, r'([^"\\\x00-\x1f\x7f]*)'),
}  # fmt: skip
_PARTS = ("facts", "verdicts", "texts", "unread")
_BLANKS = ((", ", ": "), (",", ":"))


@dataclass(slots=True)
class _Layout:
    """One way of putting a line. `wanted`: the groups of device, source, time, day, then of the parts and the words.

    A content is known by its parts as they stand, what a line says of the device itself by its words.
    """

    pattern: re.Pattern[str]
    wanted: tuple[int, ...]
    parts: int
    about: tuple[str, ...]
    contents: dict[tuple[str, ...], Content] = field(default_factory=dict)
    abouts: dict[tuple[str, ...], dict[str, str]] = field(default_factory=dict)


def _layout(keys: list[str], comma: str, colon: str) -> _Layout:
    """How a line with these keys is put with these blanks."""
    groups: dict[str, int] = {}
    words, at = [], 1
    for key in keys:
        groups[key] = at
        at += 2 if key == "taken_at" else 1
        value = f'"{_WORDS[key]}"' if key in _WORDS else "(.+)"
        words.append(f'"{key}"{colon}{value}')
    parts, about = [k for k in keys if k in _PARTS], tuple(k for k in keys if k in ABOUT)
    wanted = [groups["device"], groups["source"], groups["taken_at"], groups["taken_at"] + 1]
    wanted += [groups[key] for key in (*parts, *about)]
    pattern = re.compile(rf"\{{{comma.join(words)}\}}\r?\n?", re.ASCII)
    return _Layout(pattern, tuple(wanted), len(parts), about)


class QuickLines:
    """Reads lines, remembering contents as they stand. `thorough` reads a line in full and raises what is wrong."""

    def __init__(self, thorough: Callable[[int, bytes], ReadingRecord]) -> None:
        self._thorough = thorough
        self._layouts: list[_Layout] = []
        self._days: set[str] = set()
        self._tries = 0

    def read(self, number: int, line: bytes) -> ReadingRecord:
        try:
            text = line.decode()
        except UnicodeDecodeError:
            return self._thorough(number, line)
        for layout in self._layouts:
            if (found := layout.pattern.fullmatch(text)) is None:
                continue
            device, source, taken_at, day, *rest = found.group(*layout.wanted)
            parts, said = tuple(rest[: layout.parts]), tuple(rest[layout.parts :])
            content = layout.contents.get(parts)
            if content is None or (day not in self._days and not self._is_day(day)):
                break
            about = layout.abouts.get(said)
            if about is None:
                about = self._about(layout, said)
            return ReadingRecord(number, device, source, taken_at, content, about)
        return self._closely(number, line, text)

    def _is_day(self, day: str) -> bool:
        try:
            date.fromisoformat(day)
        except ValueError:
            return False
        self._days.add(day)
        return True

    @staticmethod
    def _about(layout: _Layout, said: tuple[str, ...]) -> dict[str, str]:
        if len(layout.abouts) >= MOST_HELD:
            layout.abouts.clear()
        about = layout.abouts[said] = {key: word[:200] for key, word in zip(layout.about, said, strict=True)}
        return about

    def _closely(self, number: int, line: bytes, text: str) -> ReadingRecord:
        """Read in full, and remember the content: the next line that says the same is quick."""
        record = self._thorough(number, line)
        layout = self._learned(text)
        if layout is not None and (found := layout.pattern.fullmatch(text)):
            if len(layout.contents) >= MOST_HELD:
                layout.contents.clear()
            layout.contents[found.group(*layout.wanted)[4 : 4 + layout.parts]] = record.content
        return record

    def _learned(self, text: str) -> _Layout | None:
        """How this good line is put, if it can be told; the way that was met last is tried first."""
        for at, layout in enumerate(self._layouts):
            if layout.pattern.fullmatch(text):
                self._layouts.insert(0, self._layouts.pop(at))
                return layout
        if self._tries >= MOST_TRIES:
            return None
        self._tries += 1
        keys = list(json.loads(text))
        spots = [at for at, key in enumerate(keys) if key in _PARTS]
        if spots[-1] - spots[0] >= len(spots):
            return None  # words between two parts could be taken for words inside of one
        for comma, colon in _BLANKS:
            layout = _layout(keys, comma, colon)
            if layout.pattern.fullmatch(text):
                self._layouts = [layout, *self._layouts[: MOST_LAYOUTS - 1]]
                return layout
        return None


def about_values(about: Mapping[str, str]) -> dict[str, str | int]:
    """What a file says of the device itself, as it is kept: `critical` as 0 or 1."""
    values: dict[str, str | int] = dict(about)
    if "critical" in about:
        values["critical"] = int(about["critical"].lower() in {"yes", "true", "1", "on"})
    return values
