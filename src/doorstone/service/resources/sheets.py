"""Sheets and the platforms they describe."""

from __future__ import annotations

import json

from doorstone.formats.sheet_schema import json_schema
from doorstone.formats.wire import LoadReportShape, PlatformList, PlatformShape, ReleaseShape, SheetAsked
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, Answer, Call, Operations
from doorstone.work import sheets
from doorstone.work.devices import target_release
from doorstone.work.sheets import Sheet

operations = Operations("sheets")


def _platform(call: Call[None, None], sheet: Sheet) -> PlatformShape:
    platform = sheet.platform
    return PlatformShape(
        id=platform.id,
        name=platform.name,
        maker=platform.maker,
        editions=list(platform.editions),
        releases=[ReleaseShape.model_validate(r) for r in platform.releases],
        target=target_release(platform, call.desk.today()),
        sheet_revision=sheet.revision,
    )


@operations("GET", "/platforms", "List platforms", roles=EVERYONE, answer=PlatformList)
def list_platforms(call: Call[None, None]) -> PlatformList:
    return PlatformList(items=[_platform(call, sheet) for sheet in sheets.all_sheets(call.desk).values()])


@operations("GET", "/platforms/<platform>", "One platform", roles=EVERYONE, answer=PlatformShape)
def get_platform(call: Call[None, None]) -> PlatformShape:
    return _platform(call, sheets.get_sheet(call.desk, call.path["platform"]))


@operations("GET", "/platforms/<platform>/sheet", "The sheet as loaded", roles=EVERYONE, media_type="application/toml")
def get_sheet(call: Call[None, None]) -> Answer:
    sheet = sheets.get_sheet(call.desk, call.path["platform"])
    return Answer(sheet.text.encode(), media_type="application/toml")


@operations("POST", "/sheets", "Load a sheet", roles=ADMINISTRATORS, body=SheetAsked, answer=LoadReportShape)
def load_sheet(call: Call[None, SheetAsked]) -> LoadReportShape:
    asked = call.body
    report = sheets.load_sheet(call.desk, call.actor, asked.text, asked.lists, asked.name)
    return LoadReportShape.model_validate(report)


@operations("GET", "/sheet-schema", "The JSON Schema of a sheet", roles=EVERYONE)
def sheet_schema(call: Call[None, None]) -> Answer:
    return Answer(json.dumps(json_schema()).encode())
