"""Disputes, and the failures that assessors tell in words."""

from __future__ import annotations

from pydantic import Field

from doorstone.formats.wire import Asked
from doorstone.formats.wire_fleet import (
    DisputeList,
    DisputeShape,
    NewRequirementAsked,
    SettlementAsked,
    SettlementList,
    SettlementShape,
    TextMatchAsked,
    ToldTextList,
    ToldTextShape,
)
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, HANDS, Call, Operations
from doorstone.work import disputes, told

operations = Operations("disputes")


class DisputeQuery(Asked):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    device: str = ""


class SettlementQuery(Asked):
    device: str


class TextQuery(Asked):
    platform: str
    waiting: bool = Field(False, description="Only texts that match no requirement")


@operations("GET", "/disputes", "What sources disagree about", roles=EVERYONE, query=DisputeQuery, answer=DisputeList)
def list_disputes(call: Call[DisputeQuery, None]) -> DisputeList:
    q = call.query
    found = disputes.list_disputes(call.desk, q.platform, q.release, q.device)
    return DisputeList(items=[DisputeShape.model_validate(one) for one in found])


@operations(
    "GET", "/settlements", "How disputes of a device were settled", roles=EVERYONE, query=SettlementQuery,
    answer=SettlementList,
)  # fmt: skip
def list_settlements(call: Call[SettlementQuery, None]) -> SettlementList:
    found = disputes.list_settlements(call.desk, call.query.device)
    return SettlementList(items=[SettlementShape.model_validate(one) for one in found])


@operations(
    "POST", "/settlements", "Settle a dispute", roles=HANDS, body=SettlementAsked, answer=SettlementShape, status=201,
    creates=True, touches=lambda call: [call.body.device],
)  # fmt: skip
def settle_dispute(call: Call[None, SettlementAsked]) -> SettlementShape:
    a = call.body
    found = disputes.settle_dispute(call.desk, call.actor, a.device, a.kind, a.subject, a.value, a.reason)
    return SettlementShape.model_validate(found)


@operations("GET", "/failure-texts", "Failures told in words", roles=EVERYONE, query=TextQuery, answer=ToldTextList)
def list_failure_texts(call: Call[TextQuery, None]) -> ToldTextList:
    found = told.list_texts(call.desk, call.query.platform, waiting=call.query.waiting)
    return ToldTextList(items=[ToldTextShape.model_validate(one) for one in found])


@operations(
    "POST", "/failure-texts/match", "Match a text to a requirement", roles=ADMINISTRATORS, body=TextMatchAsked,
    answer=ToldTextShape,
)  # fmt: skip
def match_failure_text(call: Call[None, TextMatchAsked]) -> ToldTextShape:
    a = call.body
    return ToldTextShape.model_validate(told.match_text(call.desk, call.actor, a.platform, a.text, a.requirement))


@operations(
    "POST", "/failure-texts/requirement", "Make a text into a new requirement", roles=ADMINISTRATORS,
    body=NewRequirementAsked, answer=ToldTextShape, status=201,
)  # fmt: skip
def new_requirement(call: Call[None, NewRequirementAsked]) -> ToldTextShape:
    a = call.body
    found = told.new_requirement(call.desk, call.actor, a.platform, a.text, a.id, a.title, a.since)
    return ToldTextShape.model_validate(found)
