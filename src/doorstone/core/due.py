"""What is due: requests that wait, second looks, reviews, lapses, conditions, rollbacks that end, checks.

In: plain facts of exceptions and devices, a day. Out: `Due` items, the most pressing first, each with whom it concerns.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from enum import StrEnum


class DueKind(StrEnum):
    REQUEST = "request-waits"
    ANSWER = "answer-waits"
    SECOND_LOOK = "second-look"
    OWNER = "owner-left"
    REVIEW = "review"
    LAPSE = "lapse"
    CONDITION = "condition"
    FOLLOW_UP = "follow-up"
    ROLLBACK = "rollback-ends"
    SERVICING_ENDS = "servicing-ends"
    KIT_EXPIRES = "kit-expires"
    LINK_ENDS = "media-link-ends"
    UNCOVERED = "uncovered"
    FLOOR_RUNS = "floor-runs"
    FLOOR_FOUND = "floor-found"
    REFUSED = "refused"
    UNMATCHED = "failure-unmatched"
    FIX_NOT_SEEN = "fix-not-seen"
    DRIFT = "drift"
    WENT_BACK = "went-back"
    LATE = "release-late"
    SILENT = "not-heard-from"
    SURPRISE = "standing-differs"
    CHECK = "check"


@dataclass(frozen=True, slots=True)
class Due:
    """One thing to do by a day. It concerns those named in `people`, and everybody whose role is in `roles`
    and who is not among `not_people`; `sites` are those of the devices that it speaks of."""

    kind: DueKind
    on: date
    object_kind: str
    object: str
    words: str
    people: frozenset[str] = frozenset()
    roles: frozenset[str] = frozenset()
    not_people: frozenset[str] = frozenset()
    sites: frozenset[str] = frozenset()
    part: str = ""  # which of several alike of the same object

    @property
    def id(self) -> str:
        """The same for the same thing to do, whoever asks and whenever."""
        return f"{self.kind} {self.object} {self.on}" + (f" {self.part}" if self.part else "")

    def overdue(self, as_of: date) -> bool:
        return self.on < as_of

    def concerns(self, name: str, roles: Iterable[str]) -> bool:
        """Whether a person, in any of these roles, is to do it."""
        return name in self.people or (name not in self.not_people and bool(self.roles & set(roles)))


def in_order(found: Iterable[Due]) -> list[Due]:
    """What runs without permission first, then by day, by kind in the order above, by object."""
    kinds = list(DueKind)
    return sorted(
        found,
        key=lambda due: (due.kind is not DueKind.UNCOVERED, due.on, kinds.index(due.kind), due.object, due.part),
    )
