"""JSON objects that are parsed when they are first used: many rows are listed, and few are asked for in full."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any


class LazyJson(Mapping[str, Any]):
    """A JSON object, given as its text."""

    __slots__ = ("_held", "_text")

    def __init__(self, text: str) -> None:
        self._text = text
        self._held: dict[str, Any] | None = None

    def _read(self) -> dict[str, Any]:
        if self._held is None:
            self._held = json.loads(self._text)
        return self._held

    def __getitem__(self, name: str) -> Any:
        return self._read()[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._read())

    def __len__(self) -> int:
        return len(self._read())


class LazyJsonByName(Mapping[str, Any]):
    """Name -> JSON value, each given as its text."""

    __slots__ = ("_texts",)

    def __init__(self, texts: Mapping[str, str]) -> None:
        self._texts = texts

    def __getitem__(self, name: str) -> Any:
        return json.loads(self._texts[name])

    def __iter__(self) -> Iterator[str]:
        return iter(self._texts)

    def __len__(self) -> int:
        return len(self._texts)
