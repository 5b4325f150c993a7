"""Attempts, observations, standing."""

from __future__ import annotations

from dataclasses import asdict

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
    return AttemptShape.model_validate({**row, "id": attempt.id, "kit": kit, "refused_by": refused_by})


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
)
def record_attempt(call: Call[None, AttemptAsked]) -> AttemptShape:
    a = call.body
    given = AttemptGiven(
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
    )
    return _attempt(attempts.record_attempt(call.desk, call.actor, given))


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
)
def record_observation(call: Call[None, ObservationAsked]) -> ObservationShape:
    a = call.body
    given = ObservationGiven(a.device, a.seen_on, a.update_class, a.result, a.reason, a.source, a.detail)
    return _observation(attempts.record_observation(call.desk, call.actor, given))


@operations("GET", "/devices/<device>/standing", "Updates, expected and observed", roles=EVERYONE, answer=StandingShape)
def device_standing(call: Call[None, None]) -> StandingShape:
    return StandingShape.model_validate(attempts.device_standing(call.desk, call.path["device"]))
