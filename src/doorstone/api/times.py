"""Times on the wire: RFC 3339 with an offset; inside, UTC without one."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from pydantic import AfterValidator, NaiveDatetime, PlainSerializer, WithJsonSchema


def _in_utc(at: datetime) -> datetime:
    try:
        return at.astimezone(UTC).replace(tzinfo=None) if at.tzinfo is not None else at
    except OverflowError as error:
        raise ValueError("lies outside the years that can be reckoned with") from error


def _written(at: datetime) -> str:
    return f"{at.isoformat()}Z"


Moment = Annotated[
    NaiveDatetime | Annotated[datetime, AfterValidator(_in_utc)],  # those from inside need no call
    PlainSerializer(_written, when_used="json"),
    WithJsonSchema({"type": "string", "format": "date-time"}),
]
"""A time: read with any offset, or as UTC without one; written in UTC."""
