"""Attempts, observations, standing."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Literal

from doorstone.formats.wire import Asked
from doorstone.formats.wire_after import (
    AttemptAsked,
    AttemptList,
    AttemptShape,
    ObservationAsked,
    ObservationList,
    ObservationShape,
    StandingShape,
)
from doorstone.formats.wire_outlook import (
    AttemptBatchAsked,
    BatchShape,
    DraftShape,
    ObservationBatchAsked,
    RateList,
    RateShape,
)
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.store.attempts import ObservationRow
from doorstone.work import attempts
from doorstone.work.attempts import Attempt, AttemptGiven, ObservationGiven
from doorstone.work.desk import id_of

operations = Operations("attempts")


class DeviceOnlyQuery(Asked):
    device: str = ""


def _attempt(attempt: Attempt) -> AttemptShape:
    row = asdict(attempt.row)
    kit = id_of("KT", attempt.row.kit) if attempt.row.kit is not None else None
    refused_by = [name for name in attempt.row.refused_by.split(", ") if name]
    took = datetime.fromisoformat(attempt.row.ended_at) - datetime.fromisoformat(attempt.row.started_at)
    more = {"id": attempt.id, "kit": kit, "refused_by": refused_by, "minutes": int(took.total_seconds() // 60)}
    return AttemptShape.model_validate({**row, **more})


def _observation(row: ObservationRow) -> ObservationShape:
    return ObservationShape.model_validate({**asdict(row), "id": id_of("OB", row.id)})


@operations("GET", "/attempts", "List attempts", roles=EVERYONE, query=DeviceOnlyQuery, answer=AttemptList)
def list_attempts(call: Call[DeviceOnlyQuery, None]) -> AttemptList:
    return AttemptList(items=[_attempt(a) for a in attempts.list_attempts(call.desk, call.query.device)])


@operations(
    "POST",
    "/attempts",
    "Record an attempt",
    roles=HANDS,
    body=AttemptAsked,
    answer=AttemptShape,
    status=201,
    creates=True,
    touches=lambda call: [call.body.device],
)
def record_attempt(call: Call[None, AttemptAsked]) -> AttemptShape:
    return _attempt(attempts.record_attempt(call.desk, call.actor, _given(call.body)))


def _given(a: AttemptAsked) -> AttemptGiven:
    return AttemptGiven(
        a.device,
        a.kit,
        a.release,
        a.route,
        a.carry_over,
        a.outcome,
        tuple(a.refused_by),
        a.seen.strip(),
        a.media,
        a.tool_version,
        a.started_at.replace(tzinfo=None),
        a.ended_at.replace(tzinfo=None),
        a.notice_accepted,
        a.mismatch,
    )


@operations(
    "POST", "/attempts/batch", "Record a day's attempts, all or none", roles=HANDS, body=AttemptBatchAsked,
    answer=AttemptList, status=201, touches=lambda call: [one.device for one in call.body.items],
)  # fmt: skip
def record_attempts(call: Call[None, AttemptBatchAsked]) -> AttemptList:
    made = attempts.record_attempts(call.desk, call.actor, [_given(one) for one in call.body.items])
    return AttemptList(items=[_attempt(one) for one in made])


class RateQuery(Asked):
    by: Literal["override", "release", "route", "model", "media", "tool"] = "override"
    platform: str = ""


@operations("GET", "/attempts/rates", "How often attempts completed", roles=EVERYONE, query=RateQuery, answer=RateList)
def attempt_rates(call: Call[RateQuery, None]) -> RateList:
    found = attempts.success_rates(call.desk, call.query.by, call.query.platform)
    return RateList(items=[RateShape(key=key, **asdict(one)) for key, one in found.items()])


@operations("GET", "/devices/<device>/attempts/draft", "What the next attempt starts from", roles=EVERYONE,
            answer=DraftShape)  # fmt: skip
def attempt_draft(call: Call[None, None]) -> DraftShape:
    return DraftShape.model_validate(attempts.draft(call.desk, call.path["device"]))


@operations(
    "POST", "/observations/batch", "Record many observations, all or none", roles=HANDS, body=ObservationBatchAsked,
    answer=BatchShape, status=201, touches=lambda call: [one.device for one in call.body.items],
)  # fmt: skip
def record_observations(call: Call[None, ObservationBatchAsked]) -> BatchShape:
    given = [
        ObservationGiven(o.device, o.seen_on, o.update_class, o.result, o.reason, o.source, o.detail)
        for o in call.body.items
    ]
    recorded, known = attempts.record_observations(call.desk, call.actor, given)
    return BatchShape(recorded=recorded, known=known)


@operations("GET", "/observations", "List observations", roles=EVERYONE, query=DeviceOnlyQuery, answer=ObservationList)
def list_observations(call: Call[DeviceOnlyQuery, None]) -> ObservationList:
    rows = attempts.list_observations(call.desk, call.query.device)
    return ObservationList(items=[_observation(row) for row in rows])


@operations(
    "POST",
    "/observations",
    "Record an observation",
    roles=HANDS,
    body=ObservationAsked,
    answer=ObservationShape,
    status=201,
    creates=True,
    touches=lambda call: [call.body.device],
)
def record_observation(call: Call[None, ObservationAsked]) -> ObservationShape:
    a = call.body
    given = ObservationGiven(a.device, a.seen_on, a.update_class, a.result, a.reason, a.source, a.detail)
    return _observation(attempts.record_observation(call.desk, call.actor, given))


@operations("GET", "/devices/<device>/standing", "Updates, expected and observed", roles=EVERYONE, answer=StandingShape)
def device_standing(call: Call[None, None]) -> StandingShape:
    return StandingShape.model_validate(attempts.device_standing(call.desk, call.path["device"]))
