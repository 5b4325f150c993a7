"""Writes CSV that opens safely in a spreadsheet: a cell that would be taken for a formula is made text."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from typing import Any

FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\n", "＝", "＋", "－", "＠")


def safe_cell(value: Any) -> str:
    """A cell as text that no spreadsheet takes for a formula: such text gets an apostrophe. Numbers stay numbers."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return str(value)
    text = ", ".join(str(item) for item in value) if isinstance(value, list | tuple) else str(value)
    text = text.replace("\r", " ")  # a lone one would end the row
    return f"'{text}" if text.lstrip(" ").startswith(FORMULA_STARTS) else text


def csv_text(columns: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """A header line and a line for each row."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([safe_cell(column) for column in columns])
    writer.writerows([[safe_cell(value) for value in row] for row in rows])
    return out.getvalue()
