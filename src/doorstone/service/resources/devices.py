"""Devices: the list, one device, and which overrides would carry it."""

from __future__ import annotations

from msgspec.structs import asdict
from pydantic import BaseModel, Field

from doorstone.api.common import KitRoute, RequestModel
from doorstone.api.devices import (
    DeviceChangedList,
    DeviceChangedResponse,
    DeviceChangeRequest,
    DeviceDetail,
    DeviceFilter,
    DevicePageResponse,
    DeviceResponse,
    DevicesChangeRequest,
    DisputeList,
    DisputeResponse,
    LifeChangedList,
    LifeChangedResponse,
    LifeHistory,
    LifeRequest,
    LifeResponse,
    OutOfServiceList,
    OutOfServiceResponse,
    ReadingPageResponse,
    ReadingResponse,
    SettlementList,
    SettlementRequest,
    SettlementResponse,
    UnplacedList,
    UnplacedResponse,
)
from doorstone.api.kits import (
    LeftOutResponse,
    OverrideAnswerResponse,
    OverrideBrief,
    OverrideSetResponse,
    PartialResponse,
)
from doorstone.api.readings import FailureMessageList, FailureMessageResponse, NewRequirementRequest, TextMatchRequest
from doorstone.api.sorting import AssessmentResponse
from doorstone.core.devices.life import LifeChange
from doorstone.core.kits.overrides import OverrideSet
from doorstone.service.operations import ADMINISTRATORS, DECIDERS, EVERYONE, HANDS, Answer, Call, Operations
from doorstone.store.devices.lives import LifeRow
from doorstone.work.context.ids import id_of
from doorstone.work.devices import changes, disputes, lives, unplaced
from doorstone.work.devices import views as devices
from doorstone.work.kits import overrides as kit_overrides
from doorstone.work.readings import failure_messages
from doorstone.work.snapshot import snapshot as snapshots
from doorstone.work.snapshot.failure_messages import list_messages
from doorstone.work.snapshot.fix_results import results_by_title
from doorstone.work.snapshot.snapshot import snapshot

operations = Operations("devices")


class DeviceQuery(DeviceFilter):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    cursor: str = ""
    limit: int = Field(50, ge=1, le=500)


class ReleaseQuery(RequestModel):
    release: str = Field("", description="Target release; the last published one if left out")


class RouteQuery(ReleaseQuery):
    route: KitRoute = "in-place"


@operations(
    "GET",
    "/devices",
    "List devices",
    roles=EVERYONE,
    query=DeviceQuery,
    answer=DevicePageResponse,
    pages=True,
    cacheable=True,
)
def list_devices(call: Call[DeviceQuery, None]) -> Answer:
    q = call.query
    page = devices.list_devices(call.context, q.platform, q.release, q.chosen(), q.cursor, q.limit)
    shape = DevicePageResponse(
        platform=page.platform,
        release=page.release,
        total=page.total,
        items=[DeviceResponse.model_validate(line) for line in page.lines],
        next=page.next,
        sites=list(page.sites),
        roles=list(page.roles),
        models=list(page.models),
    )
    return Answer(shape, next=page.next)


class ReadingQuery(RequestModel):
    cursor: str = Field("", max_length=200)
    limit: int = Field(50, ge=1, le=500)


@operations(
    "GET", "/devices/<device>/readings", "A device's readings, newest first", roles=EVERYONE, query=ReadingQuery,
    answer=ReadingPageResponse, pages=True,
)  # fmt: skip
def list_device_readings(call: Call[ReadingQuery, None]) -> Answer:
    page = devices.device_readings(call.context, call.path["device"], call.query.cursor, call.query.limit)
    items = [ReadingResponse.model_validate(one) for one in page.readings]
    return Answer(ReadingPageResponse(items=items, next=page.next), next=page.next)


@operations(
    "GET", "/devices/<device>", "One device", roles=EVERYONE, query=ReleaseQuery, answer=DeviceDetail, cacheable=True
)
def get_device(call: Call[ReleaseQuery, None]) -> BaseModel:
    return _detail(devices.get_device(call.context, call.path["device"], call.query.release))


def _detail(found: devices.Device) -> DeviceDetail:
    life = _life(found.life) if found.life is not None else None
    return DeviceDetail.model_validate({**asdict(found), "life": life})


