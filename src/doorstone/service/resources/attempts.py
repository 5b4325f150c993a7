"""Attempts, observations of updates, standing."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any, Literal

from msgspec.structs import asdict

from doorstone.api.attempts import (
    AttemptBatchRequest,
    AttemptList,
    AttemptRequest,
    AttemptResponse,
    BatchResponse,
    DraftResponse,
    ObservationBatchRequest,
    RateList,
    RateResponse,
)
from doorstone.api.common import RequestModel
from doorstone.api.updates import ObservationList, ObservationRequest, ObservationResponse, StandingResponse
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.service.record_files import new_attempt
from doorstone.store.attempts import AttemptRow, ObservationRow
from doorstone.work import attempts, updates
from doorstone.work.attempts import Attempt
from doorstone.work.context.ids import id_of
from doorstone.work.updates import NewObservation

operations = Operations("attempts")


class DeviceOnlyQuery(RequestModel):
    device: str = ""


def _attempt(attempt: Attempt) -> AttemptResponse:
    row = asdict(attempt.row)
    kit = id_of("KT", attempt.row.kit) if attempt.row.kit is not None else None
    refused_by = [name for name in attempt.row.refused_by.split(", ") if name]
    took = datetime.fromisoformat(attempt.row.ended_at) - datetime.fromisoformat(attempt.row.started_at)
    more = {"id": attempt.id, "kit": kit, "refused_by": refused_by, "minutes": int(took.total_seconds() // 60)}
    more |= _corrections("AT", attempt.row)
    return AttemptResponse.model_validate({**row, **more})


def _observation(row: ObservationRow) -> ObservationResponse:
    return ObservationResponse.model_validate({**asdict(row), "id": id_of("OB", row.id), **_corrections("OB", row)})


def _attempted(call: Call[Any, Any], items: Iterable[AttemptRequest]) -> list[str]:
    """The devices of attempts, and those of the attempts that they correct."""
    return [name for one in items for name in (one.device, *attempts.device_of(call.context, one.corrects))]


def _observed(call: Call[Any, Any], items: Iterable[ObservationRequest]) -> list[str]:
    """The devices of observations, and those of the observations that they correct."""
    return [name for one in items for name in (one.device, *updates.device_of(call.context, one.corrects))]


def _corrections(prefix: str, row: AttemptRow | ObservationRow) -> dict[str, str]:
    numbers = {"corrects": row.corrects, "corrected_by": row.corrected_by}
    return {name: id_of(prefix, number) if number else "" for name, number in numbers.items()}


@operations("GET", "/attempts", "List attempts", roles=EVERYONE, query=DeviceOnlyQuery, answer=AttemptList)
def list_attempts(call: Call[DeviceOnlyQuery, None]) -> AttemptList:
    return AttemptList(items=[_attempt(a) for a in attempts.list_attempts(call.context, call.query.device)])


@operations(
    "POST",
    "/attempts",
    "Record an attempt",
    roles=HANDS,
    body=AttemptRequest,
    answer=AttemptResponse,
    status=201,
    creates=True,
    affected_devices=lambda call: _attempted(call, [call.body]),
)
def record_attempt(call: Call[None, AttemptRequest]) -> AttemptResponse:
    return _attempt(attempts.record_attempt(call.context, call.actor, new_attempt(call.body)))


@operations(
    "POST", "/attempts/batch", "Record a day's attempts, all or none", roles=HANDS, body=AttemptBatchRequest,
    answer=AttemptList, status=201, affected_devices=lambda call: _attempted(call, call.body.items),
)  # fmt: skip
def record_attempts(call: Call[None, AttemptBatchRequest]) -> AttemptList:
    made = attempts.record_attempts(call.context, call.actor, [new_attempt(one) for one in call.body.items])
    return AttemptList(items=[_attempt(one) for one in made])


class RateQuery(RequestModel):
    by: Literal["override", "release", "route", "model", "media", "tool"] = "override"
    platform: str = ""


@operations("GET", "/attempts/rates", "How often attempts completed", roles=EVERYONE, query=RateQuery, answer=RateList)
def attempt_rates(call: Call[RateQuery, None]) -> RateList:
    found = attempts.success_rates(call.context, call.query.by, call.query.platform)
    return RateList(items=[RateResponse(key=key, **asdict(one)) for key, one in found.items()])


@operations("GET", "/devices/<device>/attempts/draft", "What the next attempt starts from", roles=EVERYONE,
            answer=DraftResponse)  # fmt: skip
def attempt_draft(call: Call[None, None]) -> DraftResponse:
    return DraftResponse.model_validate(attempts.draft(call.context, call.path["device"]))


@operations(
    "POST", "/observations/batch", "Record many observations, all or none", roles=HANDS, body=ObservationBatchRequest,
    answer=BatchResponse, status=201, affected_devices=lambda call: _observed(call, call.body.items),
)  # fmt: skip
def record_observations(call: Call[None, ObservationBatchRequest]) -> BatchResponse:
    given = [
        NewObservation(o.device, o.seen_on, o.update_class, o.result, o.reason, o.source, o.detail, o.corrects)
        for o in call.body.items
    ]
    recorded, known = updates.record_observations(call.context, call.actor, given)
    return BatchResponse(recorded=recorded, known=known)


@operations("GET", "/observations", "List observations", roles=EVERYONE, query=DeviceOnlyQuery, answer=ObservationList)
def list_observations(call: Call[DeviceOnlyQuery, None]) -> ObservationList:
    rows = updates.list_observations(call.context, call.query.device)
    return ObservationList(items=[_observation(row) for row in rows])


@operations(
    "POST",
    "/observations",
    "Record an observation",
    roles=HANDS,
    body=ObservationRequest,
    answer=ObservationResponse,
    status=201,
    creates=True,
    affected_devices=lambda call: _observed(call, [call.body]),
)
def record_observation(call: Call[None, ObservationRequest]) -> ObservationResponse:
    a = call.body
    given = NewObservation(a.device, a.seen_on, a.update_class, a.result, a.reason, a.source, a.detail, a.corrects)
    return _observation(updates.record_observation(call.context, call.actor, given))


@operations(
    "GET", "/devices/<device>/standing", "Updates, expected and observed", roles=EVERYONE, answer=StandingResponse
)
def device_standing(call: Call[None, None]) -> StandingResponse:
    return StandingResponse.model_validate(updates.device_standing(call.context, call.path["device"]))
