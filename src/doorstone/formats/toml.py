"""TOML within bounds: what would take minutes or gigabytes to read is refused before it is read."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from datetime import date
from typing import Any

MOST_DOTS = 32
MOST_DEPTH = 40
FIRST_YEAR, LAST_YEAR = 1980, 2199
MOST_DAYS = 36_600
_DOTTED = re.compile(rf"(?:[^\s.=\[\]{{}},#]+[ \t]*\.[ \t]*){{{MOST_DOTS + 1},}}")

Path = tuple[str | int, ...]


class TomlError(ValueError):
    """TOML that cannot be read, with the line where it is known."""

    def __init__(self, line: int | None, message: str, hint: str) -> None:
        super().__init__(message)
        self.line, self.message, self.hint = line, message, hint


def read_toml(text: str) -> dict[str, Any]:
    """The data of a TOML text. Raises `TomlError`: an error in it, keys with too many parts, nested too deep."""
    for number, line in enumerate(text.splitlines(), 1):
        if line.count(".") > MOST_DOTS and _DOTTED.match(line.lstrip().lstrip("[")):
            raise TomlError(number, f"A key has more than {MOST_DOTS} parts", "Write it flatter")
        if max(line.count("["), line.count("{")) > 4 * MOST_DEPTH and _depth(line) > MOST_DEPTH:
            raise TomlError(number, "Nested too deep", "Write it flatter")
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        raise TomlError(int(found[1]) if found else None, str(error), "Correct the TOML at this place") from error
    except RecursionError as error:
        raise TomlError(None, "Nested too deep", "Write it flatter") from error


def _depth(line: str) -> int:
    deepest = depth = 0
    for letter in line:
        depth += (letter in "[{") - (letter in "]}")
        deepest = max(deepest, depth)
    return deepest


def out_of_bounds(data: Any, path: Path = ()) -> Iterator[tuple[Path, str, str]]:
    """Dates and numbers of days with which nobody can reckon: (path, what is wrong, the hint)."""
    if isinstance(data, dict):
        for name, value in data.items():
            yield from out_of_bounds(value, (*path, name))
    elif isinstance(data, list):
        for at, value in enumerate(data):
            yield from out_of_bounds(value, (*path, at))
    elif isinstance(data, date) and not FIRST_YEAR <= data.year <= LAST_YEAR:
        yield (
            path,
            f"{data} lies outside {FIRST_YEAR} to {LAST_YEAR}",
            "Write the day that is meant",
        )
    elif isinstance(data, int) and not isinstance(data, bool):
        days = any(isinstance(part, str) and "days" in part for part in path)
        if abs(data) > (MOST_DAYS if days else 2**53):
            yield path, f"{data} is too large", f"Use up to {MOST_DAYS} days" if days else "Use a smaller number"
