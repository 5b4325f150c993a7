"""Exceptions: the life of an approved, dated permission to run a release with named requirements unmet.

Decides which moves are allowed, by whom, on which days an exception is in force, and what cannot be excepted.
In: an exception, a person, an assessment, a day. Out: the next state, or an error with the device and the reason.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping
from datetime import date, timedelta
from enum import StrEnum
from typing import Any

from msgspec import Struct

from doorstone.core.conditions import order_free
from doorstone.core.errors import MoveRefusedError
from doorstone.core.facts import FactError, FactSpec, FactValue, dump
from doorstone.core.people import AccountAct, covers, not_separate
from doorstone.core.platforms.platform import Platform, Sort
from doorstone.core.sorting.assessment import Assessment, Finding, RequirementFinding


class ExceptionState(StrEnum):
    REQUESTED = "requested"
    APPROVED = "approved"
    DECLINED = "declined"
    WITHDRAWN = "withdrawn"
    LAPSED = "lapsed"
    REVOKED = "revoked"
    CLOSED = "closed"


class Move(StrEnum):
    APPROVE = "approve"
    DECLINE = "decline"
    WITHDRAW = "withdraw"
    REVOKE = "revoke"
    CLOSE = "close"
    CONFIRM = "confirm"
    LAPSE = "lapse"


MADE_BY_PEOPLE = tuple(move for move in Move if move is not Move.LAPSE)


_MOVES: Mapping[tuple[ExceptionState, Move], ExceptionState] = {
    (ExceptionState.REQUESTED, Move.APPROVE): ExceptionState.APPROVED,
    (ExceptionState.REQUESTED, Move.DECLINE): ExceptionState.DECLINED,
    (ExceptionState.REQUESTED, Move.WITHDRAW): ExceptionState.WITHDRAWN,
    (ExceptionState.APPROVED, Move.REVOKE): ExceptionState.REVOKED,
    (ExceptionState.APPROVED, Move.CLOSE): ExceptionState.CLOSED,
    (ExceptionState.APPROVED, Move.CONFIRM): ExceptionState.APPROVED,
    (ExceptionState.APPROVED, Move.LAPSE): ExceptionState.LAPSED,
}
ENDED = frozenset(ExceptionState) - {ExceptionState.REQUESTED, ExceptionState.APPROVED}
ENDED_AFTER_APPROVAL = ENDED & {then for (state, _), then in _MOVES.items() if state is ExceptionState.APPROVED}


class ExceptionTerms(Struct, frozen=True):
    """What an exception permits: requirements on devices at a release, or at every release up to it.

    `devices` is empty where the terms are those of a device that is at hand. Of such a device `doubt` says what
    changed since the approval, or which condition is not kept; while it stands, there is none.
    """

    id: str
    platform: str
    release: str
    up_to: bool
    requirements: frozenset[str]
    devices: frozenset[str]
    start: date
    expiry: date
    state: ExceptionState
    doubt: str = ""

    def __hash__(self) -> int:
        return hash((self.id, self.doubt))  # equal terms have both alike, and forecasts are kept by terms

    @property
    def stands(self) -> bool:
        """Whether the approval stands without a second look."""
        return not self.doubt

    def reaches(self, platform: Platform, release: str) -> bool:
        """Whether it covers `release`, on any day and in any state."""
        if self.platform != platform.id or not platform.has(self.release):
            return False
        at, last = platform.index(release), platform.index(self.release)
        return at <= last if self.up_to else at == last

    def in_force(self, day: date) -> bool:
        """In force from its start through its expiry day, if approved."""
        return self.state is ExceptionState.APPROVED and self.start <= day <= self.expiry

    def permits(self, platform: Platform, release: str, day: date) -> bool:
        """Whether a device may run `release` by it on a day: it is in force, speaks of it, and is not in doubt."""
        return self.stands and self.in_force(day) and self.reaches(platform, release)


def excepted(held: Iterable[ExceptionTerms], platform: Platform, release: str, day: date) -> frozenset[str]:
    """The requirements that a device may fail at a release on a day, by its exceptions."""
    return frozenset(name for terms in held if terms.permits(platform, release, day) for name in terms.requirements)


class Refusal(Struct, frozen=True):
    """Why one requirement of one device cannot be excepted."""

    device: str
    requirement: str
    reason: str
    hint: str


def refusals(device: str, assessment: Assessment, requirements: Iterable[str]) -> list[Refusal]:
    """Why these requirements cannot be excepted on a device. Empty if they can.

    Only an unmet installer check can be excepted: nobody approves what nobody has measured.
    """
    found = []
    for name in sorted(requirements):
        finding = assessment.of(name)
        if finding is None:
            reason = f"release {assessment.release} does not ask for {name}"
            found.append(Refusal(device, name, reason, "Leave this requirement out"))
        elif why := _why_not(finding):
            found.append(Refusal(device, name, *why))
    return found


def _why_not(finding: RequirementFinding) -> tuple[str, str] | None:
    title = finding.requirement.title
    match finding.finding:
        case Finding.MET:
            return f"{title}: the device meets it", "Leave it out; there is nothing to except"
        case Finding.UNREAD:
            return f"{title}: nobody has measured it", "Import a reading of it first"
        case Finding.DISPUTED:
            return f"{title}: the readings disagree", "Settle the dispute or read the device again"
    if finding.sort is Sort.FLOOR:
        return (
            f"{title} is a floor: {finding.requirement.because.rstrip('.')}",
            "No exception lifts a floor; fix it or leave it out",
        )
    if finding.sort is not Sort.CHECK:
        return f"{title} is unsorted", "Have an administrator sort it first"
    if finding.fixes and finding.cost == 0 and any(fix.kind == "firmware-setting" for fix in finding.fixes):
        return f"{title} is only switched off: {finding.fixes[0].title}", "Fix it; present but off needs no exception"
    return None


def next_state(state: ExceptionState, move: Move) -> ExceptionState:
    """The state after a move. Raises `MoveRefusedError` if the move does not start from `state`."""
    after = _MOVES.get((state, move))
    if after is None:
        allowed = [known.value for (start, known) in _MOVES if start is state and known in MADE_BY_PEOPLE]
        hint = f"Possible now: {', '.join(allowed)}" if allowed else "Request a new exception if one is needed"
        raise MoveRefusedError(f"The exception is {state}, so {move} is not possible", hint)
    return after


def state_on(state: ExceptionState, expiry: date, day: date) -> ExceptionState:
    """The state on a day: an approved exception past its expiry day has lapsed, written down or not."""
    return ExceptionState.LAPSED if state is ExceptionState.APPROVED and day > expiry else state


class Ending(Struct, frozen=True):
    """How an exception ends by itself, and the first day without it. `successor` is the one that replaced it."""

    state: ExceptionState
    on: date
    successor: str = ""


def ending(
    state: ExceptionState, expiry: date, successor: str, successor_start: date | None, day: date
) -> Ending | None:
    """How an exception has ended by itself by `day`; None while it has not.

    It is closed once its approved `successor` has started, else it lapses on the day after its expiry.
    """
    if state is not ExceptionState.APPROVED:
        return None
    if successor_start is not None and successor_start <= day:
        return Ending(ExceptionState.CLOSED, day, successor)
    if day > expiry:
        return Ending(ExceptionState.LAPSED, expiry + timedelta(days=1))
    return None


def possible_moves(state: ExceptionState) -> tuple[Move, ...]:
    """The moves that somebody may make from `state`."""
    return tuple(move for move in MADE_BY_PEOPLE if (state, move) in _MOVES)


class Involved(Struct, frozen=True):
    """Who has what to do with an exception. `editors` shaped what would be approved; `approvers` have approved it."""

    requester: str
    owner: str
    editors: frozenset[str] = frozenset()
    approvers: frozenset[str] = frozenset()
    asked_back: bool = False
    renewed: bool = False
    relied_on: bool = False
    """It has ended, and a device still runs by it."""


def allowed_actions(
    state: ExceptionState,
    moves: Iterable[str],
    person: str,
    role: str,
    who: Involved,
    self_approval: bool,
    deputy: str = "",
    acts: Collection[AccountAct] = (),
) -> tuple[str, ...]:
    """What `person` may do with an exception now, in `role`: moves of those that are possible, then other actions.

    `deputy` acts on behalf of the person: what either had a part in, they do not approve, nor what an account had a
    part in that one of them created or controls by `acts`.
    """
    acting = {person, deputy or person}
    hands, decides = covers(role, "technician"), covers(role, "approver")
    own = person == who.requester or role == "administrator"
    open_ = state not in ENDED
    fresh = self_approval or not not_separate(acting, {who.requester, *who.editors}, acts)
    waits = state is ExceptionState.REQUESTED
    allowed = {
        Move.APPROVE: decides and fresh and not not_separate(acting, who.approvers, acts),
        Move.CONFIRM: decides and fresh,
        Move.WITHDRAW: hands and own,
    }
    actions = [move for move in moves if allowed.get(Move(move), decides)]
    more = {
        "edit": hands and own and waits,
        "comment": hands or decides,
        "ask-back": decides and waits and person != who.requester,
        "answer": (hands or decides) and who.asked_back and person == who.requester,
        "attest": (hands or decides) and (open_ or who.relied_on),
        "attach": hands or decides,
        "review": state is ExceptionState.APPROVED and (decides or (hands and person == who.owner)),
        "transfer": open_ and (decides or (hands and person == who.owner)),
        "renew": hands and state is ExceptionState.APPROVED and not who.renewed,
    }
    return (*actions, *(name for name, may in more.items() if may))


def approvals_needed(two_approvers: str, critical: bool, risky: bool = False) -> int:
    """How many approvers it takes: two for `all`, for `critical` devices, or if the risk asks for it; else one."""
    return 2 if risky or two_approvers == "all" or (two_approvers == "critical" and critical) else 1


def check_approver(
    requester: str,
    editors: Collection[str],
    approvers: Collection[str],
    acts: Collection[AccountAct],
    self_approval: bool,
) -> bool:
    """Whether the approval is a self-approval. `approvers` are who decides and on whose behalf.

    Raises `MoveRefusedError` if one of them requested or edited the exception, or if the same person may stand behind
    the request and the approval, unless self-approval is allowed.
    """
    hint = "Ask another approver to decide"
    if requester in approvers:
        reason = "The approver is never the requester"
    elif set(approvers) & set(editors):
        reason = "You have edited what would be approved"
    elif not_separate({requester, *editors}, approvers, acts):
        reason = "The accounts that request and approve are not of separate people: one created or controls the other"
    else:
        return False
    if not self_approval:
        raise MoveRefusedError(reason, hint)
    return True


def shown(
    findings: Iterable[RequirementFinding], values: Mapping[str, FactValue], specs: Mapping[str, FactSpec]
) -> dict[str, Any]:
    """What an approver is shown of a device: the findings an approval rests on, as plain data.

    `values` are what the device is believed to have. `measured` is what people read, `values` the same as JSON holds
    them. The findings may be those of the device's class: only what they ask and come to is taken from them.
    """
    data: dict[str, Any] = {}
    for finding in sorted(findings, key=lambda one: one.requirement.id):
        names = [leaf.fact for leaf in finding.leaves]
        data[finding.requirement.id] = {
            "asks": str(finding.requirement.condition),
            "rule": json.dumps(order_free(finding.requirement.condition), sort_keys=True),
            "finding": finding.finding.value,
            "sort": finding.sort.value if finding.sort else None,
            "measured": {name: specs[name].show(values[name]) if name in values else None for name in names},
            "values": {name: dump(values[name]) for name in names if name in values},
        }
    return data


def stale_because(
    before: Mapping[str, Any], after: Mapping[str, Any], specs: Mapping[str, FactSpec] | None = None
) -> list[str]:
    """What changed between two `shown` records of a device, in words; empty while the approval still stands.

    A fact that is no longer looked at is named with what is asked. Values within the tolerance of their fact in
    `specs` are the same: readings of one part differ a little.
    """
    changes = []
    for name in sorted(before):
        old, new = before[name], after.get(name)
        if new is None:
            changes.append(f"{name} is no longer asked for")
            continue
        if _asks_otherwise(old, new):
            changes.append(f"{name}: the sheet asked for {old['asks']}, now for {new['asks']}")
        if old["finding"] != new["finding"]:
            changes.append(f"{name}: finding was {old['finding']}, is {new['finding']}")
        if old["sort"] and new["sort"] and old["sort"] != new["sort"]:  # what is met has no sort
            changes.append(f"{name}: sort was {old['sort']}, is {new['sort']}")
        for fact, value in old["measured"].items():
            if fact in new["measured"] and new["measured"][fact] != value and not _close(specs or {}, fact, old, new):
                changes.append(f"{name}: {fact} was {value or 'unread'}, is {new['measured'][fact] or 'unread'}")
    return changes


def _asks_otherwise(old: Mapping[str, Any], new: Mapping[str, Any]) -> bool:
    """Whether the requirement asks for something else. Another order of the same parts asks for the same."""
    if "rule" in old and "rule" in new:
        return bool(old["rule"] != new["rule"])
    return bool(old.get("asks", new["asks"]) != new["asks"])


def _close(specs: Mapping[str, FactSpec], fact: str, old: Mapping[str, Any], new: Mapping[str, Any]) -> bool:
    sides = [part.get("values", {}).get(fact) for part in (old, new)]
    if fact not in specs or None in sides:
        return False
    try:
        one, other = (specs[fact].parse(side) for side in sides)
    except FactError:
        return False
    return specs[fact].close(one, other)
