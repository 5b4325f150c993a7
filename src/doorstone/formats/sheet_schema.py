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


class RequirementPart(Part):
    id: Id
    title: Line
    from_: str = Field(alias="from")
    until: str | None = None
    condition: ConditionPart
    enforced_at: list[Literal["assessor", "update-service", "set-up", "start"]] = Field(min_length=1)
    sort: list[SortPart] = []
    because: Line
    source: Line = ""
    fix: list[FixPart] = []
    effect: list[EffectPart] = []


class SettingPart(Part):
    path: SettingName
    name: SettingName
    type: Literal["text", "integer", "flag", "list"]
    value: bool | int | Line | list[Line]
    place: Id = Field(description="A place of [store], or `answers` for the answer file")


class OverridePart(Part):
    id: Id
    title: Line
    covers: list[str] = Field(min_length=1)
    routes: list[RouteName] = Field(min_length=1)
    from_: str = Field(alias="from")
    until: str | None = Field(None, description="The first release on which it no longer works")
    kind: Literal["setting", "argument", "answer"]
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


class GatePart(Part):
    id: Id
    title: Line
    condition: ConditionPart
    severity: Literal["stop", "warn"]
    routes: list[RouteName] = Field(min_length=1)
    todo: Line


class FollowUpPart(Part):
    id: Id
    title: Line
    todo: Line
    blocking: bool = False


class StorePart(Part):
    kind: Literal["drop-in-ini"]
    places: dict[str, Folder] = Field(min_length=1, description="Place to folder below the system's root")
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


def json_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a sheet."""
    schema = SheetDocument.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Door Stone platform sheet"}
