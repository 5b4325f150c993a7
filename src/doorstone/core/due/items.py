"""Items of the due list: their kinds, whom each concerns, and their order."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from enum import StrEnum

from msgspec import Struct

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
    EXPIRED = "reading-expired"
    EXPIRING = "reading-expires"
    SILENT = "not-heard-from"
    TASK = "sheet-task"
    UNPLACED = "unplaced"
    LOOK_AGAIN = "look-again"
    READ_AGAIN = "read-after-retired"
    NOT_WIPED = "data-not-wiped"
    SURPRISE = "standing-differs"
    CHECK = "check"


class LateCost(StrEnum):
    """What it costs to be late, the dearest first."""

    PERMISSION = "permission"
    """Devices run without permission."""
    LOST = "lost"
    """What can be had until that day is lost."""
    WAITING = "waiting"
    """People or devices wait."""
    UNKNOWN = "unknown"
    """Nobody knows how it stands."""


COSTS: Mapping[DueKind, LateCost] = {
    **dict.fromkeys(
        (DueKind.UNCOVERED, DueKind.FLOOR_RUNS, DueKind.LAPSE, DueKind.SECOND_LOOK, DueKind.CONDITION),
        LateCost.PERMISSION,
    ),
    **dict.fromkeys(
        (DueKind.ROLLBACK, DueKind.SERVICING_ENDS, DueKind.KIT_EXPIRES, DueKind.LINK_ENDS, DueKind.NOT_WIPED),
        LateCost.LOST,
    ),
    **dict.fromkeys(
        (DueKind.REQUEST, DueKind.ANSWER, DueKind.OWNER, DueKind.FOLLOW_UP, DueKind.FLOOR_FOUND, DueKind.REFUSED,
         DueKind.WENT_BACK, DueKind.LOOK_AGAIN, DueKind.TASK),
        LateCost.WAITING,
    ),
    **dict.fromkeys(
        (DueKind.REVIEW, DueKind.UNMATCHED, DueKind.FIX_NOT_SEEN, DueKind.DRIFT, DueKind.LATE, DueKind.SILENT,
         DueKind.EXPIRED, DueKind.EXPIRING,
         DueKind.UNPLACED, DueKind.SURPRISE, DueKind.CHECK, DueKind.READ_AGAIN),
        LateCost.UNKNOWN,
    ),
}  # fmt: skip


class Due(Struct, frozen=True):
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

    @property
    def late_cost(self) -> LateCost:
        """What it costs to be late with it."""
        return COSTS[self.kind]

    def overdue(self, as_of: date) -> bool:
        return self.on < as_of

    def concerns(self, name: str, roles: Iterable[str]) -> bool:
        """Whether a person, in any of these roles, is to do it."""
        return name in self.people or (name not in self.not_people and bool(self.roles & set(roles)))


def in_order(found: Iterable[Due], as_of: date) -> list[Due]:
    """What runs without permission first; then what is due by today, what costs most to be late with first; then what
    comes, by day. Within these by cost, day, kind in the order above, and object.
    """
    kinds, costs = list(DueKind), list(LateCost)

    def key(due: Due) -> tuple[object, ...]:
        comes = due.on > as_of
        cost = costs.index(due.late_cost)
        when = (due.on, cost) if comes else (cost, due.on)
        return due.kind is not DueKind.UNCOVERED, comes, *when, kinds.index(due.kind), due.object, due.part

    return sorted(found, key=key)


class DueDevice(Struct, frozen=True):
    """A device that an item speaks of, with its site: empty if it has none."""

    id: str
    site: str


def names(devices: Sequence[DueDevice], of: int = 0) -> str:
    """Up to four devices by name, then how many more there are `of` them all."""
    found = [device.id for device in devices]
    if (every := of or len(found)) > MOST_NAMED:
        return f"{', '.join(found[:MOST_NAMED])} and {every - MOST_NAMED} more"
    return " and ".join([", ".join(found[:-1]), found[-1]] if len(found) > 1 else found)


def sites_of(devices: Iterable[DueDevice]) -> frozenset[str]:
    return frozenset(device.site for device in devices)
