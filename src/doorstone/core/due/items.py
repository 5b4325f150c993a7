"""Items of the due list: their kinds, whom each concerns, and their order."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from enum import StrEnum

DECIDERS = frozenset({"approver", "administrator"})
HANDS = frozenset({"technician", "administrator"})
KEEPERS = frozenset({"administrator"})
MOST_NAMED = 4  # devices that a line names; more are counted


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
    UNPLACED = "unplaced"
    LOOK_AGAIN = "look-again"
    READ_AGAIN = "read-after-retired"
    NOT_WIPED = "data-not-wiped"
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


@dataclass(frozen=True, slots=True)
class DueDevice:
    """A device that an item speaks of, with its site: empty if it has none."""

    id: str
    site: str


def names(devices: Sequence[DueDevice]) -> str:
    """Up to four devices by name, then how many more."""
    found = [device.id for device in devices]
    if len(found) > MOST_NAMED:
        return f"{', '.join(found[:MOST_NAMED])} and {len(found) - MOST_NAMED} more"
    return " and ".join([", ".join(found[:-1]), found[-1]] if len(found) > 1 else found)


def sites_of(devices: Iterable[DueDevice]) -> frozenset[str]:
    return frozenset(device.site for device in devices)
