"""Consequences: what must be done for a device once an exception that names it no longer holds.

In: where the device stands and what else covers it. Out: whether it relies on the exception, and steps in words.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from msgspec import Struct


class ConsequenceCase(Struct, frozen=True):
    """One device of an exception that ends.

    `unmet` are the excepted requirements that it fails at the release that it runs and nothing else covers; `fixes` the
    titles of fixes that would meet some of them; `kits` those made on the exception; `rollback_until` the last day on
    which it can go back.
    """

    device: str
    runs: str
    unmet: Sequence[str]
    fixes: Sequence[str]
    kits: Sequence[str]
    rollback_until: date | None


class Consequence(Struct, frozen=True):
    """`relies`: it runs, today, what only this exception permits."""

    device: str
    runs: str
    relies: bool
    steps: tuple[str, ...]


def consequence(case: ConsequenceCase, as_of: date) -> Consequence:
    """What to do for one device. If there is nothing to do, the answer says so."""
    steps: list[str] = []
    if case.unmet:
        steps.append(f"It runs {case.runs} with {', '.join(case.unmet)} unmet and nothing else permits that")
        steps += [f"Fix: {title}" for title in case.fixes]
        if case.rollback_until is not None and as_of <= case.rollback_until:
            steps.append(f"Roll back: possible through {case.rollback_until}")
        steps.append("Replace it, or have another exception approved")
    if case.kits:
        made = "it was" if len(case.kits) == 1 else "they were"
        steps.append(f"Do not use {', '.join(case.kits)}: {made} made on this exception")
    return Consequence(case.device, case.runs, bool(case.unmet), tuple(steps) or ("Nothing: it does not rely on it",))
