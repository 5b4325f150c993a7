"""Lists of values as one parameter of a statement, which looks through them with `json_each`."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

import msgspec


def json_list(values: Iterable[Any]) -> str:
    """Values as a JSON list."""
    every = list(values)
    try:
        return msgspec.json.encode(every).decode()
    except UnicodeEncodeError:  # halves of a character, which no record holds
        return json.dumps(every)
