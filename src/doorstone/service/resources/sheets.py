"""Sheets and the platforms they describe."""

from __future__ import annotations

import json

from doorstone.formats.sheet_schema import json_schema
from doorstone.formats.wire import LoadReportShape, PlatformList, PlatformShape, ReleaseShape, SheetAsked
from doorstone.formats.wire_fleet import ExplanationShape, ImpactShape, RevisionList, RevisionShape, explanation_shape
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, Answer, Call, Operations
from doorstone.work import impact, revisions, sheets
from doorstone.work.devices import target_release
from doorstone.work.sheets import Sheet

operations = Operations("sheets")


def _platform(call: Call[None, None], sheet: Sheet, devices: int) -> PlatformShape:
    platform = sheet.platform
    return PlatformShape(
        id=platform.id,
        name=platform.name,
        maker=platform.maker,
        editions=list(platform.editions),
        releases=[ReleaseShape.model_validate(r) for r in platform.releases],
        target=target_release(platform, call.desk.today()),
        sheet_revision=sheet.revision,
        devices=devices,
    )


@operations("GET", "/platforms", "List platforms, the largest first", roles=EVERYONE, answer=PlatformList)
def list_platforms(call: Call[None, None]) -> PlatformList:
    return PlatformList(items=[_platform(call, *pair) for pair in sheets.by_size(call.desk)])


@operations("GET", "/platforms/<platform>", "One platform", roles=EVERYONE, answer=PlatformShape)
def get_platform(call: Call[None, None]) -> PlatformShape:
    sheet = sheets.get_sheet(call.desk, call.path["platform"])
    sizes = {known.platform.id: devices for known, devices in sheets.by_size(call.desk)}
    return _platform(call, sheet, sizes[sheet.platform.id])


@operations("GET", "/platforms/<platform>/sheet", "The sheet as loaded", roles=EVERYONE, media_type="application/toml")
def get_sheet(call: Call[None, None]) -> Answer:
    sheet = sheets.get_sheet(call.desk, call.path["platform"])
    return Answer(sheet.text.encode(), media_type="application/toml")


@operations("POST", "/sheets", "Load a sheet", roles=ADMINISTRATORS, body=SheetAsked, answer=LoadReportShape)
def load_sheet(call: Call[None, SheetAsked]) -> LoadReportShape:
    asked = call.body
    report = revisions.load_sheet(call.desk, call.actor, asked.text, asked.lists, asked.name, asked.seen)
    return LoadReportShape.model_validate(report)


@operations(
    "POST", "/sheets/impact", "What loading a sheet would change", roles=ADMINISTRATORS, body=SheetAsked,
    answer=ImpactShape,
)  # fmt: skip
def sheet_impact(call: Call[None, SheetAsked]) -> ImpactShape:
    asked = call.body
    return ImpactShape.model_validate(impact.sheet_impact(call.desk, asked.text, asked.lists, asked.name))


@operations(
    "GET", "/platforms/<platform>/revisions", "Every revision and what it changed", roles=EVERYONE, answer=RevisionList
)
def list_revisions(call: Call[None, None]) -> RevisionList:
    found = revisions.revisions(call.desk, call.path["platform"])
    return RevisionList(items=[RevisionShape.model_validate(one) for one in found])


@operations(
    "GET", "/platforms/<platform>/revisions/<number>", "One revision as loaded", roles=EVERYONE,
    media_type="application/toml",
)  # fmt: skip
def get_revision(call: Call[None, None]) -> Answer:
    number = call.path["number"]
    text = revisions.get_revision(call.desk, call.path["platform"], int(number) if number.isdecimal() else 0)
    return Answer(text.encode(), media_type="application/toml")


@operations(
    "GET", "/platforms/<platform>/requirements/<requirement>", "One requirement, explained", roles=EVERYONE,
    answer=ExplanationShape,
)  # fmt: skip
def explain_requirement(call: Call[None, None]) -> ExplanationShape:
    found = sheets.explain_requirement(call.desk, call.path["platform"], call.path["requirement"])
    return explanation_shape(found)


@operations("GET", "/sheet-schema", "The JSON Schema of a sheet", roles=EVERYONE)
def sheet_schema(call: Call[None, None]) -> Answer:
    return Answer(json.dumps(json_schema()).encode())
