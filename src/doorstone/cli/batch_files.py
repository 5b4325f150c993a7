"""Rows of a batch from a file: CSV with a header, or one JSON object a line."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from doorstone.cli.output import BAD_INPUT, fail

Shape = TypeVar("Shape", bound=BaseModel)


def read_rows(path: Path) -> list[dict[str, Any]]:
    """The rows of a batch: CSV with a header, or NDJSON. Empty cells are left out; leaves with words if unreadable."""
    text = path.read_text("utf-8-sig")
    try:
        if path.suffix in (".ndjson", ".jsonl", ".json"):
            return [json.loads(line) for line in text.splitlines() if line.strip()]
        return [
            {k: v for k, v in row.items() if k and v not in (None, "")} for row in csv.DictReader(text.splitlines())
        ]
    except (ValueError, csv.Error) as error:
        fail(BAD_INPUT, f"{path}: {error}", "Give CSV with a header line, or one JSON object a line")


def as_requests(path: Path, rows: list[dict[str, Any]], shape: type[Shape]) -> list[Shape]:
    """The rows as what is sent; leaves with the row and the column of the first that does not fit."""
    made = []
    for at, row in enumerate(rows, 1):
        try:
            made.append(shape.model_validate(row))
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            fail(BAD_INPUT, f"{path}, row {at}, {first['loc'][0]}: {first['msg']}", "Correct it; nothing was recorded")
    return made
