"""Requests: what an exception is asked for, and whether it can be had as asked.

In: what is asked, and all that it is judged by, gathered beforehand. Out: the devices that can have it, what stands in
the way of the others, what else is to be corrected, the conditions as they are kept, how many approve.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import date
from typing import Any

from msgspec import Struct

from doorstone.core.conditions import ConditionError, parse
from doorstone.core.devices.life import Life, left_alone
from doorstone.core.errors import InvalidInputError, RuleError, UnknownObjectError
from doorstone.core.exceptions.life import ExceptionState, Refusal, approvals_needed, refusals
from doorstone.core.exceptions.residual import RiskDevice, RiskTable, residual_risk, takes_two
from doorstone.core.exceptions.terms import (
    check_attachment,
    check_attested,
    check_dates,
    check_expiry,
    check_reason,
    check_renewal,
    check_required,
)
from doorstone.core.people import check_active
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, State


class NewCondition(Struct, frozen=True):
    """A condition to keep: data of a condition on facts, or words to be attested by a day (the review, if none)."""

    text: str = ""
    fact_condition: Mapping[str, Any] | None = None
    due_on: date | None = None
    every_days: int | None = None


class NewAttachment(Struct, frozen=True):
    title: str
    link: str
    sha256: str = ""


class NewTerms(Struct, frozen=True):
    """The part of an exception that can be edited while it is requested."""

    reason: str
    conditions: tuple[NewCondition, ...]
    owner: str
    start_on: date
    expires_on: date
    review_on: date


class NewException(Struct, frozen=True):
    """What is asked for: `devices` by name, and those of a saved `selection`. `renews` names a predecessor.

    With `go_on`, devices that cannot have it are left out and the rest is asked for.
    """

    release: str
    up_to: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    risk_acknowledged: str
    terms: NewTerms
    notice_acknowledged: str = ""
    selection: str = ""
    platform: str = ""
    go_on: bool = False
    renews: str = ""
    attachments: tuple[NewAttachment, ...] = ()


class Risk(Struct, frozen=True):
    """What is acknowledged word for word: our statement, in its version, and the vendor's notice if there is one."""

    version: int
    text: str
    notice: str


class TermsBasis(Struct, frozen=True):
    """What terms are judged by: a day, who has an active account, and what the organisation has decided."""

    platform: Platform
    as_of: date
    active: Collection[str]
    most_days: int
    required: Collection[str]


class RequestedDevice(Struct, frozen=True):
    """A device for which an exception is asked, as it stands today at the release asked for."""

    id: str
    life: Life
    assessment: Assessment


class RenewedException(Struct, frozen=True):
    """The exception that a request renews."""

    id: str
    platform: str
    state: ExceptionState
    renewed_by: str
    devices: tuple[str, ...]


class RequestBasis(Struct, frozen=True):
    """What a request is judged by. `devices` are those that it names and those of its selection, by id.

    `exposures` are the same devices with what their risk is weighed by.
    """

    terms: TermsBasis
    devices: Sequence[RequestedDevice]
    exposures: Sequence[RiskDevice]
    risk: Risk
    renews: RenewedException | None
    risk_table: RiskTable
    two_approvers: str


class ConditionTerms(Struct, frozen=True):
    """A condition as it is kept. `fact_condition` is its data, None for one that is attested by `due_on`."""

    number: int
    text: str
    fact_condition: Mapping[str, Any] | None
    due_on: date | None
    every_days: int | None


class PlacedError(Struct, frozen=True):
    """What is to be corrected in the part `place` of a request: risk, terms, attachments or renews."""

    place: str
    error: RuleError


class RequestReview(Struct, frozen=True):
    """A request looked through: `devices` can have it, `refused` says what stands in the way of the others.

    `errors` are in the order in which people correct them. Without any, the rest is what is kept.
    """

    devices: tuple[str, ...]
    refused: tuple[Refusal, ...]
    errors: tuple[PlacedError, ...]
    conditions: tuple[ConditionTerms, ...]
    approvals_needed: int

    def possible(self, *, go_on: bool) -> bool:
        """Whether all its devices can have it or, with `go_on`, any of them."""
        return bool(self.devices) if go_on else not self.refused


