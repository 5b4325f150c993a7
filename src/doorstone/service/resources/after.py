"""After an upgrade: follow-ups, and what verify says when it is asked again."""

from __future__ import annotations

from dataclasses import asdict

from doorstone.formats.wire_outlook import (
    ChangedShape,
    FollowUpAsked,
    FollowUpShape,
    FollowUpsShape,
    VerifiedList,
    VerifiedShape,
    VerifyReportAsked,
)
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.store.after import FollowUpRow
from doorstone.work import after
from doorstone.work.after import Verified
from doorstone.work.desk import id_of

operations = Operations("after")


def _step(row: FollowUpRow) -> FollowUpShape:
    return FollowUpShape.model_validate({**asdict(row), "id": id_of("FU", row.id), "attempt": id_of("AT", row.attempt)})


def _verified(one: Verified) -> VerifiedShape:
    changed = [ChangedShape(setting=name, was=was, now=now) for name, was, now in one.changed]
    return VerifiedShape.model_validate(
        {**asdict(one), "changed": changed, "settings": [dict(row) for row in one.settings]}
    )


@operations("GET", "/devices/<device>/follow-ups", "What its last upgrade left to do", roles=EVERYONE,
            answer=FollowUpsShape)  # fmt: skip
def device_followups(call: Call[None, None]) -> FollowUpsShape:
    found = after.device_followups(call.desk, call.path["device"])
    return FollowUpsShape(
        device=found.device,
        attempt=found.attempt,
        steps=[_step(row) for row in found.steps],
        blocked=found.blocked,
        rollback_until=found.rollback_until,
    )


@operations(
    "POST", "/follow-ups/<step>/outcome", "Say what came of a follow-up", roles=HANDS, body=FollowUpAsked,
    answer=FollowUpShape, touches=lambda call: [after.step_device(call.desk, call.path["step"])],
)  # fmt: skip
def settle_followup(call: Call[None, FollowUpAsked]) -> FollowUpShape:
    a = call.body
    return _step(after.settle(call.desk, call.actor, call.path["step"], a.state, a.answer, a.reason, a.confirm))


@operations("GET", "/devices/<device>/verifications", "What verify said on a device", roles=EVERYONE,
            answer=VerifiedList)  # fmt: skip
def device_verifications(call: Call[None, None]) -> VerifiedList:
    found = after.device_verifications(call.desk, call.path["device"])
    return VerifiedList(items=[_verified(one) for one in found])


@operations(
    "POST", "/devices/<device>/verifications", "Keep what verify said on a device", roles=HANDS,
    body=VerifyReportAsked, answer=VerifiedShape, status=201, touches=lambda call: [call.path["device"]],
)  # fmt: skip
def add_verification(call: Call[None, VerifyReportAsked]) -> VerifiedShape:
    report = call.body.model_dump()
    return _verified(after.add_verification(call.desk, call.actor, call.body.kit, call.path["device"], report))
