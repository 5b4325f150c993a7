"""The sorting table and the decisions."""

from __future__ import annotations

from doorstone.formats.wire import (
    Asked,
    DecisionAsked,
    DecisionList,
    DecisionShape,
    SortingRowShape,
    SortingTable,
    WithdrawalAsked,
)
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, Call, Operations
from doorstone.work import sorting

operations = Operations("sorting")


class DecisionQuery(Asked):
    platform: str
    requirement: str = ""


class SortingQuery(Asked):
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
    rows = sorting.sorting_table(call.desk, call.query.platform, call.query.release)
    items = [SortingRowShape.model_validate(row) for row in rows]
    return SortingTable(platform=call.query.platform, release=call.query.release, items=items)


@operations(
    "POST",
    "/decisions",
    "Sort a requirement",
    roles=ADMINISTRATORS,
    body=DecisionAsked,
    answer=DecisionShape,
    status=201,
    creates=True,
)
def decide(call: Call[None, DecisionAsked]) -> DecisionShape:
    a = call.body
    decision = sorting.decide(
        *(call.desk, call.actor, a.platform, a.requirement, a.release, a.scope, a.target, a.sort),
        *(a.evidence, a.note, a.link),
    )
    return DecisionShape.model_validate(decision)


@operations("GET", "/decisions", "Every decision", roles=EVERYONE, query=DecisionQuery, answer=DecisionList)
def list_decisions(call: Call[DecisionQuery, None]) -> DecisionList:
    found = sorting.list_decisions(call.desk, call.query.platform, call.query.requirement)
    return DecisionList(items=[DecisionShape.model_validate(one) for one in found])


@operations(
    "POST", "/decisions/<decision>/withdrawal", "Withdraw a decision", roles=ADMINISTRATORS, body=WithdrawalAsked,
    answer=DecisionShape,
)  # fmt: skip
def withdraw_decision(call: Call[None, WithdrawalAsked]) -> DecisionShape:
    found = sorting.withdraw(call.desk, call.actor, call.path["decision"], call.body.note)
    return DecisionShape.model_validate(found)