def review_request(new: NewException, basis: RequestBasis) -> RequestReview:
    """Review a request. Refusals and errors are part of the result; nothing is raised."""
    requirements, platform = sorted(set(new.requirements)), basis.terms.platform
    refused = [entry for one in basis.devices for entry in device_refusals(one, requirements)]
    out = {entry.device for entry in refused}
    left = [one.id for one in basis.devices if one.id not in out]
    exposures = [one for one in basis.exposures if one.id not in out]
    errors: list[PlacedError] = []
    conditions: tuple[ConditionTerms, ...] = ()
    with _noted("risk", errors):
        _check_acknowledged(new, basis.risk)
    with _noted("terms", errors):
        conditions = check_terms(new.terms, basis.terms, attached=bool(new.attachments))
    with _noted("attachments", errors):
        for attachment in new.attachments:
            check_attachment(attachment.title, attachment.link, attachment.sha256)
    with _noted("renews", errors):
        _check_renewal(new.renews, basis.renews, platform, left)
    risk = residual_risk(platform, requirements, exposures, 0, basis.risk_table)
    needed = approvals_needed(
        basis.two_approvers, any(one.critical for one in exposures), takes_two(risk, basis.risk_table)
    )
    return RequestReview(tuple(left), tuple(refused), tuple(errors), conditions, needed)


def device_refusals(one: RequestedDevice, requirements: Collection[str]) -> list[Refusal]:
    """Why these requirements cannot be excepted on a device. Empty if they can."""
    device, assessment, found = one.id, one.assessment, list[Refusal]()
    if alone := left_alone(device, one.life):
        return [Refusal(device, "", *alone)]
    floors = [one.requirement for one in assessment.unmet("floor") if one.requirement.id not in requirements]
    if assessment.state is State.FLOORED and floors:
        titles = " and ".join(floor.title for floor in floors)
        reason = f"{titles} is a floor at {assessment.release}: no exception carries the device there"
        found.append(Refusal(device, floors[0].id, reason, "Leave the device out, or sort the floor anew"))
    return found + refusals(device, assessment, requirements)


def check_terms(given: NewTerms, basis: TermsBasis, *, attached: bool) -> tuple[ConditionTerms, ...]:
    """Check the terms of an exception. Returns its conditions as they are kept. Raises `InvalidInputError`."""
    check_reason(given.reason, given.owner)
    check_active(given.owner, basis.active)
    check_dates(given.start_on, given.expires_on, given.review_on, basis.most_days)
    check_expiry(given.expires_on, basis.as_of)
    has = {name for name, there in (("conditions", given.conditions), ("attachment", attached)) if there}
    check_required(basis.required, has)
    return tuple(_kept(at, one, basis.platform, given) for at, one in enumerate(given.conditions, 1))


def _kept(at: int, given: NewCondition, platform: Platform, terms: NewTerms) -> ConditionTerms:
    place = f"conditions, {at}"
    if given.fact_condition is None:
        text = given.text.strip().rstrip(".")
        due = given.due_on or terms.review_on
        check_attested(place, text, due, given.every_days, terms.start_on, terms.expires_on)
        return ConditionTerms(at, text, None, due, given.every_days)
    try:
        condition = parse(given.fact_condition, platform.specs, platform.lists)
    except ConditionError as error:
        inside = ".".join(map(str, error.path))
        raise InvalidInputError(f"{place}{', ' + inside if inside else ''}: {error.message}", error.hint) from error
    return ConditionTerms(at, given.text.strip() or str(condition), dict(given.fact_condition), None, None)


def _check_acknowledged(new: NewException, risk: Risk) -> None:
    if new.risk_acknowledged != risk.text:
        raise InvalidInputError("The risk statement is not acknowledged word for word", "Send its text back unchanged")
    if risk.notice and new.notice_acknowledged != risk.notice:
        raise InvalidInputError(
            f"The vendor's notice of {new.release} is not acknowledged word for word", "Send its text back unchanged"
        )


def _check_renewal(name: str, old: RenewedException | None, platform: Platform, devices: Collection[str]) -> None:
    if not name:
        return
    if old is None:
        raise UnknownObjectError(f"There is no exception {name!r}", "See them with 'doorstone exception list'")
    if old.platform != platform.id:
        raise InvalidInputError(f"{old.id} is for {old.platform}", "Renew it for devices of that platform")
    check_renewal(old.id, old.state, old.renewed_by, devices, old.devices)


@contextmanager
def _noted(place: str, errors: list[PlacedError]) -> Iterator[None]:
    try:
        yield
    except RuleError as error:
        errors.append(PlacedError(place, error))