@operations(
    "PATCH", "/devices/<device>", "Change a device's site, role or criticality", roles=DECIDERS,
    body=DeviceChangeRequest, answer=DeviceDetail, affected_devices=lambda call: [call.path["device"]],
)  # fmt: skip
def change_device(call: Call[None, DeviceChangeRequest]) -> BaseModel:
    request = call.body
    change = changes.DeviceChange(request.site, request.role, request.critical)
    changes.change_device(call.context, call.actor, call.path["device"], change, request.note)
    return _detail(devices.get_device(call.context, call.path["device"]))


@operations(
    "POST", "/devices/changes", "Change the site, role or criticality of many devices, all or none", roles=DECIDERS,
    body=DevicesChangeRequest, answer=DeviceChangedList, affected_devices=lambda call: _to_change(call),
)  # fmt: skip
def change_devices(call: Call[None, DevicesChangeRequest]) -> DeviceChangedList:
    request = call.body
    change = changes.DeviceChange(request.site, request.role, request.critical)
    made = changes.change_devices(call.context, call.actor, _to_change(call), change, request.note)
    return DeviceChangedList(items=[DeviceChangedResponse.model_validate(one) for one in made])


def _to_change(call: Call[None, DevicesChangeRequest]) -> list[str]:
    return lives.chosen(call.context, None, call.body.devices, call.body.selection, call.body.at_site)


@operations(
    "GET",
    "/devices/<device>/assessment",
    "The device against a release",
    roles=EVERYONE,
    query=ReleaseQuery,
    answer=AssessmentResponse,
)
def assess_device(call: Call[ReleaseQuery, None]) -> BaseModel:
    found = snapshots.assess_device(call.context, call.path["device"], call.query.release)
    shape = AssessmentResponse.model_validate(found)
    if recorded := results_by_title(snapshot(call.context), call.path["device"]):
        for fix in (fix for finding in shape.findings for fix in finding.fixes):
            fix.recorded = recorded.get(fix.title, "")
    return shape


@operations(
    "GET",
    "/devices/<device>/overrides",
    "Overrides that would cover the checks of a device",
    roles=EVERYONE,
    query=RouteQuery,
    answer=OverrideAnswerResponse,
)
def overrides_for(call: Call[RouteQuery, None]) -> BaseModel:
    found = kit_overrides.overrides_for(call.context, call.path["device"], call.query.release, call.query.route)
    choice = found.choice
    return OverrideAnswerResponse(
        device=found.device,
        release=found.release,
        route=found.route,
        checks=list(found.checks),
        best=_set(choice.best) if choice.best else None,
        alternatives=[_set(other) for other in choice.alternatives],
        left_out=[
            LeftOutResponse(
                id=o.override.id,
                title=o.override.title,
                reason=o.reason,
                why=o.why,
                covers=sorted(o.override.covers & set(found.checks)),
            )
            for o in choice.left_out
        ],
        uncovered=list(choice.uncovered),
        partial=[PartialResponse(id=name, covers=list(covers)) for name, covers in choice.partial],
    )


def _set(found: OverrideSet) -> OverrideSetResponse:
    briefs = [
        OverrideBrief(
            id=o.id, title=o.title, kind=o.kind, weight=o.weight, origin=o.origin.name.lower(), covers=sorted(o.covers)
        )
        for o in found.overrides
    ]
    return OverrideSetResponse(
        overrides=briefs, covers=list(found.covers), excess=list(found.excess), warnings=list(found.warnings)
    )


@operations(
    "GET",
    "/unplaced",
    "Devices whose platform or release no sheet knows, and what to do",
    roles=EVERYONE,
    answer=UnplacedList,
)
def list_unplaced(call: Call[None, None]) -> UnplacedList:
    return UnplacedList(
        items=[
            UnplacedResponse(
                device=one.row.id,
                name=one.row.name,
                site=one.row.site,
                reason=one.found.reason,
                value=one.found.value,
                hint=one.found.hint,
                last_read_at=one.last_read_at or None,
            )
            for one in unplaced.list_unplaced(call.context)
        ]
    )


# ------------------------------------------------------------------- lives


class LifeQuery(RequestModel):
    life: str = ""
    site: str = ""


@operations(
    "GET", "/lives", "Devices that are not in service", roles=EVERYONE, query=LifeQuery, answer=OutOfServiceList
)
def list_lives(call: Call[LifeQuery, None]) -> OutOfServiceList:
    found = lives.list_lives(call.context, call.query.life, call.query.site)
    return OutOfServiceList(
        items=[
            OutOfServiceResponse(
                **_life(one.last).model_dump(), name=one.row.name, site=one.row.site, model=one.row.model,
                last_read_on=one.last_read_on, read_since=one.read_since,
            )
            for one in found
        ]
    )  # fmt: skip


