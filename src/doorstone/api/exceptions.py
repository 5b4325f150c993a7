"""Exceptions on the wire: requests, terms, moves, the register, uncovered devices."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from pydantic import Field

from doorstone.api.common import ApiModel, ErrorEntry, RequestModel
from doorstone.api.times import Moment
from doorstone.core.exceptions.folder import FolderDeed
from doorstone.core.exceptions.run import Began
from doorstone.core.exceptions.uncovered import UncoveredCause

MoveName = Literal["approve", "decline", "revoke", "close", "confirm"]


class ConditionRequest(RequestModel):
    """A condition to keep: a test of facts as in a sheet, or words that somebody attests by a day."""

    text: str = Field("", max_length=500, description="Needed without a test; with one it says the test if left out")
    fact_condition: dict[str, Any] | None = Field(None, description='Such as {"fact": "disk.encrypted", "is": true}')
    due_on: date | None = Field(None, description="To be attested by this day; the review if left out")
    every_days: int | None = Field(None, ge=1, le=366, description="And then every so many days")


class AttachmentRequest(RequestModel):
    """A document that supports an exception, kept as a link and its SHA-256."""

    title: str = Field(max_length=200)
    link: str = Field(max_length=1000)
    sha256: str = Field("", max_length=64)


class ExceptionTermsRequest(RequestModel):
    """What is agreed of an exception: reason, conditions, owner and days."""

    reason: str = Field(max_length=4000)
    conditions: list[ConditionRequest] = Field([], max_length=20)
    owner: str = Field(max_length=200)
    start_on: date
    expires_on: date
    review_on: date


class ExceptionRequest(ExceptionTermsRequest):
    """A request for an exception: which requirements, on which devices, up to which release."""

    release: str
    up_to: bool = False
    requirements: list[str] = Field(max_length=100)
    devices: list[str] = Field([], max_length=5000)
    selection: str = Field("", description="A saved selection whose devices come on top")
    platform: str = Field("", description="Of the selection, if it is not its own")
    go_on: bool = Field(False, description="Leave out the devices that cannot have it, and ask for the rest")
    risk_acknowledged: str = Field(max_length=4000, description="The risk statement, word for word")
    notice_acknowledged: str = Field("", max_length=4000, description="The vendor's notice, word for word, if any")
    renews: str = Field("", description="The exception that this one follows on")
    attachments: list[AttachmentRequest] = Field([], max_length=20)


class RiskResponse(ApiModel):
    """What is acknowledged word for word."""

    version: int
    text: str
    notice: str


class RiskRequest(RequestModel):
    """A new risk statement; requests acknowledge it from then on."""

    text: str = Field(max_length=4000)


class RequestCheckResponse(ApiModel):
    """What a request would meet; nothing was written."""

    platform: str
    devices: list[str]
    refused: list[ErrorEntry]
    terms: list[ErrorEntry] = Field(description="What else the request would be refused for: dates, reason, owner")


class MoveRequest(RequestModel):
    """A move of an exception: approve, reject, confirm, end and the like."""

    move: MoveName
    note: str = Field("", max_length=4000)
    devices: list[str] = Field([], description="To approve or confirm only these; all if left out")
    requirements: list[str] = Field([], description="To approve only these; all if left out")


class CommentRequest(RequestModel):
    """A comment on an exception, or a question to its requester."""

    text: str = Field(max_length=4000)
    question: bool = Field(False, description="Ask the requester back; the request waits for the answer")


class AttestRequest(RequestModel):
    """Somebody's word that a condition was kept."""

    condition: int = Field(ge=1)
    note: str = Field("", max_length=2000)


class OwnerRequest(RequestModel):
    """Another person who answers for an exception from now on."""

    owner: str
    note: str = Field("", max_length=2000)


class ReviewRequest(RequestModel):
    """A review that was held, and the day of the next one."""

    next_on: date | None = Field(None, description="The next review; its last day if left out")
    note: str = Field(max_length=2000)


class ApprovalResponse(ApiModel):
    """One approval of an exception."""

    person: str
    in_place_of: str = Field(description="Whose deputy gave it; empty for one's own")
    at: Moment
    note: str


