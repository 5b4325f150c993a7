"""Due on exceptions: decisions, answers, second looks, reviews, lapses, conditions, owners who have left."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import date, timedelta

from msgspec import Struct, field

from doorstone.core.due.items import DECIDERS, Due, DueKind
from doorstone.core.exceptions.conditions import ConditionState, ConditionStatus
from doorstone.core.exceptions.life import ExceptionState


class DueException(Struct, frozen=True):
    """An exception that is requested or approved, or ended while `devices` still run by it: what can be due on it.

    `editors` have shaped what would be approved, `approvers` have approved it already. `question` is empty unless the
    requester was asked back. `stale_for` are the devices for which the approval has to be reconfirmed, the first since
    `stale_since`.
    """

    id: str
    state: ExceptionState
    release: str
    devices: Sequence[str]
    sites: frozenset[str]
    owner: str
    requester: str
    requested_on: date
    review: date
    expiry: date
    renewed: bool = False
    editors: Collection[str] = ()
    approvers: Collection[str] = ()
    approvals_needed: int = 1
    asked_back: bool = False
    question: str = ""
    stale_for: Collection[str] = ()
    stale_since: date | None = None
    conditions: Sequence[ConditionStatus] = field(default=())

    @property
    def named(self) -> str:
        count = len(self.devices)
        return f"{self.id} for {self.devices[0] if count == 1 else f'{count} devices'} on {self.release}"


def due_on_exception(
    held: DueException, as_of: date, *, ahead_days: int, decide_days: int, self_approval: bool, active: Collection[str]
) -> Iterator[Due]:
    """What is due on one exception by the end of `ahead_days`. `active` are the people who can sign in."""
    ahead = as_of + timedelta(days=ahead_days)
    if held.state is ExceptionState.REQUESTED:
        on = held.requested_on + timedelta(days=decide_days)
        yield _too_late(held, on) if held.expiry < as_of else _decision(held, on, self_approval)
    elif held.state is ExceptionState.APPROVED:
        yield from _upkeep(held, as_of, ahead)
        yield from _conditions(held, ahead, held.named)
    else:
        one = len(held.devices) == 1
        run = f"{held.devices[0]} still runs" if one else f"{len(held.devices)} devices still run"
        yield from _conditions(held, ahead, f"{held.id} has ended ({held.state}), yet {run} {held.release} by it")
        return
    if held.owner not in active:
        words = f"{held.named}: its owner {held.owner} has left; make somebody else answer for it"
        yield _due(DueKind.OWNER, as_of, held, words, roles=DECIDERS)


def _too_late(held: DueException, on: date) -> Due:
    """Why nobody can approve it any more. The requester edits or withdraws it, or an approver declines it."""
    words = (
        f"{held.named} can no longer be approved: its last day, {held.expiry}, is past; edit its terms or withdraw it"
    )
    people = frozenset({held.requester})
    kind = DueKind.ANSWER if held.asked_back else DueKind.REQUEST
    return Due(kind, on, "exception", held.id, words, people, DECIDERS, sites=held.sites)


def _decision(held: DueException, on: date, self_approval: bool) -> Due:
    if held.asked_back:
        words = f"{held.named} waits for an answer: {held.question}"
        return Due(DueKind.ANSWER, on, "exception", held.id, words, people=frozenset({held.requester}))
    shapers = frozenset() if self_approval else frozenset({held.requester, *held.editors})
    more = f" (approval {len(held.approvers) + 1} of {held.approvals_needed})" if held.approvals_needed > 1 else ""
    words = f"{held.named} waits for a decision{more}, asked by {held.requester}"
    return _due(DueKind.REQUEST, on, held, words, roles=DECIDERS, not_people=shapers | frozenset(held.approvers))


def _upkeep(held: DueException, as_of: date, ahead: date) -> Iterator[Due]:
    owner = frozenset({held.owner})
    if held.stale_for:
        words = f"{held.named} is stale for {', '.join(sorted(held.stale_for)[:3])}: look again"
        yield _due(DueKind.SECOND_LOOK, held.stale_since or as_of, held, words, roles=DECIDERS)
    if held.review <= ahead and held.review < held.expiry:
        words = f"{held.named} is to be reviewed: does it still need to be, and is it still true?"
        yield _due(DueKind.REVIEW, held.review, held, words, people=owner)
    if held.expiry <= ahead and not held.renewed:
        words = f"{held.named} lapses after this day: renew it, or see what must be done"
        yield _due(DueKind.LAPSE, held.expiry, held, words, people=owner)


def _conditions(held: DueException, ahead: date, named: str) -> Iterator[Due]:
    for kept in held.conditions:
        if kept.due_on is not None and (kept.due_on <= ahead or kept.word is ConditionState.OVERDUE):
            words = f"{named}: attest that “{kept.text}” is kept"
            yield _due(DueKind.CONDITION, kept.due_on, held, words, people=frozenset({held.owner}))


def _due(
    kind: DueKind,
    on: date,
    held: DueException,
    words: str,
    people: frozenset[str] = frozenset(),
    roles: frozenset[str] = frozenset(),
    not_people: frozenset[str] = frozenset(),
) -> Due:
    sites = held.sites if roles else frozenset[str]()
    return Due(kind, on, "exception", held.id, words, people, roles, not_people, sites)
