"""Disputes, and failure messages of assessors."""

from __future__ import annotations

from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.disputes import DisputeList, DisputeResponse, SettlementList, SettlementRequest, SettlementResponse
from doorstone.api.readings import FailureMessageList, FailureMessageResponse, NewRequirementRequest, TextMatchRequest
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, HANDS, Call, Operations
from doorstone.work.devices import disputes
from doorstone.work.readings import failure_messages
from doorstone.work.snapshot.failure_messages import list_messages

operations = Operations("disputes")


class DisputeQuery(RequestModel):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    device: str = ""


class SettlementQuery(RequestModel):
    device: str


class TextQuery(RequestModel):
    platform: str
    waiting: bool = Field(False, description="Only texts that match no requirement")


@operations("GET", "/disputes", "What sources disagree about", roles=EVERYONE, query=DisputeQuery, answer=DisputeList)
def list_disputes(call: Call[DisputeQuery, None]) -> DisputeList:
    q = call.query
    found = disputes.list_disputes(call.context, q.platform, q.release, q.device)
    return DisputeList(items=[DisputeResponse.model_validate(one) for one in found])


@operations(
    "GET", "/settlements", "How disputes of a device were settled", roles=EVERYONE, query=SettlementQuery,
    answer=SettlementList,
)  # fmt: skip
def list_settlements(call: Call[SettlementQuery, None]) -> SettlementList:
    found = disputes.list_settlements(call.context, call.query.device)
    return SettlementList(items=[SettlementResponse.model_validate(one) for one in found])


@operations(
    "POST", "/settlements", "Settle a dispute", roles=HANDS, body=SettlementRequest, answer=SettlementResponse,
    status=201, creates=True, affected_devices=lambda call: [call.body.device],
)  # fmt: skip
def settle_dispute(call: Call[None, SettlementRequest]) -> SettlementResponse:
    a = call.body
    found = disputes.settle_dispute(call.context, call.actor, a.device, a.kind, a.subject, a.value, a.reason)
    return SettlementResponse.model_validate(found)


@operations(
    "GET", "/failure-texts", "Failures told in words", roles=EVERYONE, query=TextQuery, answer=FailureMessageList
)
def list_failure_texts(call: Call[TextQuery, None]) -> FailureMessageList:
    found = list_messages(call.context, call.query.platform, waiting=call.query.waiting)
    return FailureMessageList(items=[FailureMessageResponse.model_validate(one) for one in found])


@operations(
    "POST", "/failure-texts/match", "Match a text to a requirement", roles=ADMINISTRATORS, body=TextMatchRequest,
    answer=FailureMessageResponse,
)  # fmt: skip
def match_failure_text(call: Call[None, TextMatchRequest]) -> FailureMessageResponse:
    a = call.body
    return FailureMessageResponse.model_validate(
        failure_messages.match_message(call.context, call.actor, a.platform, a.text, a.requirement)
    )


@operations(
    "POST", "/failure-texts/requirement", "Make a text into a new requirement", roles=ADMINISTRATORS,
    body=NewRequirementRequest, answer=FailureMessageResponse, status=201,
)  # fmt: skip
def new_requirement(call: Call[None, NewRequirementRequest]) -> FailureMessageResponse:
    a = call.body
    found = failure_messages.new_requirement(call.context, call.actor, a.platform, a.text, a.id, a.title, a.since)
    return FailureMessageResponse.model_validate(found)