class AttestationResponse(ApiModel):
    """Somebody's word that a condition is kept."""

    day: date
    by: str
    note: str


class KeptResponse(ApiModel):
    """A condition to keep, as it stands today."""

    number: int
    text: str
    kind: Literal["facts", "attested"]
    word: Literal["kept", "broken", "unread", "due", "overdue"]
    measured: str
    due_on: date | None
    every_days: int | None
    fact_condition: dict[str, Any] | None
    devices: dict[str, str] = Field(description="Devices on which the facts do not show it kept, and what they show")
    attested: list[AttestationResponse]


class AttachmentResponse(ApiModel):
    """A document that supports an exception."""

    number: int
    title: str
    link: str
    sha256: str
    by: str
    at: Moment


class CommentResponse(ApiModel):
    """A comment, question or answer on an exception."""

    kind: Literal["comment", "question", "answer"]
    text: str
    by: str
    at: Moment


class RiskPartResponse(ApiModel):
    """One part of the residual risk, in points."""

    words: str
    points: int


class ResidualRiskResponse(ApiModel):
    """The sum of its parts, never below 0. Of several devices the one that weighs most counts."""

    points: int
    parts: list[RiskPartResponse]
    device: str


class ExceptionResponse(ApiModel):
    """An exception with its terms, decisions, conditions and what may be done with it."""

    id: str
    version: int
    platform: str
    release: str
    up_to: bool
    requirements: list[str]
    devices: list[str]
    left_out: dict[str, str] = Field(description="Device or requirement to why it was not approved with the rest")
    reason: str
    conditions: list[KeptResponse]
    attachments: list[AttachmentResponse]
    comments: list[CommentResponse]
    risk_version: int
    risk_text: str
    notice_text: str
    acknowledged_by: str
    owner: str
    start_on: date
    expires_on: date
    review_on: date
    state: str
    in_force: bool
    asked_back: bool
    requester: str
    requested_at: Moment
    approvals_needed: int
    approvals: list[ApprovalResponse]
    decided_by: str | None
    decided_at: Moment | None
    decision_note: str
    self_approved: bool
    ended_on: date | None
    renews: str
    renewed_by: str
    renewed_state: str | None = Field(description="Of the exception that renews it, or is asked for to do so")
    residual: ResidualRiskResponse
    stale: dict[str, list[str]] = Field(description="Device to what changed since its approval")
    stale_moved_on: dict[str, list[str]] = Field(
        {}, description="The same for devices that already run a later release; no action is needed"
    )
    moves: list[str] = Field(description="Moves that are possible, whoever makes them")
    actions: list[str] = Field([], description="What whoever asks may do with it now, at the sites of its devices")
    refused: list[ErrorEntry] = Field([], description="Devices that were left out of the request, and why")


class ExceptionList(ApiModel):
    """A list of exceptions."""

    items: list[ExceptionResponse]


class RequestGroupResponse(ApiModel):
    """Devices for which the same requirements are requested, and the exception that requests them."""

    requirements: list[str]
    devices: list[str]
    exception: str


class ExceptionBatchResponse(ApiModel):
    """One exception requested for each group of devices that lack the same."""

    groups: list[RequestGroupResponse]
    refused: list[ErrorEntry] = Field(description="Devices for which nothing is requested, and why")


class ExceptionVersion(RequestModel):
    """An exception as it was looked at; refused if it has changed since."""

    exception: str
    version: int = Field(ge=1, description="The version that was looked at")


class ManyMovesRequest(RequestModel):
    """The same move of many exceptions."""

    exceptions: list[ExceptionVersion] = Field(min_length=1, max_length=500)
    move: MoveName
    note: str = Field("", max_length=4000)


class ManyOwnersRequest(RequestModel):
    """Another owner for many exceptions."""

    exceptions: list[ExceptionVersion] = Field(min_length=1, max_length=500)
    owner: str
    note: str = Field("", max_length=2000)


