"""Quiet readings: a past reading that moved no answer is kept as what differs from another of the same facts.

From day to day a machine says nearly the same: free space, a date of a backup. In: the numbers of the values of two
contents. Out: the changes as bytes, pairs of a place and a number of a value, each as a variable-length integer (seven
bits a byte, the lowest first); and the way back.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence


def changes_of(base: Sequence[int], numbers: Sequence[int]) -> bytes | None:
    """What makes `numbers` of `base`; None if they hold different facts."""
    if len(base) != len(numbers):
        return None
    found = bytearray()
    for place, (was, number) in enumerate(zip(base, numbers, strict=True)):
        if was != number:
            _put(found, place)
            _put(found, number)
    return bytes(found)


def changed(base: Sequence[int], changes: bytes) -> list[int]:
    """The numbers that `changes` make of `base`. Raises `ValueError` for bytes that are no changes of it."""
    made = list(base)
    integers = _integers(changes)
    for place in integers:
        number = next(integers, None)
        if place >= len(made) or number is None:
            raise ValueError(f"no changes of {len(made)} values")
        made[place] = number
    return made


def _put(found: bytearray, number: int) -> None:
    while number > 0x7F:
        found.append(number & 0x7F | 0x80)
        number >>= 7
    found.append(number)


def _integers(text: bytes) -> Iterator[int]:
    number = shift = 0
    for byte in text:
        number |= (byte & 0x7F) << shift
        shift += 7
        if byte < 0x80:
            yield number
            number = shift = 0
    if shift:
        raise ValueError("the last number is cut off")
