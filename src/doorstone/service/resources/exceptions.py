"""Exceptions: asked for, edited, decided."""

from __future__ import annotations

from dataclasses import asdict

from doorstone.formats.wire import (
    Asked,
    ExceptionList,
    ExceptionRequestAsked,
    ExceptionShape,
    ExceptionTermsAsked,
    MoveAsked,
)
from doorstone.service.operations import DECIDERS, EVERYONE, HANDS, Answer, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.work import exceptions
from doorstone.work.exceptions import ExceptionAsked, ExceptionTermsGiven, ExceptionView

operations = Operations("exceptions")


class ExceptionQuery(Asked):
    state: str = ""
    device: str = ""


def _shape(view: ExceptionView) -> ExceptionShape:
    row = {name: value for name, value in asdict(view.row).items() if name not in ("id", "state", "shown")}
    return ExceptionShape.model_validate(
        {
            **row,
            "id": view.id,
            "state": view.state,
            "in_force": view.in_force,
            "stale": dict(view.stale),
            "moves": list(view.moves),
        }
    )


def _answer(view: ExceptionView) -> Answer:
    return Answer(_shape(view), etag=f"v{view.row.version}")


def _terms(asked: ExceptionTermsAsked) -> ExceptionTermsGiven:
    return ExceptionTermsGiven(
        asked.reason.strip(),
        asked.conditions.strip(),
        asked.owner.strip(),
        asked.start_on,
        asked.expires_on,
        asked.review_on,
    )


@operations("GET", "/exceptions", "List exceptions", roles=EVERYONE, query=ExceptionQuery, answer=ExceptionList)
def list_exceptions(call: Call[ExceptionQuery, None]) -> ExceptionList:
    views = exceptions.list_exceptions(call.desk, call.query.state, call.query.device)
    return ExceptionList(items=[_shape(view) for view in views])


@operations("GET", "/exceptions/<exception>", "One exception", roles=EVERYONE, answer=ExceptionShape)
def get_exception(call: Call[None, None]) -> Answer:
    return _answer(exceptions.get_exception(call.desk, call.path["exception"]))


@operations(
    "POST",
    "/exceptions",
    "Request an exception",
    roles=HANDS,
    body=ExceptionRequestAsked,
    answer=ExceptionShape,
    status=201,
    creates=True,
)
def request_exception(call: Call[None, ExceptionRequestAsked]) -> Answer:
    a = call.body
    asked = ExceptionAsked(a.release, a.up_to, tuple(a.requirements), tuple(a.devices), a.risk_acknowledged, _terms(a))
    return _answer(exceptions.request(call.desk, call.actor, asked))


@operations(
    "PATCH",
    "/exceptions/<exception>",
    "Edit the terms while requested",
    roles=HANDS,
    body=ExceptionTermsAsked,
    answer=ExceptionShape,
    match=True,
)
def edit_exception(call: Call[None, ExceptionTermsAsked]) -> Answer:
    assert call.version is not None
    terms = _terms(call.body)
    return _answer(exceptions.edit(call.desk, call.actor, call.path["exception"], call.version, terms))


@operations(
    "POST",
    "/exceptions/<exception>/decision",
    "Approve, decline, revoke or close an exception",
    roles=DECIDERS,
    body=MoveAsked,
    answer=ExceptionShape,
    match=True,
)
def decide_exception(call: Call[None, MoveAsked]) -> Answer:
    if call.body.move == "withdraw":
        raise ServiceProblemError(400, "bad-request", "Withdrawing has its own address", "POST .../withdrawal instead")
    view = exceptions.decide(
        call.desk, call.actor, call.path["exception"], call.body.move, call.body.note, call.version
    )
    return _answer(view)


@operations(
    "POST",
    "/exceptions/<exception>/withdrawal",
    "Withdraw one's own request",
    roles=HANDS,
    answer=ExceptionShape,
    match=True,
)
def withdraw_exception(call: Call[None, None]) -> Answer:
    view = exceptions.decide(call.desk, call.actor, call.path["exception"], "withdraw", "", call.version)
    return _answer(view)
