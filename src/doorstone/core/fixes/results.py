"""Results of fixes: whether a reading has proved a recorded fix, or shows that it was not made.

In: what the fix gives, and what was read of these facts since. Out: a `FixWord`, and what contradicts the fix.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from enum import StrEnum

from doorstone.core.facts import FIX, FactSpec, FactValue, View


class FixWord(StrEnum):
    """How a recorded fix stands: waiting for a reading, proved by one, not seen in one; or it had failed."""

    WAITING = "waiting"
    PROVED = "proved"
    NOT_SEEN = "not-seen"
    FAILED = "failed"


def fix_result(
    gives: Mapping[str, FactValue], done_at: datetime, view: View, specs: Mapping[str, FactSpec]
) -> tuple[FixWord, str]:
    """What readings since a fix say of it: proved once one shows each fact that was read as the fix gives it."""
    read, wrong = False, []
    for fact, wanted in gives.items():
        spec, settled = specs[fact], view.facts.get(fact)
        if settled is None:
            continue
        words = (settled.believed, *settled.rivals, *settled.overruled)
        since = [word for word in words if word.source != FIX and word.taken_at > done_at]
        read = read or bool(since)
        other = [word for word in since if not spec.close(word.value, wanted)]
        wrong += [f"{fact} is {spec.show(word.value)} ({word.source}, {word.taken_at.date()})" for word in other]
    if wrong:
        return FixWord.NOT_SEEN, "; ".join(wrong)
    return (FixWord.PROVED if read else FixWord.WAITING), ""
