"""Sheets and the platforms they describe."""

from __future__ import annotations

import json

from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.platforms import (
    ChangeList,
    ChangeResponse,
    ExplanationResponse,
    ImpactResponse,
    ListNameList,
    ListNameResponse,
    LoadReportResponse,
    PlatformList,
    PlatformResponse,
    ReleaseResponse,
    RenamedResponse,
    RevisionList,
    RevisionResponse,
    SheetRequest,
    TaskList,
    TaskRequest,
    TaskResponse,
    VendorListRequest,
    VendorListResponse,
    explanation_shape,
)
from doorstone.core.kits.files import archive
from doorstone.core.platforms.platform import target_release
from doorstone.core.platforms.vendor_list import MatchRules, NameMatch
from doorstone.formats.sheet_schema import json_schema
from doorstone.service.operations import ADMINISTRATORS, DECIDERS, EVERYONE, HANDS, Answer, Call, Operations
from doorstone.work.platforms import impact, revisions, tasks, vendor_lists
from doorstone.work.platforms.tasks import Task
from doorstone.work.platforms.vendor_lists import RawList
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


@operations(
    "GET", "/platforms/<platform>/files", "The sheet and everything that stands beside it, zipped", roles=EVERYONE,
    media_type="application/zip",
)  # fmt: skip
def sheet_files(call: Call[None, None]) -> Answer:
    name = call.path["platform"]
    files = {part: text.encode() for part, text in sheets.files_of(call.context, name).items()}
    return Answer(archive(name, files), media_type="application/zip", file_name=f"{name}-sheet.zip")


@operations("POST", "/sheets", "Load a sheet", roles=ADMINISTRATORS, body=SheetRequest, answer=LoadReportResponse)
def load_sheet(call: Call[None, SheetRequest]) -> LoadReportResponse:
    request = call.body
    report = tasks.load_with_tasks(call.context, call.actor, request.text, request.lists, request.name, request.seen)
    return LoadReportResponse.model_validate(report)


@operations(
    "POST", "/sheets/impact", "What loading a sheet would change", roles=ADMINISTRATORS, body=SheetRequest,
    answer=ImpactResponse, asks=True)  # fmt: skip
def sheet_impact(call: Call[None, SheetRequest]) -> ImpactResponse:
    request = call.body
    return ImpactResponse.model_validate(impact.sheet_impact(call.context, request.text, request.lists, request.name))


@operations(
    "GET", "/platforms/<platform>/revisions", "Every revision and what it changed", roles=EVERYONE, answer=RevisionList
)
def list_revisions(call: Call[None, None]) -> RevisionList:
    found = revisions.revisions(call.context, call.path["platform"])
    return RevisionList(items=[RevisionResponse.model_validate(one) for one in found])


@operations("GET", "/platforms/<platform>/lists", "The lists beside the sheet", roles=EVERYONE, answer=ListNameList)
def list_lists(call: Call[None, None]) -> ListNameList:
    return ListNameList(items=vendor_lists.lists_of(call.context, call.path["platform"]))


class CompareQuery(RequestModel):
    one: int = Field(ge=1, description="A revision")
    other: int = Field(ge=1, description="The revision that is compared with it")


@operations(
    "GET", "/platforms/<platform>/comparison", "Compare two revisions in every attribute",
    roles=EVERYONE, query=CompareQuery, answer=ChangeList,
)  # fmt: skip
def compare_revisions(call: Call[CompareQuery, None]) -> ChangeList:
    found = revisions.compare_revisions(call.context, call.path["platform"], call.query.one, call.query.other)
    return ChangeList(items=[ChangeResponse.model_validate(one) for one in found])


def _raw(request: VendorListRequest) -> RawList:
    r = request.rules
    rules = MatchRules(r.case, r.spaces, r.marks, tuple(r.prefixes), tuple(r.suffixes))
    return RawList(request.text, request.form, request.column, rules, request.same, request.other)


@operations(
    "POST", "/platforms/<platform>/lists/<name>/match", "Match a vendor's list; nothing is loaded",
    roles=ADMINISTRATORS, body=VendorListRequest, answer=VendorListResponse, asks=True)  # fmt: skip
def match_list(call: Call[None, VendorListRequest]) -> VendorListResponse:
    found = vendor_lists.preview_list(call.context, call.path["platform"], call.path["name"], _raw(call.body))
    match = found.match
    shown = [ListNameResponse.model_validate(one) for one in match.names if one.match is not NameMatch.SAME]
    return VendorListResponse(
        platform=found.platform, name=found.name, revision=found.revision, names=shown,
        same=len(match.names) - len(shown), undecided=len(match.undecided), added=list(match.added),
        dropped=list(match.dropped), renamed=[RenamedResponse.model_validate(one) for one in match.renamed],
        text=found.text,
        impact=ImpactResponse.model_validate(found.impact),
    )  # fmt: skip


@operations(
    "PUT", "/platforms/<platform>/lists/<name>", "Load a vendor's list as the sheet's next revision",
    roles=ADMINISTRATORS, body=VendorListRequest, answer=LoadReportResponse,
)  # fmt: skip
def load_list(call: Call[None, VendorListRequest]) -> LoadReportResponse:
    platform, name = call.path["platform"], call.path["name"]
    report = vendor_lists.load_list(call.context, call.actor, platform, name, _raw(call.body), call.body.seen)
    return LoadReportResponse.model_validate(report)


class TaskQuery(RequestModel):
    state: str = ""
    platform: str = ""


def _task(task: Task) -> TaskResponse:
    return TaskResponse.model_validate({**task.row._asdict(), "id": task.id})


@operations("GET", "/tasks", "Tasks that follow from changed sheets", roles=EVERYONE, query=TaskQuery, answer=TaskList)
def list_tasks(call: Call[TaskQuery, None]) -> TaskList:
    found = tasks.list_tasks(call.context, call.query.state, call.query.platform)
    return TaskList(items=[_task(one) for one in found])


@operations(
    "PATCH", "/tasks/<task>", "Settle a task, reopen it, or assign it to another person", roles=HANDS | DECIDERS,
    body=TaskRequest, answer=TaskResponse,
)  # fmt: skip
def change_task(call: Call[None, TaskRequest]) -> TaskResponse:
    a = call.body
    return _task(tasks.change_task(call.context, call.actor, call.path["task"], a.state, a.owner, a.note))


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