def _life(row: LifeRow) -> LifeResponse:
    return LifeResponse(id=id_of("LF", row.id), device=row.device, by=row.by, at=row.at, **asdict(row.change))


@operations("GET", "/devices/<device>/lives", "Every change of a device's life", roles=EVERYONE, answer=LifeHistory)
def device_lives(call: Call[None, None]) -> LifeHistory:
    return LifeHistory(items=[_life(row) for row in lives.device_lives(call.context, call.path["device"])])


@operations(
    "POST", "/lives", "Set devices aside, retire, replace or bring them back, all or none", roles=HANDS,
    body=LifeRequest, answer=LifeChangedList, affected_devices=lambda call: _chosen(call),
)  # fmt: skip
def change_lives(call: Call[None, LifeRequest]) -> LifeChangedList:
    a = call.body
    change = LifeChange(a.life, a.on or call.context.today(), a.reason, a.look_on, a.wiped_by, a.replaced_by)
    made = lives.change_lives(call.context, call.actor, _chosen(call), change)
    return LifeChangedList(items=[LifeChangedResponse.model_validate(one) for one in made])


def _chosen(call: Call[None, LifeRequest]) -> list[str]:
    return lives.chosen(call.context, call.body.life, call.body.devices, call.body.selection, call.body.site)


# ---------------------------------------------------------------- disputes


class DisputeQuery(RequestModel):
    platform: str
    release: str = Field("", description="Target release; the last published one if left out")
    device: str = ""


class SettlementQuery(RequestModel):
    device: str


class TextQuery(RequestModel):
    platform: str
    waiting: bool = Field(False, description="Only texts that match no requirement")


@operations("GET", "/disputes", "List disputes between sources", roles=EVERYONE, query=DisputeQuery, answer=DisputeList)
def list_disputes(call: Call[DisputeQuery, None]) -> DisputeList:
    q = call.query
    found = disputes.list_disputes(call.context, q.platform, q.release, q.device)
    return DisputeList(items=[DisputeResponse.model_validate(one) for one in found])


@operations(
    "GET", "/settlements", "How disputes of a device were settled", roles=EVERYONE, query=SettlementQuery,
    answer=SettlementList,
)  # fmt: skip
def list_settlements(call: Call[SettlementQuery, None]) -> SettlementList:
    found = disputes.list_settlements(call.context, call.query.device)
    return SettlementList(items=[SettlementResponse.model_validate(one) for one in found])


@operations(
    "POST", "/settlements", "Settle a dispute", roles=HANDS, body=SettlementRequest, answer=SettlementResponse,
    status=201, creates=True, affected_devices=lambda call: [call.body.device],
)  # fmt: skip
def settle_dispute(call: Call[None, SettlementRequest]) -> SettlementResponse:
    a = call.body
    found = disputes.settle_dispute(call.context, call.actor, a.device, a.kind, a.subject, a.value, a.reason)
    return SettlementResponse.model_validate(found)


@operations("GET", "/failure-messages", "Failure messages", roles=EVERYONE, query=TextQuery, answer=FailureMessageList)
def list_failure_messages(call: Call[TextQuery, None]) -> FailureMessageList:
    found = list_messages(call.context, call.query.platform, waiting=call.query.waiting)
    return FailureMessageList(items=[FailureMessageResponse.model_validate(one) for one in found])


@operations(
    "POST", "/failure-messages/match", "Match a text to a requirement", roles=ADMINISTRATORS, body=TextMatchRequest,
    answer=FailureMessageResponse,
)  # fmt: skip
def match_failure_message(call: Call[None, TextMatchRequest]) -> FailureMessageResponse:
    a = call.body
    return FailureMessageResponse.model_validate(
        failure_messages.match_message(call.context, call.actor, a.platform, a.text, a.requirement)
    )


@operations(
    "POST", "/failure-messages/requirement", "Make a text into a new requirement", roles=ADMINISTRATORS,
    body=NewRequirementRequest, answer=FailureMessageResponse, status=201,
)  # fmt: skip
def new_requirement(call: Call[None, NewRequirementRequest]) -> FailureMessageResponse:
    a = call.body
    found = failure_messages.new_requirement(call.context, call.actor, a.platform, a.text, a.id, a.title, a.since)
    return FailureMessageResponse.model_validate(found)
