"""Sorting on the wire: findings, assessments, decisions, the sorting table."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.devices import VerdictResponse
from doorstone.api.fixes import FixResponse
from doorstone.api.times import Moment
from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import Finding, Scope, State


class RequirementResponse(ApiModel):
    """A requirement, as its finding shows it."""

    id: str
    title: str
    because: str
    source: str
    enforced_at: list[str]


class LeafResponse(ApiModel):
    """One comparison of a condition: what is required, what was measured, how far it falls short."""

    fact: str
    required: str
    measured: str | None
    outcome: str
    shortfall: str | None
    source: str | None
    taken_at: Moment | None
    note: str | None
    level: float | None = Field(description="Measured over required, for numbers")


class RivalResponse(ApiModel):
    """What another source says of a fact, and what would come of it."""

    fact: str
    value: str
    source: str
    taken_at: Moment
    outcome: str


class DisputeDecisionResponse(ApiModel):
    """A decision on a dispute that a finding rests on."""

    id: str
    subject: str
    reason: str
    by: str
    at: Moment


class SortWordResponse(ApiModel):
    """What one level says of a requirement's sort: the sheet, or a decision."""

    level: str
    sort: Sort | None
    decision: str


class FindingResponse(ApiModel):
    """How a device stands to a requirement, and all that this rests on."""

    requirement: RequirementResponse
    finding: Finding
    mark: str
    sort: Sort | None
    sorted_by: str
    decides: bool
    leaves: list[LeafResponse]
    fixes: list[FixResponse]
    rivals: list[RivalResponse]
    against: list[VerdictResponse]
    dispute_decisions: list[DisputeDecisionResponse] = Field(
        description="Operators' words that settle what sources dispute"
    )
    words: list[SortWordResponse] = Field(description="Every word on the sort, the narrowest first; the first counts")


class AssessmentResponse(ApiModel):
    """How a device stands at a release, requirement by requirement."""

    release: str
    state: State
    findings: list[FindingResponse]


class DecisionRequest(RequestModel):
    """A decision on a requirement's sort: floor or installer check, on what evidence."""

    platform: str
    requirement: str
    release: str
    scope: Scope = Scope.RELEASE
    target: str = Field("", max_length=200, description="A device id or machine model, by scope")
    sort: Sort
    evidence: Literal["vendor-statement", "trial", "attempt", "report"]
    note: str = Field(max_length=2000)
    link: str = Field("", max_length=500, description="Where the evidence is to be seen, https://")


class WithdrawalRequest(RequestModel):
    """A decision to withdraw."""

    note: str = Field(max_length=2000, description="Why it no longer holds")


class DecisionResponse(ApiModel):
    """A decision on a requirement's sort as it was recorded."""

    id: str
    requirement: str
    release: str
    scope: Scope
    target: str
    sort: Sort
    evidence: str
    note: str
    link: str
    by: str
    at: Moment
    withdrawn_at: Moment | None
    withdrawn_by: str
    withdrawn_note: str


class DecisionList(ApiModel):
    """Decisions on sorts."""

    items: list[DecisionResponse]


class TallyResponse(ApiModel):
    """What attempts without a requirement came to on one machine model, in devices."""

    model: str
    ran: int
    refused: int
    failed_to_start: int


class SortingRowResponse(ApiModel):
    """A requirement in the sorting table: its sort, its counts, what attempts showed of it."""

    requirement: str
    title: str
    condition: str
    because: str
    source: str
    enforced_at: list[str]
    reported: bool = Field(description="Known only from failure messages")
    sort: Sort
    sorted_by: str
    marks: dict[str, int]
    ran: int
    refused: int
    failed_to_start: int
    tallies: list[TallyResponse]
    against: str
    decisions: list[DecisionResponse]


class SortingTable(ApiModel):
    """How a platform's requirements are sorted at a release."""

    platform: str
    release: str
    items: list[SortingRowResponse]
