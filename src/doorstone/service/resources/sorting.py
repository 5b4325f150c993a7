"""The sorting table and the decisions."""

from __future__ import annotations

from doorstone.api.common import RequestModel
from doorstone.api.sorting import (
    DecisionList,
    DecisionRequest,
    DecisionResponse,
    SortingRowResponse,
    SortingTable,
    WithdrawalRequest,
)
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, Call, Operations
from doorstone.work import sorting

operations = Operations("sorting")


class DecisionQuery(RequestModel):
    platform: str
    requirement: str = ""


class SortingQuery(RequestModel):
    platform: str
    release: str


@operations(
    "GET",
    "/sorting",
    "What a release asks and how it is sorted",
    roles=EVERYONE,
    query=SortingQuery,
    answer=SortingTable,
)
def sorting_table(call: Call[SortingQuery, None]) -> SortingTable:
    rows = sorting.sorting_table(call.context, call.query.platform, call.query.release)
    items = [SortingRowResponse.model_validate(row) for row in rows]
    return SortingTable(platform=call.query.platform, release=call.query.release, items=items)


@operations(
    "POST",
    "/decisions",
    "Sort a requirement",
    roles=ADMINISTRATORS,
    body=DecisionRequest,
    answer=DecisionResponse,
    status=201,
    creates=True,
)
def decide(call: Call[None, DecisionRequest]) -> DecisionResponse:
    a = call.body
    decision = sorting.decide(
        *(call.context, call.actor, a.platform, a.requirement, a.release, a.scope, a.target, a.sort),
        *(a.evidence, a.note, a.link),
    )
    return DecisionResponse.model_validate(decision)


@operations("GET", "/decisions", "Every decision", roles=EVERYONE, query=DecisionQuery, answer=DecisionList)
def list_decisions(call: Call[DecisionQuery, None]) -> DecisionList:
    found = sorting.list_decisions(call.context, call.query.platform, call.query.requirement)
    return DecisionList(items=[DecisionResponse.model_validate(one) for one in found])


@operations(
    "POST", "/decisions/<decision>/withdrawal", "Withdraw a decision", roles=ADMINISTRATORS, body=WithdrawalRequest,
    answer=DecisionResponse,
)  # fmt: skip
def withdraw_decision(call: Call[None, WithdrawalRequest]) -> DecisionResponse:
    found = sorting.withdraw(call.context, call.actor, call.path["decision"], call.body.note)
    return DecisionResponse.model_validate(found)
