"""Platforms on the wire: sheets, revisions, differences, impact."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel, StateMoveResponse
from doorstone.api.times import Moment
from doorstone.core.platforms.platform import Sort
from doorstone.core.platforms.summary import Explanation
from doorstone.core.platforms.tasks import TaskKind, TaskState
from doorstone.core.platforms.vendor_list import NameMatch


class SheetRequest(RequestModel):
    """A sheet to load, with the files that stand beside it."""

    name: str = Field("sheet.toml", max_length=200)
    text: str = Field(description="The sheet, TOML")
    lists: dict[str, str] = Field({}, description="Files beside the sheet, name to text")
    seen: int | None = Field(None, description="The revision whose impact was looked at; refused if it is another now")


class LoadReportResponse(ApiModel):
    """What was loaded."""

    platform: str
    revision: int
    changed: bool
    requirements: int
    overrides: int
    releases: int


class ReleaseResponse(ApiModel):
    """A release: when it came out, how long it is serviced, from where it is reached."""

    id: str
    published: date
    servicing_ends: dict[str, date]
    upgrade_from: list[str]
    rollback_days: int


class PlatformResponse(ApiModel):
    """A platform, its releases and the target."""

    id: str
    name: str
    maker: str
    editions: list[str]
    releases: list[ReleaseResponse]
    target: str = Field(description="The release to move to unless another is named")
    sheet_revision: int
    devices: int


class PlatformList(ApiModel):
    """Platforms, by id."""

    items: list[PlatformResponse]


class ChangeResponse(ApiModel):
    """One thing that differs between two revisions of a sheet."""

    kind: str
    subject: str
    words: str


class RunwayMoveResponse(ApiModel):
    """Devices whose runway would move from one day to another."""

    line: str = Field(description="technical or approved")
    was: date | None
    becomes: date | None
    count: int
    devices: list[str] = Field(description="At most 50 of them")


class CostMoveResponse(ApiModel):
    """Devices on which a way would cost otherwise."""

    way: str
    was: Decimal | None = Field(description="None where there was no such way")
    becomes: Decimal | None
    count: int
    devices: list[str] = Field(description="At most 50 of them")


class AffectedResponse(ApiModel):
    """An exception, kit or override that a sheet would touch, and how."""

    id: str
    devices: list[str]
    words: list[str]
    restored: bool = Field(description="Whether it is a stale approval that would apply again")


class ImpactResponse(ApiModel):
    """What loading a sheet would do. `revision` is the one loaded now, 0 for a platform's first sheet."""

    platform: str
    name: str
    revision: int
    changed: bool
    changes: list[ChangeResponse]
    devices: int
    moves: list[StateMoveResponse]
    runways: list[RunwayMoveResponse] = Field(description="Devices whose runway moves, by line")
    costs: list[CostMoveResponse] = Field(description="Devices on which a way costs otherwise")
    exceptions: list[AffectedResponse]
    kits: list[AffectedResponse]
    relying: list[AffectedResponse] = Field(description="Overrides that would end, and the devices carried by them")


class RevisionResponse(ApiModel):
    """A loaded revision of a sheet, and what it changed."""

    revision: int
    sha256: str
    loaded_at: Moment
    loaded_by: str
    changes: list[ChangeResponse]


class RevisionList(ApiModel):
    """The revisions of a sheet, newest first."""

    items: list[RevisionResponse]


class AtReleaseResponse(ApiModel):
    """What a requirement asks at a release, how it is sorted there, and what carries past it."""

    release: str
    asks: str
    sort: Sort
    effects: dict[str, str]
    overrides: list[str]


class ExplainedFixResponse(ApiModel):
    """A fix of a requirement, and when it applies."""

    title: str
    kind: str
    when: str
    minutes: int
    cost: Decimal


class ExplainedOverrideResponse(ApiModel):
    """An override of a requirement, and when it works."""

    id: str
    title: str
    kind: str
    origin: str
    routes: list[str]
    since: str
    until: str | None
    needs: str


