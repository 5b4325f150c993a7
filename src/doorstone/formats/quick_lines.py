"""Lines of NDJSON as most of them are, read in one step. Out: the record, or None for what needs a closer look.

A line is taken only where it cannot differ from what the thorough way would make of it: no escapes, known keys,
none of them twice, plain times, contents that were read thoroughly before and stand here byte for byte.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

import msgspec

from doorstone.formats.records import DEVICE_ID, Content, ReadingRecord

MOST_HELD = 20_000
_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d", re.ASCII)
_Part = msgspec.Raw | msgspec.UnsetType
_About = str | msgspec.UnsetType
_UNSET = msgspec.UNSET


class _Line(msgspec.Struct, forbid_unknown_fields=True):
    device: str
    source: str
    taken_at: str
    facts: _Part = _UNSET
    verdicts: _Part = _UNSET
    texts: _Part = _UNSET
    unread: _Part = _UNSET
    name: _About = _UNSET
    site: _About = _UNSET
    role: _About = _UNSET
    critical: _About = _UNSET


class QuickLines:
    """Reads lines, remembering contents by their bytes. `thorough` reads a line in full and raises what is wrong."""

    def __init__(self, thorough: Callable[[int, bytes], ReadingRecord]) -> None:
        self._thorough = thorough
        self._decode = msgspec.json.Decoder(_Line).decode
        self._contents: dict[Any, tuple[Content, int]] = {}
        self._abouts: dict[tuple[_About, ...], tuple[dict[str, str], int]] = {}
        self._sources: set[str] = set()

    def read(self, number: int, line: bytes) -> ReadingRecord:
        if b"\\" in line:
            return self._thorough(number, line)
        try:
            found = self._decode(line)
        except (msgspec.MsgspecError, UnicodeDecodeError):
            return self._thorough(number, line)
        if found.verdicts is _UNSET and found.texts is _UNSET and found.unread is _UNSET and found.facts is not _UNSET:
            key: Any = bytes(found.facts)
        else:
            parts = (found.facts, found.verdicts, found.texts, found.unread)
            key = tuple(None if part is _UNSET else bytes(part) for part in parts)
        held = self._contents.get(key)
        if held is None or not self._plain(found):
            return self._closely(number, line, key)
        content, quotes = held
        about, told = self._about(found.name, found.site, found.role, found.critical)
        # Without escapes every quote opens or closes a word, so a key that stands twice shows as quotes too many.
        if line.count(b'"') != quotes + told + 12:
            return self._thorough(number, line)
        return ReadingRecord(number, found.device, found.source, found.taken_at, content, about)

    def _about(self, *given: _About) -> tuple[dict[str, str], int]:
        """What a line says of the device itself, and the quotes that it takes to say it."""
        held = self._abouts.get(given)
        if held is None:
            values = zip(("name", "site", "role", "critical"), given, strict=True)
            about = {name: value[:200] for name, value in values if isinstance(value, str)}
            if len(self._abouts) >= MOST_HELD:
                self._abouts.clear()
            held = self._abouts[given] = about, 4 * len(about)
        return held

    def _plain(self, found: _Line) -> bool:
        if found.source not in self._sources:
            if not DEVICE_ID.fullmatch(found.source) or len(self._sources) >= MOST_HELD:
                return False
            self._sources.add(found.source)
        if not DEVICE_ID.fullmatch(found.device) or not _TIME.fullmatch(found.taken_at):
            return False
        try:
            datetime.fromisoformat(found.taken_at)
        except ValueError:
            return False
        return True

    def _closely(self, number: int, line: bytes, key: Any) -> ReadingRecord:
        """Read in full, and remember the content: the next line that says the same is quick."""
        record = self._thorough(number, line)
        parts = key if isinstance(key, tuple) else (key, None, None, None)
        names = sum(2 for part in parts if part is not None)
        if len(self._contents) >= MOST_HELD:
            self._contents.clear()
        self._contents[key] = (record.content, names + sum(part.count(b'"') for part in parts if part is not None))
        return record


def about_values(about: Mapping[str, str]) -> dict[str, str | int]:
    """What a file says of the device itself, as it is kept: `critical` as 0 or 1."""
    values: dict[str, str | int] = dict(about)
    if "critical" in about:
        values["critical"] = int(about["critical"].lower() in {"yes", "true", "1", "on"})
    return values
