"""Sheets and the platforms they describe."""

from __future__ import annotations

import json

from doorstone.api.platforms import (
    ExplanationResponse,
    ImpactResponse,
    LoadReportResponse,
    PlatformList,
    PlatformResponse,
    ReleaseResponse,
    RevisionList,
    RevisionResponse,
    SheetRequest,
    explanation_shape,
)
from doorstone.core.platforms.platform import target_release
from doorstone.formats.sheet_schema import json_schema
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, Answer, Call, Operations
from doorstone.work.platforms import impact, revisions
from doorstone.work.snapshot import sheets
from doorstone.work.snapshot.sheets import Sheet

operations = Operations("sheets")


def _platform(call: Call[None, None], sheet: Sheet, devices: int) -> PlatformResponse:
    platform = sheet.platform
    return PlatformResponse(
        id=platform.id,
        name=platform.name,
        maker=platform.maker,
        editions=list(platform.editions),
        releases=[ReleaseResponse.model_validate(r) for r in platform.releases],
        target=target_release(platform, call.context.today()),
        sheet_revision=sheet.revision,
        devices=devices,
    )


@operations("GET", "/platforms", "List platforms, the largest first", roles=EVERYONE, answer=PlatformList)
def list_platforms(call: Call[None, None]) -> PlatformList:
    return PlatformList(items=[_platform(call, *pair) for pair in sheets.by_size(call.context)])


@operations("GET", "/platforms/<platform>", "One platform", roles=EVERYONE, answer=PlatformResponse)
def get_platform(call: Call[None, None]) -> PlatformResponse:
    sheet = sheets.get_sheet(call.context, call.path["platform"])
    sizes = {known.platform.id: devices for known, devices in sheets.by_size(call.context)}
    return _platform(call, sheet, sizes[sheet.platform.id])


@operations("GET", "/platforms/<platform>/sheet", "The sheet as loaded", roles=EVERYONE, media_type="application/toml")
def get_sheet(call: Call[None, None]) -> Answer:
    sheet = sheets.get_sheet(call.context, call.path["platform"])
    return Answer(sheet.text.encode(), media_type="application/toml")


@operations("POST", "/sheets", "Load a sheet", roles=ADMINISTRATORS, body=SheetRequest, answer=LoadReportResponse)
def load_sheet(call: Call[None, SheetRequest]) -> LoadReportResponse:
    asked = call.body
    report = revisions.load_sheet(call.context, call.actor, asked.text, asked.lists, asked.name, asked.seen)
    return LoadReportResponse.model_validate(report)


@operations(
    "POST", "/sheets/impact", "What loading a sheet would change", roles=ADMINISTRATORS, body=SheetRequest,
    answer=ImpactResponse,
)  # fmt: skip
def sheet_impact(call: Call[None, SheetRequest]) -> ImpactResponse:
    asked = call.body
    return ImpactResponse.model_validate(impact.sheet_impact(call.context, asked.text, asked.lists, asked.name))


@operations(
    "GET", "/platforms/<platform>/revisions", "Every revision and what it changed", roles=EVERYONE, answer=RevisionList
)
def list_revisions(call: Call[None, None]) -> RevisionList:
    found = revisions.revisions(call.context, call.path["platform"])
    return RevisionList(items=[RevisionResponse.model_validate(one) for one in found])


@operations(
    "GET", "/platforms/<platform>/revisions/<number>", "One revision as loaded", roles=EVERYONE,
    media_type="application/toml",
)  # fmt: skip
def get_revision(call: Call[None, None]) -> Answer:
    number = call.path["number"]
    text = revisions.get_revision(call.context, call.path["platform"], int(number) if number.isdecimal() else 0)
    return Answer(text.encode(), media_type="application/toml")


@operations(
    "GET", "/platforms/<platform>/requirements/<requirement>", "One requirement, explained", roles=EVERYONE,
    answer=ExplanationResponse,
)  # fmt: skip
def explain_requirement(call: Call[None, None]) -> ExplanationResponse:
    found = sheets.explain_requirement(call.context, call.path["platform"], call.path["requirement"])
    return explanation_shape(found)


@operations("GET", "/sheet-schema", "The JSON Schema of a sheet", roles=EVERYONE)
def sheet_schema(call: Call[None, None]) -> Answer:
    return Answer(json.dumps(json_schema()).encode())