class ExplanationResponse(ApiModel):
    """A requirement explained: why it exists, what it asks at each release, what helps."""

    requirement: str
    title: str
    because: str
    source: str
    enforced_at: list[str]
    reported_as: list[str]
    releases: list[AtReleaseResponse]
    fixes: list[ExplainedFixResponse]
    overrides: list[ExplainedOverrideResponse]


def explanation_shape(found: Explanation) -> ExplanationResponse:
    """An explanation as it goes over the wire: conditions in words."""
    fixes = [
        ExplainedFixResponse(title=f.title, kind=f.kind, when=str(f.when), minutes=f.minutes, cost=f.cost)
        for f in found.fixes
    ]
    overrides = [
        ExplainedOverrideResponse(
            id=o.id, title=o.title, kind=o.kind, origin=o.origin.name.lower(), routes=sorted(o.routes), since=o.since,
            until=o.until, needs=str(o.needs),
        )
        for o in found.overrides
    ]  # fmt: skip
    return ExplanationResponse(
        requirement=found.requirement,
        title=found.title,
        because=found.because,
        source=found.source,
        enforced_at=list(found.enforced_at),
        reported_as=list(found.reported_as),
        releases=[AtReleaseResponse.model_validate(at) for at in found.releases],
        fixes=fixes,
        overrides=overrides,
    )


class ChangeList(ApiModel):
    """What differs between two revisions of a sheet."""

    items: list[ChangeResponse]


class ListNameList(ApiModel):
    """The names on a list."""

    items: list[str]


class MatchRulesRequest(RequestModel):
    """What makes two names equal."""

    case: bool = True
    spaces: bool = True
    marks: bool = Field(True, description="Trade marks: (R), (TM) and their signs")
    prefixes: list[str] = Field([], max_length=50, description="Words taken off the beginning")
    suffixes: list[str] = Field([], max_length=50, description="Words taken off the end")


class VendorListRequest(RequestModel):
    """A vendor's list as it comes."""

    text: str = Field(max_length=5_000_000)
    form: Literal["lines", "csv", "tsv"] = "lines"
    column: str = Field("", description="Of a table with several columns: the one with the names")
    rules: MatchRulesRequest = MatchRulesRequest()
    same: dict[str, str] = Field({}, description="Raw name to the name that it is; remembered once loaded")
    other: list[str] = Field([], description="Raw names that are names of their own; remembered once loaded")
    seen: int | None = Field(None, description="The revision that was looked at; refused if another was loaded since")


class ListNameResponse(ApiModel):
    """A name on a vendor's list, and the known name that it matches."""

    raw: str
    name: str
    match: NameMatch
    near: list[str]


class RenamedResponse(ApiModel):
    """A name that went, and the one that came in its place."""

    was: str
    now: str


class VendorListResponse(ApiModel):
    """What a vendor's list would change: names that match, come and go, and the impact."""

    platform: str
    name: str
    revision: int
    names: list[ListNameResponse] = Field(description="Of the raw list; those that are the same are left out")
    same: int = Field(description="Names that are the same, to the letter")
    undecided: int = Field(description="Names that are only near to one that is known")
    added: list[str]
    dropped: list[str]
    renamed: list[RenamedResponse]
    text: str = Field(description="The list that it becomes")
    impact: ImpactResponse


class TaskResponse(ApiModel):
    """What a changed sheet leaves to do."""

    id: str
    platform: str
    revision: int
    kind: TaskKind
    object_kind: Literal["exception", "kit", "platform"]
    object: str
    devices: list[str] = Field(description="At most 50 where whole classes move")
    words: str
    owner: str
    state: TaskState
    note: str
    by: str
    at: Moment
    made_at: Moment


class TaskList(ApiModel):
    """What changed sheets leave to do."""

    items: list[TaskResponse]


class TaskRequest(RequestModel):
    """A change of a task: its state, its owner, a note."""

    state: Literal["", "open", "done", "dropped"] = Field("", description="Left as it is, if left out")
    owner: str = Field("", description="Who answers for it from now on; left as it is, if left out")
    note: str = Field("", max_length=1000)
