"""Kits: their gates and cases, made, read, compared, handed out while they stand."""

from __future__ import annotations

from typing import Literal

from msgspec.structs import asdict
from pydantic import Field

from doorstone.api.common import ErrorEntry, KitRoute, RequestModel
from doorstone.api.kits import (
    GateList,
    GateResponse,
    KitBatchRequest,
    KitBatchResponse,
    KitCasesResponse,
    KitDetail,
    KitDifferenceList,
    KitDifferenceResponse,
    KitFileResponse,
    KitList,
    KitRequest,
    KitResponse,
    RouteList,
    RouteResponse,
    SettingsSetList,
    SettingsSetResponse,
    SharedCaseResponse,
)
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.kits.gates import GateResult
from doorstone.core.kits.options import KitOptions
from doorstone.service.operations import EVERYONE, HANDS, PUBLIC, Answer, Call, Operations, page_alone
from doorstone.work.kits import kits
from doorstone.work.kits.kits import Kit
from doorstone.work.snapshot.selecting import devices_of

operations = Operations("kits")


class KitQuery(RequestModel):
    device: str = ""


class GateQuery(RequestModel):
    route: KitRoute = "in-place"
    release: str = ""
    carry_over: Literal["", "everything", "files", "nothing"] = ""
    media: str = Field("", description="The media to use; the one that fits best if left out")


class OtherQuery(RequestModel):
    other: str = Field(description="The kit to compare with")


def _shape(kit: Kit) -> KitResponse:
    reasons, used = list(kit.standing.reasons), list(kit.standing.used)
    return KitResponse.model_validate({**asdict(kit.row), "id": kit.id, "reasons": reasons, "used": used})


def _detail(kit: Kit) -> KitDetail:
    files = [KitFileResponse.model_validate(file) for file in kit.files]
    return KitDetail(kit=_shape(kit), files=files)


def _devices(request: KitRequest) -> tuple[str, ...]:
    return tuple(dict.fromkeys([*([request.device] if request.device else []), *request.devices]))


@operations("GET", "/kits", "List kits", roles=EVERYONE, query=KitQuery, answer=KitList)
def list_kits(call: Call[KitQuery, None]) -> KitList:
    return KitList(items=[_shape(kit) for kit in kits.list_kits(call.context, call.query.device)])


@operations("GET", "/kits/key", "The public key that kits are checked against", roles=PUBLIC,
            media_type="application/x-pem-file")  # fmt: skip
def signing_key(call: Call[None, None]) -> Answer:
    return Answer(kits.signing_key(call.context), media_type="application/x-pem-file", file_name="doorstone-kits.pem")


@operations(
    "POST",
    "/kits/cases",
    "The kits that devices need, one for each distinct set of needs",
    roles=EVERYONE,
    body=KitBatchRequest,
    answer=KitCasesResponse,
    asks=True,
)
def kit_cases(call: Call[None, KitBatchRequest]) -> KitCasesResponse:
    cases, refused = kits.shared_cases(call.context, _wanted(call))
    return KitCasesResponse(
        cases=[SharedCaseResponse.model_validate(case) for case in cases],
        refused=[ErrorEntry.model_validate(entry) for entry in refused],
    )


def _wanted(call: Call[None, KitBatchRequest]) -> KitOptions:
    a = call.body
    return KitOptions(_chosen(call), a.release, a.route, a.carry_over, dict(a.waive), a.media, tuple(a.sets))


def _chosen(call: Call[None, KitBatchRequest]) -> tuple[str, ...]:
    a = call.body
    chosen = devices_of(call.context, "", a.release, DeviceFilter(), a.selection) if a.selection else []
    return tuple(sorted({*_devices(a), *chosen}))


