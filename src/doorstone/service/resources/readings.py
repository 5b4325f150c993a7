"""Readings: imported at once, or as a job with its progress."""

from __future__ import annotations

import time
from collections.abc import Iterator

from flask import request
from msgspec.structs import asdict
from pydantic import Field

from doorstone.api.common import RequestModel
from doorstone.api.readings import (
    ImportList,
    ImportProblemPage,
    ImportProblemResponse,
    ImportRequest,
    ImportResponse,
    ReadingsRequest,
    RecordFileRequest,
    RecordFileResponse,
    SourceList,
    SourceResponse,
)
from doorstone.service import record_files
from doorstone.service.import_worker import ImportWorker
from doorstone.service.operations import EVERYONE, HANDS, READERS_IN, Answer, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError, NoRoomError
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import Import, ImportOptions

operations = Operations("readings")
LONGEST_WATCH = 600
"""Seconds after which the stream of events ends; whoever watches asks again."""
QUIET = 5
"""Seconds without an event after which a comment is sent."""


class ProblemQuery(RequestModel):
    cursor: int = Field(0, ge=0, le=2**53)
    limit: int = Field(100, ge=1, le=1000)


def _shape(found: Import) -> ImportResponse:
    fields = {**asdict(found.row), "id": found.id, "ended": found.ended, "changes": found.changes}
    return ImportResponse.model_validate(fields)


def _given(request: ImportRequest) -> ImportOptions:
    return ImportOptions(request.form, request.name, request.dry, request.skip, request.mapping)


@operations(
    "POST", "/records/<kind>", "Record the rows of a file, all or none: attempts, observations, fixes, lives, "
    "settlements or follow-ups", roles=HANDS, body=RecordFileRequest, answer=RecordFileResponse, status=201,
    creates=True, affected_devices=lambda call: record_files.devices_of(_of_kind(call)),
)  # fmt: skip
def record_file(call: Call[None, RecordFileRequest]) -> RecordFileResponse:
    kind = _of_kind(call).path["kind"]
    return record_files.record_file(call.context, call.actor, kind, call.body)


def _of_kind(call: Call[None, RecordFileRequest]) -> Call[None, RecordFileRequest]:
    if (kind := call.path["kind"]) not in record_files.KINDS:
        raise MissingError(f"There is no kind of record {kind!r}", f"Use one of {', '.join(record_files.KINDS)}")
    return call


@operations(
    "POST", "/readings", "Import readings at once", roles=READERS_IN, body=ReadingsRequest, answer=ImportResponse,
    status=201, creates=True,
)  # fmt: skip
def import_readings(call: Call[None, ReadingsRequest]) -> ImportResponse:
    assert call.jobs is not None
    try:
        return _shape(import_job.import_readings(call.context, call.actor, call.body.text, _given(call.body)))
    except NoRoomError as error:
        if error.kept:
            call.jobs.run(error.kept)
        raise


@operations(
    "POST",
    "/imports",
    "Begin an import",
    roles=HANDS,
    body=ImportRequest,
    answer=ImportResponse,
    status=201,
    creates=True,
)
def begin_import(call: Call[None, ImportRequest]) -> ImportResponse:
    return _shape(import_job.begin(call.context, call.actor, _given(call.body)))


@operations(
    "PUT", "/imports/<name>/file", "Send the import's file", roles=HANDS, upload=True, answer=ImportResponse, status=202
)
def send_import_file(call: Call[None, None]) -> ImportResponse:
    assert call.file is not None
    assert call.jobs is not None
    found = import_job.receive(call.context, call.actor, call.path["name"], call.file, request.content_length)
    call.jobs.run(found.id)
    return _shape(found)


@operations("GET", "/imports", "List imports", roles=EVERYONE, answer=ImportList)
def list_imports(call: Call[None, None]) -> ImportList:
    return ImportList(items=[_shape(found) for found in import_job.list_imports(call.context)])


@operations("GET", "/imports/<name>", "One import", roles=EVERYONE, answer=ImportResponse)
def get_import(call: Call[None, None]) -> ImportResponse:
    return _shape(import_job.get_import(call.context, call.path["name"]))


@operations("DELETE", "/imports/<name>", "Cancel an import", roles=HANDS, answer=ImportResponse)
def cancel_import(call: Call[None, None]) -> ImportResponse:
    return _shape(import_job.cancel(call.context, call.actor, call.path["name"]))


@operations(
    "GET", "/imports/<name>/problems", "The rejected lines", roles=EVERYONE, query=ProblemQuery,
    answer=ImportProblemPage, pages=True,
)  # fmt: skip
def import_problems(call: Call[ProblemQuery, None]) -> Answer:
    rows = import_job.import_problems(call.context, call.path["name"], call.query.cursor, call.query.limit + 1)
    page = rows[: call.query.limit]
    after = str(page[-1].number) if len(rows) > len(page) else None
    items = [ImportProblemResponse.model_validate(row) for row in page]
    return Answer(ImportProblemPage(items=items, next=after), next=after)


@operations(
    "GET", "/imports/<name>/events", "The import's progress as it goes", roles=EVERYONE, media_type="text/event-stream"
)
def import_events(call: Call[None, None]) -> Answer:
    assert call.jobs is not None
    found = import_job.get_import(call.context, call.path["name"])
    if not call.jobs.watchers.acquire(blocking=False):
        hint = "Ask for the import itself from time to time"
        raise ServiceProblemError(503, "too-many-watchers", "Too many watch at the moment", hint, retry_after=5)
    return Answer(_Watched(call.jobs, _events(call.context, call.jobs, found)), media_type="text/event-stream")


class _Watched(Iterator[bytes]):
    """A stream that gives up its place when it ends or its reader is gone, even before its first event."""

    def __init__(self, jobs: ImportWorker, events: Iterator[bytes]) -> None:
        self._jobs, self._events, self._open = jobs, events, True

    def __next__(self) -> bytes:
        try:
            return next(self._events)
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        if self._open:
            self._open = False
            self._jobs.watchers.release()


def _events(context: Context, jobs: ImportWorker, found: Import) -> Iterator[bytes]:
    """An event for each change, the last one when the import has ended. Comments in between find a gone reader."""
    last = b""
    until = time.monotonic() + LONGEST_WATCH
    spoke = time.monotonic()
    while True:
        data = _shape(found).model_dump_json().encode()
        if data != last:
            yield b"event: progress\ndata: " + data + b"\n\n"
            last, spoke = data, time.monotonic()
        elif time.monotonic() - spoke > QUIET:
            yield b": still here\n\n"
            spoke = time.monotonic()
        if found.ended or jobs.halted.is_set() or time.monotonic() > until:
            return
        time.sleep(0.2)
        found = import_job.get_import(context, found.id)


@operations("GET", "/sources", "Who reports, and how far each is trusted", roles=EVERYONE, answer=SourceList)
def list_sources(call: Call[None, None]) -> SourceList:
    known = sorted(call.context.policy.sources.values(), key=lambda source: -source.trust)
    return SourceList(items=[SourceResponse.model_validate(source) for source in known])
