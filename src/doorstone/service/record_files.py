"""Files of records: attempts, observations, fixes, lives, settlements, follow-ups. All rows of a file, or none.

The fields of a kind are those of its request on the wire; each row is recorded as a call of its own would be.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime
from enum import Enum
from functools import cache
from typing import Any, NamedTuple, get_args, get_origin

from msgspec import Struct
from msgspec.structs import replace
from pydantic import BaseModel, ValidationError

from doorstone.api.attempts import AttemptRequest
from doorstone.api.devices import LifeRow, SettlementRequest
from doorstone.api.fixes import FixRow
from doorstone.api.followups import FollowUpRow
from doorstone.api.readings import RecordedResponse, RecordFileRequest, RecordFileResponse
from doorstone.api.updates import ObservationRequest
from doorstone.core.devices.life import LifeChange
from doorstone.core.facts import FactSpec, FactType
from doorstone.service.operations import Call
from doorstone.store import ledger
from doorstone.work import attempts, followups, updates
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before
from doorstone.work.context.batch import all_or_none
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry
from doorstone.work.context.ids import id_of
from doorstone.work.devices import disputes, lives
from doorstone.work.fixes import done as fixes_done
from doorstone.work.readings.record_files import rows_of_file
from doorstone.work.updates import NewObservation


class Recorded(NamedTuple):
    """The outcome of a row: the id of its record and what was recorded. The id is empty for a row that was known."""

    id: str
    words: str


class Kind(Struct, frozen=True):
    """A kind of record: the fields of a row, and the function that records it."""

    row: type[BaseModel]
    make: Callable[[Context, Actor, Any], Recorded]


def new_attempt(a: AttemptRequest) -> NewAttempt:
    return NewAttempt(
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
        a.corrects,
        a.runs,
    )


def _attempt(context: Context, actor: Actor, row: AttemptRequest) -> Recorded:
    given = new_attempt(row)
    if before := attempts.recorded_before(context, given):
        return Recorded("", f"{before}, recorded before")
    made = attempts.record_attempt(context, actor, given)
    return Recorded(made.id, f"{made.row.outcome.replace('-', ' ')} on {made.row.release}, try {made.row.number}")


def _observation(context: Context, actor: Actor, row: ObservationRequest) -> Recorded:
    given = NewObservation(
        row.device, row.seen_on, row.update_class, row.result, row.reason, row.source, row.detail, row.corrects
    )
    made = updates.record_new(context, actor, given)
    words = f"{row.update_class} {row.result.replace('-', ' ')} {row.reason}".strip()
    return Recorded(id_of("OB", made.id), words) if made is not None else Recorded("", f"{words}, known already")


def _fix(context: Context, actor: Actor, row: FixRow) -> Recorded:
    given = fixes_done.NewFixResult(row.title, row.outcome, row.done_at, row.note)
    made = fixes_done.record_fix(context, actor, row.device, given)
    return Recorded(made.id, f"{made.row.title}: {made.row.outcome}")


def _life(context: Context, actor: Actor, row: LifeRow) -> Recorded:
    change = LifeChange(row.life, row.on or context.today(), row.reason, row.look_on, row.wiped_by, row.replaced_by)
    (made,) = lives.change_lives(context, actor, [row.device], change)
    ended = f", {', '.join(made.ends)} ended" if made.ends else ""
    last = lives.device_lives(context, row.device)[-1]
    return Recorded(id_of("LF", last.id), made.life.replace("-", " ") + ended)


def _settlement(context: Context, actor: Actor, row: SettlementRequest) -> Recorded:
    made = disputes.settle_dispute(context, actor, row.device, row.kind, row.subject, row.value, row.reason)
    return Recorded(made.id, f"{made.subject} is {made.value}")


def _follow_up(context: Context, actor: Actor, row: FollowUpRow) -> Recorded:
    name = followups.step_of(context, row.device, row.step)
    made = followups.settle(context, actor, name, row.state, row.answer, row.reason, row.confirm)
    return Recorded(name, f"{made.title}: {made.state}")


KINDS: Mapping[str, Kind] = {
    "attempts": Kind(AttemptRequest, _attempt),
    "observations": Kind(ObservationRequest, _observation),
    "fixes": Kind(FixRow, _fix),
    "lives": Kind(LifeRow, _life),
    "settlements": Kind(SettlementRequest, _settlement),
    "follow-ups": Kind(FollowUpRow, _follow_up),
}


@cache
def fields_of(kind: str) -> Mapping[str, FactSpec]:
    """The fields of a kind, the device first, typed as a mapping knows types."""
    fields = KINDS[kind].row.model_fields
    names = sorted(fields, key=lambda name: name != "device")
    return {name: FactSpec(name, *_type_of(fields[name].annotation)) for name in names}


def _type_of(annotation: Any) -> tuple[FactType, None, bool, tuple[str, ...]]:
    parts = list(_parts(annotation))
    if list in parts:
        return FactType.SET, None, True, ()
    for kind, found in ((bool, FactType.FLAG), (datetime, FactType.TIMESTAMP), (date, FactType.DATE)):
        if kind in parts:
            return found, None, True, ()
    enums = [one for one in parts if isinstance(one, type) and issubclass(one, Enum)]
    words = [str(word.value) for one in enums for word in one] + [one for one in parts if isinstance(one, str) and one]
    return FactType.TEXT, None, True, tuple(words)


def _parts(annotation: Any) -> Iterable[Any]:
    """The parts of a type: members of a union, words of a literal, a list and its item type."""
    yield get_origin(annotation) or annotation
    inner = get_args(annotation)
    for one in inner[:1] if hasattr(annotation, "__metadata__") else inner:
        yield from _parts(one) if not isinstance(one, str) else [one]


def devices_of(call: Call[Any, RecordFileRequest]) -> list[str]:
    """The devices that a file names and that exist, and those of the records that it corrects.

    Errors in the file are reported when it is recorded.
    """
    try:
        rows, _ = rows_of_file(call.body.text, call.body.form, fields_of(call.path["kind"]), call.body.mapping)
    except BadInputError:
        return []
    device_of = {"attempts": attempts.device_of, "observations": updates.device_of}.get(call.path["kind"])
    wrong = [str(row.fields["corrects"]) for row in rows if device_of and row.fields.get("corrects")]
    corrected = [device for name in wrong if device_of for device in device_of(call.context, name)]
    return lives.known(call.context, [*(str(row.fields.get("device", "")) for row in rows), *corrected])


def record_file(context: Context, actor: Actor, kind: str, request: RecordFileRequest) -> RecordFileResponse:
    """Record every row of a file, or none. Raises `BadInputError` with an entry for each thing that is wrong."""
    of = KINDS[kind]
    word = "item" if request.form == "json" else "line"
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return RecordFileResponse.model_validate_json(before)
        found, errors = rows_of_file(request.text, request.form, fields_of(kind), request.mapping)
        placed: list[tuple[str, BaseModel]] = []
        lines = []
        for row in found:
            try:
                given = of.row.model_validate(row.fields)
            except ValidationError as error:
                errors += _entries(f"{word} {row.line}", error, fields_of(kind))
            else:
                placed.append((f"{word} {row.line}, {row.fields.get('device', '')}", given))
                lines.append((row.line, str(row.fields.get("device", ""))))
        plain = replace(actor, receipt=None)
        made = all_or_none(context, placed, lambda given: of.make(context, plain, given), before=errors)
        items = [
            RecordedResponse(line=line, device=device, id=one.id, words=one.words)
            for (line, device), one in zip(lines, made, strict=True)
        ]
        known = sum(not one.id for one in made)
        answer = RecordFileResponse.model_validate(
            {"kind": kind, "recorded": len(made) - known, "known": known, "items": items}
        )
        if actor.receipt is not None:
            kept = answer.model_dump_json()
            ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, kept, context.now())
    return answer


def _entries(place: str, error: ValidationError, fields: Mapping[str, FactSpec]) -> Iterable[ErrorEntry]:
    for one in error.errors(include_url=False):
        name = str(one["loc"][0]) if one["loc"] else "row"
        if one["type"] == "missing":
            yield ErrorEntry(f"{place}, {name}", "It is missing", f"Add a column or key {name}")
        else:
            yield ErrorEntry(f"{place}, {name}", f"{one['input']!r}: {one['msg'].lower()}", _hint(fields.get(name)))


def _hint(field: FactSpec | None) -> str:
    if field is None:
        return "Leave it out"
    if field.choices:
        return f"Use one of {', '.join(field.choices)}; or map the file's words to them"
    return {
        FactType.DATE: "Write it as 2027-01-18; or say in a mapping how dates are written",
        FactType.TIMESTAMP: "Write it as 2027-01-18T09:30:00; or say in a mapping how times are written",
        FactType.FLAG: "Write true or false",
    }.get(field.type, "Correct it")