@operations(
    "POST", "/kits/each", "Make one kit for each distinct set of needs", roles=HANDS, body=KitBatchRequest,
    answer=KitBatchResponse, status=201, creates=True, affected_devices=lambda call: _chosen(call),
)  # fmt: skip
def make_kits(call: Call[None, KitBatchRequest]) -> KitBatchResponse:
    made, refused = kits.make_each(call.context, call.actor, _wanted(call))
    entries = [ErrorEntry.model_validate(entry) for entry in refused]
    return KitBatchResponse(made=[_shape(kit) for kit in made], refused=entries)


@operations(
    "POST", "/kits", "Make a kit", roles=HANDS, body=KitRequest, answer=KitDetail, status=201, creates=True,
    affected_devices=lambda call: _devices(call.body),
)  # fmt: skip
def make_kit(call: Call[None, KitRequest]) -> KitDetail:
    a = call.body
    return _detail(
        kits.make_kit(
            call.context, call.actor, _devices(a), a.release, a.route, a.carry_over, dict(a.waive), a.media, a.sets
        )
    )


@operations("GET", "/kits/<kit>", "One kit with its files", roles=EVERYONE, answer=KitDetail)
def get_kit(call: Call[None, None]) -> KitDetail:
    return _detail(kits.get_kit(call.context, call.path["kit"]))


@operations(
    "GET", "/kits/<kit>/runbook", "The runbook as a page to print, with boxes to tick", roles=EVERYONE,
    media_type="text/html",
)  # fmt: skip
def kit_runbook(call: Call[None, None]) -> Answer:
    return page_alone(*kits.runbook(call.context, call.path["kit"]))


@operations(
    "GET", "/kits/<kit>/archive", "The kit as a zip, while it stands", roles=EVERYONE, media_type="application/zip"
)
def download_kit(call: Call[None, None]) -> Answer:
    name = call.path["kit"]
    data = kits.kit_archive(call.context, name)
    return Answer(data, media_type="application/zip", file_name=f"{name}.zip")


@operations(
    "GET", "/kits/<kit>/differences", "What differs between two kits", roles=EVERYONE, query=OtherQuery,
    answer=KitDifferenceList,
)  # fmt: skip
def kit_differences(call: Call[OtherQuery, None]) -> KitDifferenceList:
    found = kits.differences(call.context, call.path["kit"], call.query.other)
    return KitDifferenceList(items=[KitDifferenceResponse(what=w, one=one, other=other) for w, one, other in found])


@operations(
    "GET", "/devices/<device>/gates", "The gates before a device on a route", roles=EVERYONE, query=GateQuery,
    answer=GateList,
)  # fmt: skip
def device_gates(call: Call[GateQuery, None]) -> GateList:
    q = call.query
    found = kits.device_gates(call.context, call.path["device"], q.route, q.release, q.carry_over, q.media)
    return GateList(items=[_gate(g) for g in found])


@operations(
    "GET", "/devices/<device>/sets", "Settings for after an upgrade, and whether they are in place", roles=EVERYONE,
    answer=SettingsSetList,
)  # fmt: skip
def device_sets(call: Call[None, None]) -> SettingsSetList:
    found = kits.device_sets(call.context, call.path["device"])
    return SettingsSetList(items=[SettingsSetResponse.model_validate(asdict(one)) for one in found])


class ReleaseQuery(RequestModel):
    release: str = ""


@operations(
    "GET", "/devices/<device>/routes", "The routes of a device side by side", roles=EVERYONE, query=ReleaseQuery,
    answer=RouteList,
)  # fmt: skip
def device_routes(call: Call[ReleaseQuery, None]) -> RouteList:
    found = kits.compare_routes(call.context, call.path["device"], call.query.release)
    return RouteList(items=[RouteResponse.model_validate(route) for route in found])


def _gate(result: GateResult) -> GateResponse:
    gate = result.gate
    return GateResponse(
        id=gate.id,
        title=gate.title,
        severity=gate.severity,
        result=result.result,
        measured=result.measured,
        asks=str(gate.condition),
        todo=gate.todo,
        waivable=result.waivable,
    )
