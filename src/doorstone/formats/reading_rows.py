"""Rows of any form of file, each an object of a reading: checked, and their facts coded, many at a time."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from difflib import get_close_matches
from operator import itemgetter
from typing import Any

from msgspec import Struct, field

from doorstone.core.facts import FactError, FactSpec
from doorstone.core.readings.value_table import ValueTable
from doorstone.core.text import escaped, hidden_character
from doorstone.formats.mapping import ABOUT, ROW, CellError
from doorstone.formats.reading_records import DEVICE_ID, ReadingColumns, Rest

_VERDICTS = {"pass": True, "fail": False, "true": True, "false": False, "yes": True, "no": False}
MOST_TEXT = 500
MOST_VALUES = 100_000
MOST_ALIKE = 10_000
_WORDS = frozenset({str, type(None)})
_PLAIN_KEYS = frozenset({*ROW, *ABOUT, "facts"})
_KEYS = frozenset({*_PLAIN_KEYS, "verdicts", "texts", "unread"})
_NO_FACTS: Mapping[str, Any] = {}
_NONE: tuple[int, tuple[int, ...]] = (-1, ())
_AN_OBJECT = 'Write {"device": ..., "source": ..., "facts": {...}}'
_OBJECTS, _FACTS = "facts, verdicts and unread are objects", 'Write "facts": {"memory.mib": 8192}'
_NO_TEXT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff]")  # control characters, halves of one
_is_id = DEVICE_ID.fullmatch
_SECONDS = len("2027-01-18T09:30:00")


class Rows(Struct):
    """Rows of a file that are checked together, by number: each an object, or what is wrong with it.

    In `odd` ones stand characters that need a look.
    """

    numbers: list[int] = field(default_factory=list)
    held: list[Any] = field(default_factory=list)
    odd: set[int] = field(default_factory=set)


_Frame = tuple[str, str, str, Mapping[str, str], Mapping[str, Any], Rest | None]
"""A row that is checked: device, source, time, what it says of the device itself, facts not yet coded, what else."""


class RowReader:
    """Reads the rows of a stream. Once the table of values is large, the next begins.

    Sources, and what is said of devices themselves, are looked at once each: few differ.
    """

    def __init__(self, specs: Mapping[str, FactSpec]) -> None:
        self.specs = specs
        self._table = ValueTable(specs)
        self._sources: set[str] = set()
        self._abouts: dict[tuple[Any, ...], dict[str, str]] = {}

    def read(self, rows: Rows) -> tuple[ReadingColumns, list[tuple[int, CellError]]]:
        """The readings of rows, and what is wrong with the others, by the row's number."""
        if len(self._table.values) > MOST_VALUES:
            self._table = ValueTable(self.specs)
        found, wrong = ReadingColumns(self._table), list[tuple[int, CellError]]()
        facts = list[Mapping[str, Any]]()
        odd = rows.odd
        for number, row in zip(rows.numbers, rows.held, strict=True):
            try:
                device, source, taken_at, about, held, rest = self._frame(row, number not in odd)
            except CellError as error:
                wrong.append((number, error))
                continue
            if rest is not None:
                found.rest[len(facts)] = rest
            found.lines.append(number)
            found.devices.append(device)
            found.sources.append(source)
            found.times.append(taken_at)
            found.abouts.append(about)
            facts.append(held)
        coded = self._table.coded_all(facts)
        unread = {place for place, codes in enumerate(coded) if codes is None}
        wrong += [(found.lines[place], self._wrong_fact(facts[place])) for place in sorted(unread)]
        found.shapes, found.numbers = [(codes or _NONE)[0] for codes in coded], [(codes or _NONE)[1] for codes in coded]
        return found.without(unread), sorted(wrong, key=itemgetter(0))

    def _frame(self, row: Any, plain: bool) -> _Frame:
        if not isinstance(row, dict):
            raise row if isinstance(row, CellError) else CellError("line", "Not an object", _AN_OBJECT)
        if not row.keys() <= _KEYS:
            extra = sorted(row.keys() - _KEYS)
            raise CellError(extra[0], f"Unknown key {extra[0]!r}", "Facts go under 'facts'")
        for place, text in () if plain else _words_of("line", row):
            if bad := _NO_TEXT.search(text):
                raise CellError(place, f"U+{ord(bad[0]):04X} is no character of a text", "Write it without")
        device, source, taken_at = _word(row, "device"), self._source(row), _time(row.get("taken_at", ""))
        facts = row.get("facts", _NO_FACTS)
        rest = None if _PLAIN_KEYS.issuperset(row) else _rest(row)
        if type(facts) is not dict:
            raise CellError("facts", _OBJECTS, _FACTS)
        if not facts and (rest is None or not (rest.verdicts or rest.texts is not None)):
            raise CellError("facts", "The reading is empty", "Give at least one fact, verdict or text")
        return device, source, taken_at, self._about(row), facts, rest

    def _source(self, row: Mapping[str, Any]) -> str:
        found = row.get("source")
        if type(found) is str and found in self._sources:
            return found
        word = _word(row, "source")
        if len(self._sources) < MOST_ALIKE:
            self._sources.add(word)
        return word

    def _about(self, row: Mapping[str, Any]) -> dict[str, str]:
        """What a row says of the device itself: shared by those that say the same, so not to be changed."""
        words = tuple(map(row.get, ABOUT))
        try:
            found = self._abouts.get(words)
        except TypeError:  # a list or an object
            return _about(words)
        if found is None:
            found = _about(words)
            if len(self._abouts) < MOST_ALIKE and _WORDS.issuperset(map(type, words)):
                self._abouts[words] = found
        return found

    def _wrong_fact(self, raw: Mapping[str, Any]) -> CellError:
        """What is wrong with the first of these facts that cannot be read."""
        for name, value in raw.items():
            if name not in self.specs:
                near = get_close_matches(name, list(self.specs), 1, 0.6)
                return CellError(name, f"Unknown fact {name!r}", f"Did you mean {near[0]}?" if near else "Remove it")
            if value is not None:
                try:
                    self.specs[name].parse(value)
                except FactError as error:
                    return CellError(name, error.message, error.hint)
        raise AssertionError("every fact can be read")


