"""What goes over the wire up to the kit: the shapes of the JSON that the service and the client library share."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from doorstone.core.platforms import Route, Sort
from doorstone.core.sorting import Finding, Scope, State
from doorstone.formats.wire_time import Moment

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


# -------------------------------------------------------------------- sheets


class SheetAsked(Asked):
    name: str = Field("sheet.toml", max_length=200)
    text: str = Field(description="The sheet, TOML")
    lists: dict[str, str] = Field({}, description="Files beside the sheet, name to text")
    seen: int | None = Field(None, description="The revision whose impact was looked at; refused if it is another now")


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
    devices: int


class PlatformList(Shape):
    items: list[PlatformShape]


# ------------------------------------------------------------------ readings


FormName = Literal["ndjson", "json", "csv", "tsv"]


class ImportAsked(Asked):
    form: FormName
    name: str = Field("", max_length=200, description="The file's name, to know it again")
    dry: bool = Field(False, description="Only say what would change")
    skip: bool = Field(False, description="Leave bad lines out instead of refusing the file")
    mapping: str = Field("", max_length=200_000, description="A mapping file, TOML, for foreign columns and words")


class ReadingsAsked(ImportAsked):
    text: str = Field(description="The whole file")


class StateMoveShape(Shape):
    """Devices whose state at a release changes; `was` is empty for devices that are new."""

    platform: str
    release: str
    was: str
    becomes: str
    count: int
    devices: list[str]


class NewDisputeShape(Shape):
    """Devices on which a requirement would become disputed: settle it, or mend the source that is wrong."""

    platform: str
    release: str
    requirement: str
    count: int
    devices: list[str]


class FactChangeShape(Shape):
    fact: str
    devices: int
    device: str = Field(description="One of them, as an example")
    was: Any
    becomes: Any


class ChangesShape(Shape):
    """What a dry run found."""

    moves: list[StateMoveShape]
    disputes: list[NewDisputeShape] = Field(default=[], description="Findings that would become disputed")
    facts: list[FactChangeShape]


class ImportShape(Shape):
    """An import as it stands. `size` and `position` count bytes of the file, the rest readings and devices."""

    id: str
    at: Moment
    by: str
    form: FormName
    name: str
    state: Literal["waiting", "received", "checking", "applying", "done", "refused", "cancelled", "failed"]
    ended: bool
    dry: bool
    skip: bool
    size: int
    position: int
    checked: int
    applied: int
    rejected: int
    readings: int
    devices: int
    added: int
    why: str
    changes: ChangesShape | None


class ImportList(Shape):
    items: list[ImportShape]


class ImportProblemShape(Shape):
    number: int
    line: int
    place: str
    message: str
    mend: str


class ImportProblemPage(Shape):
    items: list[ImportProblemShape]
    next: str | None


class SourceShape(Shape):
    """Who reports: higher trust is believed first; null days mean that a reading does not age."""

    name: str
    trust: int
    passing_days: int | None
    lasting_days: int | None


class SourceList(Shape):
    items: list[SourceShape]


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
    models: list[str]


class FactWordShape(Shape):
    value: str
    source: str
    taken_at: Moment


class FactShape(Shape):
    name: str
    title: str
    believed: FactWordShape
    rivals: list[FactWordShape]
    lasting: bool
    aged: bool


class ReadingShape(Shape):
    source: str
    taken_at: Moment
    facts: dict[str, Any]
    verdicts: dict[str, bool]
    unread: dict[str, str] = Field(description="Fact to why it could not be read")
    texts: list[str] = Field(description="Failures in the source's own words")


class CourseShape(Shape):
    way: Literal["take", "fix", "except", "read", "stay", "retire"]
    by: date | None
    why: str


class VerdictShape(Shape):
    requirement: str
    passed: bool
    source: str
    taken_at: Moment


class DeviceDetail(Shape):
    device: DeviceShape
    target: str
    releases: list[str]
    facts: list[FactShape]
    readings: list[ReadingShape]
    verdicts: list[VerdictShape] = Field(description="What each source says passes or fails, newest first")
    course: CourseShape | None


class DeviceChangeAsked(Asked):
    """Attributes of a device that rules rest on; what is left out stays as it is."""

    site: str | None = Field(None, max_length=100)
    role: str | None = Field(None, max_length=100)
    critical: bool | None = None
    note: str = Field(min_length=5, max_length=4000, description="Why; it stands in the ledger")


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
    taken_at: Moment | None
    note: str | None
    level: float | None = Field(description="Measured over required, for numbers")


class FixShape(Shape):
    title: str
    kind: str
    minutes: int
    cost: Decimal
    told: str = Field("", description="What was recorded of this fix on this device, if it failed or was not seen")


class RivalShape(Shape):
    fact: str
    value: str
    source: str
    taken_at: Moment
    outcome: str


class RulingShape(Shape):
    id: str
    subject: str
    reason: str
    by: str
    at: Moment


class SortWordShape(Shape):
    level: str
    sort: Sort | None
    decision: str


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
    rulings: list[RulingShape] = Field(description="Operators' words that settle what sources dispute")
    words: list[SortWordShape] = Field(description="Every word on the sort, the narrowest first; the first counts")


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
    warnings: list[str] = Field(description="What attempts have shown of these overrides, on the device or its model")


class LeftOutShape(Shape):
    id: str
    title: str
    why: str
    covers: list[str] = Field(description="What of the checks it would cover, were it usable and chosen")


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
    link: str = Field("", max_length=500, description="Where the evidence is to be seen, https://")


class WithdrawalAsked(Asked):
    note: str = Field(max_length=2000, description="Why it no longer holds")


class DecisionShape(Shape):
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


class DecisionList(Shape):
    items: list[DecisionShape]


class TallyShape(Shape):
    """What attempts without a requirement came to on one machine model, in devices."""

    model: str
    ran: int
    refused: int
    failed_to_start: int


class SortingRowShape(Shape):
    requirement: str
    title: str
    condition: str
    because: str
    source: str
    enforced_at: list[str]
    reported: bool = Field(description="Known only from failure texts")
    sort: Sort
    sorted_by: str
    marks: dict[str, int]
    ran: int
    refused: int
    failed_to_start: int
    tallies: list[TallyShape]
    against: str
    decisions: list[DecisionShape]


class SortingTable(Shape):
    platform: str
    release: str
    items: list[SortingRowShape]
