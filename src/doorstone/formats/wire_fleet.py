"""What goes over the wire about the fleet: disputes, failure texts, fixes, counts, what-if, revisions of sheets."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any, Literal

from pydantic import Field

from doorstone.core.explain import Explanation
from doorstone.core.platforms import Sort
from doorstone.core.sorting import State
from doorstone.formats.wire import Asked, Shape
from doorstone.formats.wire_time import Moment

# ------------------------------------------------------------------ disputes


class SideShape(Shape):
    value: str
    source: str
    trust: int
    taken_at: Moment
    outcome: str
    believed: bool


class DisputeShape(Shape):
    device: str
    name: str
    site: str
    kind: Literal["fact", "requirement"]
    subject: str
    title: str
    requirements: list[str]
    sides: list[SideShape]


class DisputeList(Shape):
    items: list[DisputeShape]


class SettlementAsked(Asked):
    device: str
    kind: Literal["fact", "requirement"] = "fact"
    subject: str = Field(max_length=200, description="A fact, or a requirement whose verdict speaks against the facts")
    value: Any = Field(description="Of a fact: what one of the sources says. Of a requirement: met or unmet")
    reason: str = Field(max_length=2000)


class SettlementShape(Shape):
    id: str
    device: str
    kind: Literal["fact", "requirement"]
    subject: str
    value: str
    reason: str
    by: str
    at: Moment
    stands: bool = Field(description="False once something newer has been read of the subject")


class SettlementList(Shape):
    items: list[SettlementShape]


# --------------------------------------------------------------------- texts


class ToldTextShape(Shape):
    """A failure that devices report in words. `requirement` is empty while nobody has said what it speaks of."""

    text: str
    devices: int
    sources: list[str]
    last: Moment
    example: str
    requirement: str
    foreseen: bool


class ToldTextList(Shape):
    items: list[ToldTextShape]


class TextMatchAsked(Asked):
    platform: str
    text: str = Field(max_length=500)
    requirement: str


class NewRequirementAsked(Asked):
    platform: str
    text: str = Field(max_length=500)
    id: str = Field(max_length=60)
    title: str = Field(max_length=200)
    since: str = Field(description="The first release that asks for it")


# --------------------------------------------------------------------- fixes


class FixPart(Shape):
    title: str
    kind: str
    minutes: int
    cost: Decimal


class FixStepShape(Shape):
    fix: FixPart
    meets: list[str]
    told: str = Field("", description="What was recorded of this fix on this device, if it failed or was not seen")
    stop: str = Field("", description="Why it must not be made yet")


class FixDoneAsked(Asked):
    title: str = Field(max_length=200, description="The fix, as the sheet calls it")
    outcome: Literal["done", "failed"] = "done"
    done_at: Moment | None = Field(None, description="When it was made; now if left out")
    note: str = Field("", max_length=1000, description="What happened; needed if it failed")


class FixDoneShape(Shape):
    id: str
    device: str
    title: str
    outcome: str
    done_at: Moment
    by: str
    note: str
    word: str = Field(description="waiting for a reading, proved by one, not-seen in one; or failed")
    seen: str = Field(description="What was read since, where that is not what the fix gives")


class SparedFixShape(Shape):
    fix: FixPart
    requirement: str
    after: str


class DeviceFixesShape(Shape):
    device: str
    release: str
    steps: list[FixStepShape]
    spared: list[SparedFixShape]
    left: list[str]
    exact: bool = Field(description="Whether every set of fixes was compared; false beyond 16 that touch one another")
    minutes: int
    cost: Decimal
    state: State
    after: State
    done: list[FixDoneShape] = Field(description="What was recorded of the device's fixes, newest first")


class FixVisitShape(Shape):
    device: str
    name: str
    role: str
    step: int
    of: int
    meets: list[str]
    after: str


class FixActionShape(Shape):
    title: str
    kind: str
    minutes: int
    cost: Decimal
    visits: list[FixVisitShape]


class SiteRoundShape(Shape):
    site: str
    devices: int
    minutes: int
    cost: Decimal
    actions: list[FixActionShape]


class PartShape(Shape):
    title: str
    count: int
    cost: Decimal


class FixRoundShape(Shape):
    platform: str
    release: str
    devices: int
    minutes: int
    cost: Decimal
    sites: list[SiteRoundShape]
    parts: list[PartShape]
    pointless: int = Field(description="Devices that stay floored whatever is fixed")


# --------------------------------------------------------------------- fleet


class FilterAsked(Asked):
    """Which devices: every given part must fit."""

    state: str = ""
    site: str = ""
    role: str = ""
    model: str = ""
    requirement: str = ""
    mark: str = Field("", description="With requirement: met, fixable, installer-check, floor, unread, ...")
    words: str = Field("", max_length=200, description="Every word must occur in id, name, site, role or model")


class FilterShape(Shape):
    state: str
    site: str
    role: str
    model: str
    requirement: str
    mark: str
    words: str


class SelectionAsked(Asked):
    platform: str
    release: str = Field("", description="That state and mark are asked against; the day's target if left out")
    where: FilterAsked


class SelectionShape(Shape):
    name: str
    platform: str
    release: str
    where: FilterShape
    by: str
    at: Moment


class SelectionList(Shape):
    items: list[SelectionShape]


class GroupShape(Shape):
    name: str
    devices: int
    states: dict[str, int]


class CountShape(Shape):
    requirement: str
    title: str
    marks: dict[str, int]


class TogetherShape(Shape):
    requirements: list[str]
    devices: int


class FleetShape(Shape):
    platform: str
    release: str
    by: str
    devices: int
    states: dict[str, int] = Field(description="With excepted: every check of the device is excepted today")
    requirements: list[CountShape]
    combinations: list[TogetherShape]
    groups: list[GroupShape]


class CompareSideShape(Shape):
    release: str
    route: str
    outcomes: dict[str, int]
    uncovered: dict[str, int] = Field(description="Devices per check that no override covers on this route")


class ShiftShape(Shape):
    one: str
    other: str
    count: int
    devices: list[str]


class ComparisonShape(Shape):
    platform: str
    devices: int
    one: CompareSideShape
    other: CompareSideShape
    shifts: list[ShiftShape]


class SortSupposed(Asked):
    requirement: str
    sort: Sort
    model: str = ""


class WhatIfAsked(Asked):
    platform: str
    release: str = ""
    selection: str = ""
    where: FilterAsked = FilterAsked()
    fixes: list[str] = Field([], max_length=100, description="Titles of the fixes that would be made")
    all_fixes: bool = False
    sorts: list[SortSupposed] = Field([], max_length=100)
    approve: list[str] = Field([], max_length=100, description="Checks that would be excepted")


class SupposedShape(Shape):
    platform: str
    release: str
    devices: int
    before: dict[str, int]
    after: dict[str, int]
    moves: list[ShiftShape]
    fixes_made: int
    minutes: int
    cost: Decimal


# -------------------------------------------------------------------- sheets


class ChangeShape(Shape):
    kind: str
    subject: str
    words: str


class SheetMoveShape(Shape):
    release: str
    was: str
    becomes: str
    count: int
    devices: list[str]


class RunwayMoveShape(Shape):
    line: str = Field(description="technical or approved")
    was: date | None
    becomes: date | None
    count: int
    devices: list[str] = Field(description="At most 50 of them")


class CostMoveShape(Shape):
    way: str
    was: Decimal | None = Field(description="None where there was no such way")
    becomes: Decimal | None
    count: int
    devices: list[str] = Field(description="At most 50 of them")


class TouchedShape(Shape):
    id: str
    devices: list[str]
    words: list[str]


class ImpactShape(Shape):
    """What loading a sheet would do. `revision` is the one loaded now, 0 for a platform's first sheet."""

    platform: str
    name: str
    revision: int
    changed: bool
    changes: list[ChangeShape]
    devices: int
    moves: list[SheetMoveShape]
    runways: list[RunwayMoveShape] = Field(description="Devices whose runway moves, by line")
    costs: list[CostMoveShape] = Field(description="Devices on which a way costs otherwise")
    exceptions: list[TouchedShape]
    kits: list[TouchedShape]
    relying: list[TouchedShape] = Field(description="Overrides that would end, and the devices carried by them")


