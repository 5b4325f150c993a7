"""After an upgrade: follow-ups, and what verify says when it is asked again."""

from __future__ import annotations

from msgspec.structs import asdict

from doorstone.api.followups import (
    ChangedResponse,
    FollowUpRequest,
    FollowUpResponse,
    FollowUpsResponse,
    VerifiedList,
    VerifiedResponse,
    VerifyReportRequest,
)
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.store.followups import FollowUpRow
from doorstone.work import followups
from doorstone.work.context.ids import id_of
from doorstone.work.followups import Verified

operations = Operations("after")


def _step(row: FollowUpRow) -> FollowUpResponse:
    return FollowUpResponse.model_validate(
        {**asdict(row), "id": id_of("FU", row.id), "attempt": id_of("AT", row.attempt)}
    )


def _verified(one: Verified) -> VerifiedResponse:
    changed = [ChangedResponse(setting=name, was=was, now=now) for name, was, now in one.changed]
    return VerifiedResponse.model_validate(
        {**asdict(one), "changed": changed, "settings": [dict(row) for row in one.settings]}
    )


@operations("GET", "/devices/<device>/follow-ups", "The follow-ups of a device's last upgrade", roles=EVERYONE,
            answer=FollowUpsResponse)  # fmt: skip
def device_followups(call: Call[None, None]) -> FollowUpsResponse:
    found = followups.device_followups(call.context, call.path["device"])
    return FollowUpsResponse(
        device=found.device,
        attempt=found.attempt,
        steps=[_step(row) for row in found.steps],
        blocked=found.blocked,
        rollback_until=found.rollback_until,
    )


@operations(
    "POST", "/follow-ups/<step>/outcome", "Record the outcome of a follow-up", roles=HANDS, body=FollowUpRequest,
    answer=FollowUpResponse, affected_devices=lambda call: [followups.step_device(call.context, call.path["step"])],
)  # fmt: skip
def settle_followup(call: Call[None, FollowUpRequest]) -> FollowUpResponse:
    a = call.body
    return _step(followups.settle(call.context, call.actor, call.path["step"], a.state, a.answer, a.reason, a.confirm))


@operations("GET", "/devices/<device>/verifications", "Reports of a kit's verify on a device", roles=EVERYONE,
            answer=VerifiedList)  # fmt: skip
def device_verifications(call: Call[None, None]) -> VerifiedList:
    found = followups.device_verifications(call.context, call.path["device"])
    return VerifiedList(items=[_verified(one) for one in found])


@operations(
    "POST", "/devices/<device>/verifications", "Record the report of a kit's verify on a device", roles=HANDS,
    body=VerifyReportRequest, answer=VerifiedResponse, status=201, affected_devices=lambda call: [call.path["device"]],
)  # fmt: skip
def add_verification(call: Call[None, VerifyReportRequest]) -> VerifiedResponse:
    report = call.body.model_dump()
    return _verified(followups.add_verification(call.context, call.actor, call.body.kit, call.path["device"], report))
