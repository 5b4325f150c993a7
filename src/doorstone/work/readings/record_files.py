"""Files of records: read with a mapping, each row on its line, everything wrong named."""

from __future__ import annotations

from collections.abc import Mapping

from doorstone.core.facts import FactSpec
from doorstone.formats.mapping import MappingError
from doorstone.formats.record_rows import RecordRow, read_rows, record_mapping
from doorstone.work.context.errors import BadInputError, ErrorEntry

MOST_ROWS = 20_000


def unusable(error: MappingError) -> BadInputError:
    """The error of a mapping that cannot be used, with every place."""
    errors = [ErrorEntry(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.hint) for p in error.problems]
    return BadInputError("The mapping cannot be used", "Correct each place", errors)


def rows_of_file(
    text: str, form: str, fields: Mapping[str, FactSpec], mapping: str = ""
) -> tuple[list[RecordRow], list[ErrorEntry]]:
    """The rows that can be read, and what is wrong with the others.

    Raises `BadInputError` for a mapping that cannot be used, with every place, and for a file of too many rows.
    """
    try:
        by = record_mapping(mapping, fields)
    except MappingError as error:
        raise unusable(error) from error
    rows, problems = read_rows(text, form, fields, by)
    if len(rows) > MOST_ROWS:
        raise BadInputError(f"{len(rows):,} rows in one file", f"Send up to {MOST_ROWS:,} at a time")
    return rows, [ErrorEntry(p.where, p.message, p.hint) for p in problems]
