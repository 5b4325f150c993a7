"""Numbers as people write them: 7.9, 7,9, 8 192, 1.234,5. In: text. Out: the one number that it can be read as.

A mark before exactly three digits may part thousands or begin the decimals. Where both are possible and nobody has said
which mark is which, the number is refused with both readings.
"""

from __future__ import annotations

import re
from decimal import Decimal
from itertools import product

from msgspec import Struct

_SPACES = "\u00a0\u202f\u2009 "
_PLAIN = re.compile(r"[+-]?[0-9]+")


class NumberError(ValueError):
    """Text that is no number, or that can be read as several: these are its `readings`."""

    def __init__(self, text: str, readings: tuple[Decimal, ...] = ()) -> None:
        super().__init__(f"{text!r} is not a number")
        self.readings = readings


class Marks(Struct, frozen=True):
    """Which mark begins the decimals, and which parts thousands; empty where nobody has said."""

    decimal: str = ""
    thousands: str = ""


UNSAID = Marks()


def read_number(text: str, marks: Marks = UNSAID) -> Decimal:
    """The number that a text can be read as. Raises `NumberError` if there is none, or more than one."""
    text = text.strip()
    if _PLAIN.fullmatch(text):
        return Decimal(text)
    bare = re.sub(f"[{_SPACES}]", " ", text)
    decimals = [marks.decimal] if marks.decimal else [".", ","]
    thousands = [marks.thousands] if marks.thousands else [".", ",", " ", "'", "’"]
    found = {
        number
        for decimal, thousand in product(decimals, thousands)
        if decimal != thousand and (number := _read(bare, decimal, thousand)) is not None
    }
    if len(found) != 1:
        raise NumberError(text, tuple(sorted(found)))
    return found.pop()


def _read(text: str, decimal: str, thousand: str) -> Decimal | None:
    point, part = re.escape(decimal), re.escape(thousand)
    whole = rf"[1-9]\d{{0,2}}(?:{part}\d{{3}})+|\d+"
    found = re.fullmatch(rf"([+-]?)({whole})?(?:{point}(\d+))?", text, re.ASCII)
    if found is None or (found[2] is None and found[3] is None):
        return None
    digits = (found[2] or "0").replace(thousand, "")
    return Decimal(f"{found[1]}{digits}.{found[3] or '0'}")