class RenewalsRequest(RequestModel):
    """Renewals to request of many exceptions, with one last day."""

    exceptions: list[str] = Field(min_length=1, max_length=500)
    expires_on: date
    review_on: date | None = Field(None, description="Half-way, if left out")
    reason: str = Field("", max_length=4000, description="That of each exception, if left out")
    risk_acknowledged: str
    notices_acknowledged: list[str] = Field([], description="The vendor's notice of each release")


class ConsequenceResponse(ApiModel):
    """What the end of an exception means for one of its devices."""

    device: str
    runs: str
    relies: bool = Field(description="It runs, today, what only this exception permits")
    steps: list[str]


class ConsequenceList(ApiModel):
    """What the end of an exception means, device by device."""

    items: list[ConsequenceResponse]


class PermissionResponse(ApiModel):
    """One requirement that a device fails, and what permits that."""

    requirement: str
    title: str
    measured: str
    sort: str
    sorted_by: str
    exception: str
    approved_by: list[str]
    approved_at: str
    self_approved: bool
    through: str
    conditions: list[KeptResponse]
    attachments: list[AttachmentResponse]
    holds: bool
    still: list[str] = Field(description="Why it does not hold, if so")


class OtherExceptionResponse(ApiModel):
    """An exception of a device, requested or approved, that does not concern the release that is shown."""

    id: str
    state: str
    release: str
    requirements: list[str]
    through: date


class AccountResponse(ApiModel):
    """By what permission a device runs its release, one requirement after another."""

    device: str
    runs: str
    release: str
    permissions: list[PermissionResponse]
    others: list[OtherExceptionResponse] = Field(description="Its exceptions for other releases")


class UncoveredResponse(ApiModel):
    """A device that runs a release with checks unmet that no exception in force names."""

    device: str
    name: str
    site: str
    critical: bool
    platform: str
    release: str = Field(description="The release that it runs")
    requirements: list[str]
    since: date = Field(description="The first day of the present unbroken run without permission")
    exact: bool = Field(description="Whether that is the first day; if not, since at least: the history was reduced")
    began: Began = Field(description="What began the run")
    days: int = Field(description="For so many days, today included")
    cause: UncoveredCause = Field(description="Never asked for, waits, or how the last exception ended")
    last: str = Field(description="The exception that covered it last, or that waits; empty if there was none")
    why: str = Field(description="With stale: what changed")
    steps: list[str] = Field(description="What would end it, the nearest first")


class UncoveredList(ApiModel):
    """A page of them; the longest without permission first, of one day those that lack the same together."""

    items: list[UncoveredResponse]
    next: str | None = Field(description="The cursor of the rest; null if there is none")
    total: int = Field(description="Devices in all, at the site asked for")
    sites: dict[str, int] = Field(description="Where such devices are, whichever site is asked for: site to devices")


class FolderRequest(RequestModel):
    """A reviewed folder: a TOML file for each exception, by name."""

    files: dict[str, str] = Field(max_length=2000)


class FolderChangesRequest(FolderRequest):
    """A reviewed folder whose changes are to be made in the register."""

    reference: str = Field(max_length=200, description="The revision that the folder is of; it stands with each change")
    risk_acknowledged: str = Field("", max_length=4000, description="The risk statement, for what is requested")
    notices_acknowledged: list[str] = Field([], description="The vendor's notice of each release")


class FieldChangeResponse(ApiModel):
    """A field that differs between the register and the file."""

    name: str
    in_register: str
    in_file: str


class FolderDifferenceResponse(ApiModel):
    """How one file differs from the register, and what would be done about it."""

    file: str = Field(description="Empty for an exception that no file has")
    exception: str = Field(description="Empty for one that is to be requested")
    deeds: list[FolderDeed]
    changes: list[FieldChangeResponse]
    hint: str = Field(description="For what no file does: what to do by hand")


class FolderDifferenceList(ApiModel):
    """How a folder differs from the register."""

    items: list[FolderDifferenceResponse]


class FolderDoneResponse(ApiModel):
    """What was done because of one file."""

    file: str
    exception: str
    deed: FolderDeed


class FolderDoneList(ApiModel):
    """What was done because of a folder."""

    items: list[FolderDoneResponse]
