"""The shape of a platform sheet, as pydantic models; its JSON Schema is `doorstone sheet schema`."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

Id = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9.-]{0,63}$")]
Line = Annotated[str, StringConstraints(min_length=1, max_length=2000, pattern=r"^[^\x00-\x1f\x7f]*$")]
SettingName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._/-]{0,127}$")]
Folder = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*$")]
Argument = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f\x7f]*$")]
RouteName = Literal["in-place", "clean"]
SortName = Literal["floor", "installer-check", "unsorted"]
StandingName = Literal["normal", "unpromised", "withheld"]


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class ConditionPart(Part):
    """A leaf (`fact` and one operator) or one of `all`, `any`, `not`."""

    fact: str | None = None
    all: list[ConditionPart] | None = None
    any: list[ConditionPart] | None = None
    not_: ConditionPart | None = Field(None, alias="not")
    is_: Any = Field(None, alias="is")
    is_not: Any = None
    at_least: int | float | str | None = None
    at_most: int | float | str | None = None
    at_least_version: str | None = None
    one_of: list[Any] | None = None
    listed_in: str | None = Field(None, description="A file beside the sheet, one entry a line")
    has_all: list[str] | None = None
    has_any: list[str] | None = None
    same_as: str | None = None
    includes: str | None = Field(None, description="Another fact, of text, that this set holds")
    within_days: int | None = None
    tolerance: str | None = Field(None, description='Such as "3%", beside at_least or at_most')


class PlatformPart(Part):
    id: Id
    name: Line
    maker: Line
    editions: list[Id] = Field(min_length=1)


class FactPart(Part):
    """A fact that this sheet declares beside the built-in ones."""

    name: Annotated[str, StringConstraints(pattern=r"^[a-z]+\.[a-z0-9_]+$")]
    type: Literal["text", "integer", "decimal", "flag", "version", "set", "date", "timestamp"]
    unit: str | None = None
    title: Line = ""
    lasting: bool = True
    choices: list[str] = []
    tolerance: str | None = None


class ReleasePart(Part):
    id: Id
    published: date
    servicing_ends: dict[str, date] = Field(description="Edition to last serviced day")
    upgrade_from: list[str] = []
    rollback_days: int = Field(10, ge=0, le=365)
    notice: Line | Literal[""] = Field(
        "", description="What set-up makes one accept to go on with requirements unmet, word for word"
    )


class SortPart(Part):
    from_: str = Field(alias="from")
    as_: SortName = Field(alias="as")


class FixPart(Part):
    title: Line
    kind: Literal["firmware-setting", "part", "disk-conversion", "account"]
    when: ConditionPart
    gives: dict[str, Any] = Field(min_length=1, description="Facts after the fix")
    minutes: int = Field(0, ge=0)
    cost: Decimal = Field(Decimal(0), ge=0)


class EffectPart(Part):
    from_: str = Field(alias="from")
    security: StandingName | None = None
    driver: StandingName | None = None
    release: StandingName | None = None


class ModelTablePart(Part):
    """A table beside the sheet that ties machine models to releases: columns model, last, possible, patches."""

    file: str = Field(description="A .csv file beside the sheet")
    column: Literal["last", "possible"] = Field(description="The model's last release by this column must be reached")


class RequirementPart(Part):
    id: Id
    title: Line
    from_: str = Field(alias="from")
    until: str | None = None
    condition: ConditionPart | None = None
    model_table: ModelTablePart | None = Field(None, description="In place of a condition")
    reported_as: list[Line] = Field([], description="Assessors' own words for this failure")
    enforced_at: list[Literal["assessor", "update-service", "set-up", "start"]] = Field(min_length=1)
    sort: list[SortPart] = []
    because: Line
    weight: int = Field(3, ge=1, le=9, description="How much it matters to run without it, 1 least to 9 most")
    source: Line = ""
    fix: list[FixPart] = []
    effect: list[EffectPart] = []


class SettingPart(Part):
    path: SettingName
    name: SettingName
    type: Literal["text", "integer", "flag", "list"]
    value: bool | int | Line | list[Line]
    place: Id = Field(description="A place of [store], or `answers` for the answer file")


class MediaFilePart(Part):
    """A file of the set-up media that an override of kind prepared-media or media-file changes."""

    path: Folder = Field(description="Below the root of the media")
    change: Literal["added", "emptied", "replaced", "removed"]
    file: str | None = Field(None, description="A file beside the sheet: what is put there; .b64 files are decoded")
    before: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")] | None = Field(
        None, description="SHA-256 of what must be there before it is emptied, replaced or removed"
    )


class LoaderPart(Part):
    """A loader: placed on the stick before set-up and on the internal disk after it."""

    file: str = Field(description="A file beside the sheet; .b64 files are decoded")
    stick: Folder = Field(description="Where it goes below the root of the stick")
    disk: Folder = Field(description="Where it goes below the system's root")


class OverridePart(Part):
    id: Id
    title: Line
    covers: list[str] = Field(min_length=1)
    routes: list[RouteName] = Field(min_length=1)
    from_: str = Field(alias="from")
    until: str | None = Field(None, description="The first release on which it no longer works")
    kind: Literal["setting", "argument", "answer", "prepared-media", "media-file", "loader"]
    origin: Literal["vendor", "field", "own"]
    weight: int = Field(ge=1, le=9)
    lasting: bool = True
    restart: Literal["none", "set-up", "device"] = "none"
    needs: ConditionPart | None = None
    conflicts: list[str] = []
    cautions: list[Line] = []
    expect: list[Line] = []
    settings: list[SettingPart] = []
    arguments: list[Argument] = []
    files: list[MediaFilePart] = []
    loader: LoaderPart | None = None


class SetPart(Part):
    """Settings of the organisation's own, put in after an upgrade where a kit asks for them."""

    id: Id
    title: Line
    why: Line = ""
    settings: list[SettingPart] = Field(min_length=1)
    in_place: ConditionPart | None = Field(None, description="By facts: whether they are there already")


