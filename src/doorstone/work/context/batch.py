"""The same action for many objects, in one transaction: all of it or nothing, with an error for each object that
refuses.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError, StaleEditError

T = TypeVar("T")
R = TypeVar("R")


def all_or_none(
    context: Context,
    items: Iterable[tuple[str, T]],
    make: Callable[[T], R],
    *,
    before: Sequence[ErrorEntry] = (),
    hint: str = "Correct each place and send all again",
) -> list[R]:
    """Do the same to each item, which comes with its place. `before` holds errors that were found earlier.

    Raises `BadInputError` with an entry for every error; then nothing is kept.
    """
    errors, made = list(before), []
    with context.database.write():
        for place, item in items:
            try:
                made.append(make(item))
            except (BadInputError, MissingError, RefusedError, StaleEditError) as error:
                errors.append(ErrorEntry(place, error.detail, error.hint))
                errors += [ErrorEntry(f"{place}, {one.pointer}", one.detail, one.hint) for one in error.errors]
        if errors:
            raise BadInputError("Nothing was recorded", hint, errors)
    return made
