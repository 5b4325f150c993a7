"""Ids of objects, such as EX-0007."""

from __future__ import annotations


def number_of(prefix: str, name: str) -> int:
    """The number in an id such as EX-0007; 0 if it is no such id."""
    digits = name.removeprefix(f"{prefix}-")
    return int(digits) if digits != name and digits.isdecimal() and len(digits) < 12 else 0


def id_of(prefix: str, number: int) -> str:
    return f"{prefix}-{number:04d}"