class RevisionShape(Shape):
    revision: int
    sha256: str
    loaded_at: Moment
    loaded_by: str
    changes: list[ChangeShape]


class RevisionList(Shape):
    items: list[RevisionShape]


class AtReleaseShape(Shape):
    release: str
    asks: str
    sort: Sort
    effects: dict[str, str]
    overrides: list[str]


class ExplainedFixShape(Shape):
    title: str
    kind: str
    when: str
    minutes: int
    cost: Decimal


class ExplainedOverrideShape(Shape):
    id: str
    title: str
    kind: str
    origin: str
    routes: list[str]
    since: str
    until: str | None
    needs: str


class ExplanationShape(Shape):
    requirement: str
    title: str
    because: str
    source: str
    enforced_at: list[str]
    reported_as: list[str]
    releases: list[AtReleaseShape]
    fixes: list[ExplainedFixShape]
    overrides: list[ExplainedOverrideShape]


def explanation_shape(found: Explanation) -> ExplanationShape:
    """An explanation as it goes over the wire: conditions in words."""
    fixes = [
        ExplainedFixShape(title=f.title, kind=f.kind, when=str(f.when), minutes=f.minutes, cost=f.cost)
        for f in found.fixes
    ]
    overrides = [
        ExplainedOverrideShape(
            id=o.id, title=o.title, kind=o.kind, origin=o.origin.name.lower(), routes=sorted(o.routes), since=o.since,
            until=o.until, needs=str(o.needs),
        )
        for o in found.overrides
    ]  # fmt: skip
    return ExplanationShape(
        requirement=found.requirement,
        title=found.title,
        because=found.because,
        source=found.source,
        enforced_at=list(found.enforced_at),
        reported_as=list(found.reported_as),
        releases=[AtReleaseShape.model_validate(at) for at in found.releases],
        fixes=fixes,
        overrides=overrides,
    )