def _rest(row: Mapping[str, Any]) -> Rest:
    """What a row says beside facts."""
    facts, verdicts, unread = row.get("facts", {}), row.get("verdicts", {}), row.get("unread", {})
    if not (isinstance(facts, dict) and isinstance(verdicts, dict) and isinstance(unread, dict)):
        raise CellError("facts", _OBJECTS, _FACTS)
    return Rest(_verdicts(verdicts), _texts(row["texts"]) if "texts" in row else None, _reasons(unread))


def _about(words: Iterable[Any]) -> dict[str, str]:
    found = {name: str(value)[:200] for name, value in zip(ABOUT, words, strict=True) if value is not None}
    for name, text in found.items():
        if hidden := hidden_character(text):
            raise CellError(name, f"The text has the character {hidden}, which changes how text is shown", "Remove it")
    return found


def _time(text: Any) -> str:
    """A time as it is kept: ISO 8601 in UTC, to the second."""
    try:
        found = datetime.fromisoformat(text)
        if len(text) == _SECONDS and found.isoformat() == text:
            return str(text)
        if found.tzinfo is not None:
            found = found.astimezone(UTC).replace(tzinfo=None)
    except (ValueError, OverflowError, TypeError) as error:
        message = f"{text!r} is not a time" if text else "It is missing"
        raise CellError("taken_at", message, "Write it as 2027-01-18T09:30:00") from error
    return found.replace(microsecond=0).isoformat()


def _words_of(place: str, value: Any) -> Iterator[tuple[str, str]]:
    """Every text in a value, keys too, each with the key under which it stands."""
    if isinstance(value, str):
        yield place, value
    elif isinstance(value, dict):
        for key, held in value.items():
            yield place, key
            yield from _words_of(key, held)
    elif isinstance(value, list):
        for held in value:
            yield from _words_of(place, held)


def _word(row: Mapping[str, Any], name: str) -> str:
    value = row.get(name)
    if isinstance(value, str) and not _is_id(value):
        value = value.strip()
    if not isinstance(value, str) or not _is_id(value):
        message = f"{value!r} is not a {name} id" if value else "It is missing"
        raise CellError(name, message, "Use letters, digits, dot, dash and underscore, up to 64")
    return value


def _texts(raw: Any) -> tuple[str, ...] | None:
    if raw is None:
        return None
    if not isinstance(raw, list) or not all(isinstance(text, str) for text in raw):
        raise CellError("texts", "texts is a list of failures in words", 'Write "texts": ["The chip was not found."]')
    found = tuple(dict.fromkeys(re.sub(r"\s+", " ", text).strip() for text in raw if text.strip()))
    if any(len(text) > MOST_TEXT or not text.isprintable() for text in found) or len(found) > 50:
        message = f"more than 50 texts, or one over {MOST_TEXT} characters or with control characters"
        raise CellError("texts", message, "Shorten it")
    return found


def _reasons(unread: Mapping[str, Any]) -> dict[str, str]:
    """Why facts could not be read, by fact."""
    return {escaped(str(n))[:100]: escaped(str(reason))[:MOST_TEXT] for n, reason in list(unread.items())[:200]}


def _verdicts(raw: Mapping[str, Any]) -> dict[str, bool]:
    verdicts = {}
    for name, word in raw.items():
        if hidden := hidden_character(str(name)):
            raise CellError(
                "verdicts", f"A name has the character {hidden}, which changes how text is shown", "Remove it"
            )
        if str(word).lower() not in _VERDICTS:
            raise CellError(f"verdict:{name}", f"{word!r} is no verdict", "Write pass or fail")
        verdicts[str(name)[:64]] = _VERDICTS[str(word).lower()]
    return verdicts