class GatePart(Part):
    id: Id
    title: Line
    condition: ConditionPart
    severity: Literal["stop", "warn"]
    routes: list[RouteName] = Field(min_length=1)
    todo: Line
    critical_condition: ConditionPart | None = Field(None, description="What is asked of critical devices instead")
    critical_severity: Literal["stop", "warn"] | None = Field(None, description="How grave it is for critical devices")


class FollowUpPart(Part):
    id: Id
    title: Line
    todo: Line
    blocking: bool = False
    when: ConditionPart | None = Field(None, description="Only on devices that meet this; on all if left out")
    ends_rollback: bool = Field(False, description="Doing it ends rollback: asked twice, and last")
    due_days: int = Field(1, ge=0, le=365, description="Days after completion by which it is to be done")


class StorePart(Part):
    kind: Literal["drop-in-ini", "json-file", "templates"]
    places: dict[str, Folder] = Field(
        min_length=1, description="Place to folder (drop-in-ini) or file (the others) below the system's root"
    )
    shipped: dict[str, str] = Field({}, description="json-file: place to the file as shipped, beside the sheet")
    templates: dict[str, str] = Field({}, description="templates: place to the template beside the sheet")
    set_up: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9/][A-Za-z0-9._/-]*$")] = "set-up"


class SheetDocument(Part):
    """A platform sheet, format 1."""

    format: Literal[1]
    platform: PlatformPart
    store: StorePart
    release: list[ReleasePart] = Field(min_length=1)
    requirement: list[RequirementPart] = Field(min_length=1)
    fact: list[FactPart] = []
    override: list[OverridePart] = []
    gate: list[GatePart] = []
    followup: list[FollowUpPart] = []
    set: list[SetPart] = []


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a sheet."""
    schema = SheetDocument.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Door Stone platform sheet"}
