"""Reads the items of a JSON list one by one, so that a list of any length takes the memory of its largest item.

In: a stream of bytes. Out: numbered items, or what is wrong in their place. The list may stand in an object, as its
member `readings`; a lone object is one item where the caller says so. Nothing here raises for bad input.
"""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Iterator
from typing import Any, BinaryIO

from doorstone.formats.text_lines import FileError, json_decoder, json_fault

MOST_ITEM = 8 * 2**20
"""Characters of one item, or of a member beside the list."""
_PIECE = 1 << 16
_SPACE = re.compile(r"[ \t\r\n]*")
_UNFINISHED = re.compile(r"[-+.eE0-9]*")
"""What may stand behind a value to the end of what was read, and be the rest of a number."""
_WANTED = "one list of JSON objects"
_SHAPE = 'Write [ {...}, {...} ] or { "readings": [ ... ] }'


class _FoundError(Exception):
    def __init__(self, found: FileError) -> None:
        super().__init__(found.message)
        self.found = found


class _Text:
    """The text of a stream, read only as far as needed; text that was consumed is dropped."""

    def __init__(self, stream: BinaryIO, encoding: str) -> None:
        self._stream = stream
        self._decoder = codecs.getincrementaldecoder(encoding)()
        self._read = 0
        self._whole = False
        self.text = ""
        self.at = 0
        self._lines = self._columns = 0  # of what has been forgotten

    def more(self, size: int = _PIECE) -> bool:
        """Read some more; False at the end."""
        if self._whole:
            return False
        raw = self._stream.read(size)
        pending = len(self._decoder.getstate()[0])
        try:
            piece = self._decoder.decode(raw, final=not raw)
        except UnicodeDecodeError as error:
            at = self._read - pending + error.start + 1
            raise _FoundError(FileError("file", f"Byte {at} is not UTF-8", "Save the file as UTF-8")) from error
        self._read += len(raw)
        self._whole = not raw
        gone, kept = self.text[: self.at], self.text[self.at :]
        self._lines += gone.count("\n")
        self._columns = len(gone) - gone.rfind("\n") - 1 + (self._columns if "\n" not in gone else 0)
        self.text, self.at = kept + piece, 0
        return True

    def peek(self) -> str:
        """The next character that is not a space; empty at the end."""
        while True:
            self.at = _SPACE.match(self.text, self.at).end()  # type: ignore[union-attr]
            if self.at < len(self.text) or not self.more():
                return self.text[self.at : self.at + 1]

    def take(self, wanted: str) -> bool:
        """Pass the next character if it is this one."""
        if self.peek() != wanted:
            return False
        self.at += 1
        return True

    def value(self) -> Any:
        """The next JSON value."""
        self.peek()
        while True:
            try:
                found, end = json_decoder.raw_decode(self.text, self.at)
                if not _UNFINISHED.fullmatch(self.text, end) or not self.more():
                    self.at = end
                    return found
            except json.JSONDecodeError as error:
                if len(self.text) - self.at > MOST_ITEM:
                    message = f"An item is longer than {MOST_ITEM // 2**20} MiB"
                    raise _FoundError(FileError("file", message, "Write one object a line")) from error
                if not self.more(max(_PIECE, len(self.text) - self.at)):
                    raise self.fault(error) from error
            except (ValueError, RecursionError) as error:
                raise self.fault(error) from error

    def fault(self, error: ValueError | RecursionError) -> _FoundError:
        found = json_fault(error, self.text, _WANTED, self._lines, self._columns)
        return _FoundError(FileError(found.place, found.message, found.hint))

    def expected(self, mark: str) -> _FoundError:
        """What is wrong where another mark had to follow."""
        at = self.at if self.peek() else len(self.text)
        return self.fault(json.JSONDecodeError(f"Expecting {mark}", self.text, at))


def json_items(stream: BinaryIO, encoding: str = "", *, lone: bool = False) -> Iterator[tuple[int, Any]]:
    """The items, numbered from 1. With `lone`, an object without a list of readings is an item itself."""
    head = stream.read(2)
    stream.seek(0)
    text = _Text(stream, "utf-16" if head in (b"\xff\xfe", b"\xfe\xff") else encoding or "utf-8-sig")
    number = 0
    try:
        if not text.peek():
            return
        for number, item in enumerate(_items(text, lone=lone), 1):
            yield number, item
        if text.peek():
            raise text.fault(json.JSONDecodeError("Extra data", text.text, text.at))
    except _FoundError as error:
        yield max(number, 1), error.found


def _items(text: _Text, *, lone: bool) -> Iterator[Any]:
    if text.peek() == "[":
        yield from _listed(text)
        return
    if text.peek() != "{":
        text.value()
        raise _FoundError(FileError("file", "Not a list of readings", _SHAPE))
    text.take("{")
    members, listed = dict[str, Any](), False
    while not text.take("}"):
        if (members or listed) and not text.take(","):
            raise text.expected("',' delimiter")
        name = text.value() if text.peek() == '"' else None
        if name is None:
            raise text.expected("property name enclosed in double quotes")
        if not text.take(":"):
            raise text.expected("':' delimiter")
        if name in members or (name == "readings" and listed):
            raise text.fault(ValueError("a key stands twice"))
        if name == "readings" and text.peek() == "[":
            listed = True
            yield from _listed(text)
        else:
            members[name] = text.value()
    if not listed and lone and "readings" not in members:
        yield members
    elif not listed:
        raise _FoundError(FileError("file", "Not a list of readings", _SHAPE))


def _listed(text: _Text) -> Iterator[Any]:
    text.take("[")
    if text.take("]"):
        return
    while True:
        yield text.value()
        if text.take("]"):
            return
        if not text.take(","):
            raise text.expected("',' delimiter")
