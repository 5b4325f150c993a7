"""What goes over the wire up to the kit: the shapes of the JSON that the service and the client library share."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from doorstone.core.platforms import Route, Sort
from doorstone.core.sorting import Finding, Scope, State

Role = Literal["viewer", "technician", "approver", "administrator"]
KitRoute = Literal["in-place", "clean"]


class Shape(BaseModel):
    model_config = ConfigDict(from_attributes=True)


class Asked(BaseModel):
    """Something sent to the service: unknown keys are refused."""

    model_config = ConfigDict(extra="forbid")


# ------------------------------------------------------------------ problems


class TroubleShape(Shape):
    place: str
    message: str
    mend: str


class Problem(Shape):
    """A problem document (RFC 9457), with what to do about it and every place that is wrong."""

    type: str
    title: str
    status: int
    detail: str
    instance: str = ""
    mend: str = ""
    troubles: list[TroubleShape] = []


# -------------------------------------------------------------------- people


class SignIn(Asked):
    name: str = Field(max_length=100)
    password: str = Field(max_length=200)


class PersonShape(Shape):
    name: str
    display: str
    role: Role


class SessionShape(Shape):
    """Who is signed in, and the clock and rules that the console needs."""

    name: str
    display: str
    role: Role
    today: date
    risk_statement: str
    most_days: int
    self_approval: bool


class PersonAsked(Asked):
    name: str
    display: str = Field("", max_length=100)
    role: Role
    password: str = Field(max_length=200)


class PersonList(Shape):
    items: list[PersonShape]


class TokenAsked(Asked):
    name: str = Field(min_length=1, max_length=100)
    role: Role
    days: int = Field(90, ge=1, le=730)


class TokenShape(Shape):
    id: str
    name: str
    person: str
    role: Role
    issued_at: datetime
    expires_on: date
    revoked_at: datetime | None
    secret: str | None = Field(None, description="Shown once, when it is issued")


class TokenList(Shape):
    items: list[TokenShape]


# -------------------------------------------------------------------- sheets


class SheetAsked(Asked):
    name: str = Field("sheet.toml", max_length=200)
    text: str = Field(description="The sheet, TOML")
    lists: dict[str, str] = Field({}, description="Files beside the sheet, name to text")


class LoadReportShape(Shape):
    platform: str
    revision: int
    changed: bool
    requirements: int
    overrides: int
    releases: int


class ReleaseShape(Shape):
    id: str
    published: date
    servicing_ends: dict[str, date]
    upgrade_from: list[str]
    rollback_days: int


class PlatformShape(Shape):
    id: str
    name: str
    maker: str
    editions: list[str]
    releases: list[ReleaseShape]
    target: str = Field(description="The release to move to unless another is named")
    sheet_revision: int


class PlatformList(Shape):
    items: list[PlatformShape]


# ------------------------------------------------------------------ readings


class ReadingsAsked(Asked):
    form: Literal["ndjson", "csv"]
    text: str = Field(description="The whole file")


class ImportShape(Shape):
    id: str
    readings: int
    devices: int
    added: int


# ------------------------------------------------------------------- devices


class DeviceShape(Shape):
    id: str
    name: str
    site: str
    role: str
    critical: bool
    platform: str
    model: str
    release: str
    edition: str
    state: State
    marks: dict[str, str] = Field(description="Requirement to mark, in the sheet's order")
    runway: date | None


class DevicePageShape(Shape):
    platform: str
    release: str
    total: int
    items: list[DeviceShape]
    next: str | None
    sites: list[str]
    roles: list[str]


class FactWordShape(Shape):
    value: str
    source: str
    taken_at: datetime


class FactShape(Shape):
    name: str
    title: str
    believed: FactWordShape
    rivals: list[FactWordShape]
    lasting: bool
    aged: bool


class ReadingShape(Shape):
    source: str
    taken_at: datetime
    facts: dict[str, Any]
    verdicts: dict[str, bool]


class CourseShape(Shape):
    way: Literal["take", "fix", "except", "read", "stay", "retire"]
    by: date | None
    why: str


class DeviceDetail(Shape):
    device: DeviceShape
    target: str
    releases: list[str]
    facts: list[FactShape]
    readings: list[ReadingShape]
    course: CourseShape | None


class RequirementShape(Shape):
    id: str
    title: str
    because: str
    source: str
    enforced_at: list[str]


class LeafShape(Shape):
    fact: str
    required: str
    measured: str | None
    outcome: str
    shortfall: str | None
    source: str | None
    taken_at: datetime | None
    note: str | None
    level: float | None = Field(description="Measured over required, for numbers")


class FixShape(Shape):
    title: str
    kind: str
    minutes: int
    cost: Decimal


class RivalShape(Shape):
    fact: str
    value: str
    source: str
    taken_at: datetime
    outcome: str


class VerdictShape(Shape):
    requirement: str
    passed: bool
    source: str
    taken_at: datetime


class FindingShape(Shape):
    requirement: RequirementShape
    finding: Finding
    mark: str
    sort: Sort | None
    sorted_by: str
    deciding: bool
    leaves: list[LeafShape]
    fixes: list[FixShape]
    rivals: list[RivalShape]
    against: list[VerdictShape]


class AssessmentShape(Shape):
    release: str
    state: State
    findings: list[FindingShape]


class OverrideBrief(Shape):
    id: str
    title: str
    kind: str
    weight: int
    origin: str
    covers: list[str]


class OverrideSetShape(Shape):
    overrides: list[OverrideBrief]
    covers: list[str]
    excess: list[str]


class LeftOutShape(Shape):
    id: str
    title: str
    why: str


class PartialShape(Shape):
    id: str
    covers: list[str]


class OverrideAnswerShape(Shape):
    device: str
    release: str
    route: Route
    checks: list[str]
    best: OverrideSetShape | None
    alternatives: list[OverrideSetShape]
    left_out: list[LeftOutShape]
    uncovered: list[str]
    partial: list[PartialShape]


# ------------------------------------------------------------------- sorting


class DecisionAsked(Asked):
    platform: str
    requirement: str
    release: str
    scope: Scope = Scope.RELEASE
    target: str = Field("", max_length=200, description="A device id or machine model, by scope")
    sort: Sort
    evidence: Literal["vendor-statement", "trial", "attempt", "report"]
    note: str = Field(max_length=2000)


class DecisionShape(Shape):
    id: str
    requirement: str
    release: str
    scope: Scope
    target: str
    sort: Sort
    evidence: str
    note: str
    by: str
    at: datetime


class SortingRowShape(Shape):
    requirement: str
    title: str
    condition: str
    because: str
    source: str
    enforced_at: list[str]
    sort: Sort
    sorted_by: str
    marks: dict[str, int]
    ran: int
    refused: int
    failed_to_start: int
    against: str
    decisions: list[DecisionShape]


class SortingTable(Shape):
    platform: str
    release: str
    items: list[SortingRowShape]


# ---------------------------------------------------------------- exceptions


class ExceptionTermsAsked(Asked):
    reason: str = Field(max_length=4000)
    conditions: str = Field("", max_length=4000)
    owner: str = Field(max_length=200)
    start_on: date
    expires_on: date
    review_on: date


class ExceptionRequestAsked(ExceptionTermsAsked):
    release: str
    up_to: bool = False
    requirements: list[str] = Field(max_length=100)
    devices: list[str] = Field(max_length=5000)
    risk_acknowledged: str = Field(max_length=4000, description="The risk statement, word for word")


class MoveAsked(Asked):
    move: Literal["approve", "decline", "withdraw", "revoke", "close"]
    note: str = Field("", max_length=4000)


class ExceptionShape(Shape):
    id: str
    version: int
    platform: str
    release: str
    up_to: bool
    requirements: list[str]
    devices: list[str]
    reason: str
    conditions: str
    risk_text: str
    acknowledged_by: str
    owner: str
    start_on: date
    expires_on: date
    review_on: date
    state: str
    in_force: bool
    requester: str
    requested_at: datetime
    decided_by: str | None
    decided_at: datetime | None
    decision_note: str
    self_approved: bool
    stale: dict[str, list[str]] = Field(description="Device to what changed since its approval")
    moves: list[str]


class ExceptionList(Shape):
    items: list[ExceptionShape]


# ---------------------------------------------------------------------- kits


class KitAsked(Asked):
    device: str
    release: str = ""
    route: KitRoute = "in-place"
    carry_over: Literal["everything", "files", "nothing"] = "everything"


class KitShape(Shape):
    id: str
    platform: str
    sheet_revision: int
    release: str
    route: str
    carry_over: str
    device: str
    overrides: list[str]
    exceptions: list[str]
    sha256: str
    made_by: str
    made_at: datetime


class KitFileShape(Shape):
    path: str
    text: str


class KitDetail(Shape):
    kit: KitShape
    files: list[KitFileShape]


class KitList(Shape):
    items: list[KitShape]
