"""Readings come in: at once, or as a job with its progress."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import asdict

from flask import request
from pydantic import Field

from doorstone.formats.wire import (
    Asked,
    ImportAsked,
    ImportList,
    ImportProblemPage,
    ImportProblemShape,
    ImportShape,
    ReadingsAsked,
    SourceList,
    SourceShape,
)
from doorstone.service.jobs import Jobs
from doorstone.service.operations import EVERYONE, HANDS, READERS_IN, Answer, Call, Operations
from doorstone.service.problems import ServiceProblemError
from doorstone.work import intake
from doorstone.work.desk import Desk
from doorstone.work.intake import Import, ImportGiven

operations = Operations("readings")
LONGEST_WATCH = 600
"""Seconds after which the stream of events ends; whoever watches asks again."""
QUIET = 5
"""Seconds without an event after which a comment is sent."""


class ProblemQuery(Asked):
    cursor: int = Field(0, ge=0, le=2**53)
    limit: int = Field(100, ge=1, le=1000)


def _shape(found: Import) -> ImportShape:
    fields = {**asdict(found.row), "id": found.id, "ended": found.ended, "changes": found.changes}
    return ImportShape.model_validate(fields)


def _given(asked: ImportAsked) -> ImportGiven:
    return ImportGiven(asked.form, asked.name, asked.dry, asked.skip, asked.mapping)


@operations(
    "POST", "/readings", "Import readings at once", roles=READERS_IN, body=ReadingsAsked, answer=ImportShape,
    status=201, creates=True,
)  # fmt: skip
def import_readings(call: Call[None, ReadingsAsked]) -> ImportShape:
    return _shape(intake.import_readings(call.desk, call.actor, call.body.text, _given(call.body)))


@operations(
    "POST", "/imports", "Begin an import", roles=HANDS, body=ImportAsked, answer=ImportShape, status=201, creates=True
)
def begin_import(call: Call[None, ImportAsked]) -> ImportShape:
    return _shape(intake.begin(call.desk, call.actor, _given(call.body)))


@operations(
    "PUT", "/imports/<name>/file", "Send the import's file", roles=HANDS, upload=True, answer=ImportShape, status=202
)
def send_import_file(call: Call[None, None]) -> ImportShape:
    assert call.file is not None
    assert call.jobs is not None
    found = intake.receive(call.desk, call.actor, call.path["name"], call.file, request.content_length)
    call.jobs.run(found.id)
    return _shape(found)


@operations("GET", "/imports", "List imports", roles=EVERYONE, answer=ImportList)
def list_imports(call: Call[None, None]) -> ImportList:
    return ImportList(items=[_shape(found) for found in intake.list_imports(call.desk)])


@operations("GET", "/imports/<name>", "One import", roles=EVERYONE, answer=ImportShape)
def get_import(call: Call[None, None]) -> ImportShape:
    return _shape(intake.get_import(call.desk, call.path["name"]))


@operations("DELETE", "/imports/<name>", "Cancel an import", roles=HANDS, answer=ImportShape)
def cancel_import(call: Call[None, None]) -> ImportShape:
    return _shape(intake.cancel(call.desk, call.actor, call.path["name"]))


@operations(
    "GET", "/imports/<name>/problems", "The rejected lines", roles=EVERYONE, query=ProblemQuery,
    answer=ImportProblemPage, pages=True,
)  # fmt: skip
def import_problems(call: Call[ProblemQuery, None]) -> Answer:
    rows = intake.import_problems(call.desk, call.path["name"], call.query.cursor, call.query.limit + 1)
    page = rows[: call.query.limit]
    after = str(page[-1].number) if len(rows) > len(page) else None
    items = [ImportProblemShape.model_validate(row) for row in page]
    return Answer(ImportProblemPage(items=items, next=after), next=after)


@operations(
    "GET", "/imports/<name>/events", "The import's progress as it goes", roles=EVERYONE, media_type="text/event-stream"
)
def import_events(call: Call[None, None]) -> Answer:
    assert call.jobs is not None
    found = intake.get_import(call.desk, call.path["name"])
    if not call.jobs.watchers.acquire(blocking=False):
        hint = "Ask for the import itself from time to time"
        raise ServiceProblemError(503, "too-many-watchers", "Too many watch at the moment", hint, retry_after=5)
    return Answer(_Watched(call.jobs, _events(call.desk, call.jobs, found)), media_type="text/event-stream")


class _Watched(Iterator[bytes]):
    """A stream that gives its place back when it ends or its reader has gone, even before its first event."""

    def __init__(self, jobs: Jobs, events: Iterator[bytes]) -> None:
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


def _events(desk: Desk, jobs: Jobs, found: Import) -> Iterator[bytes]:
    """One event for each change, the last one when it has ended; a comment now and then, which finds a reader gone."""
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
        found = intake.get_import(desk, found.id)


@operations("GET", "/sources", "Who reports, and how far each is trusted", roles=EVERYONE, answer=SourceList)
def list_sources(call: Call[None, None]) -> SourceList:
    known = sorted(call.desk.policy.sources.values(), key=lambda source: -source.trust)
    return SourceList(items=[SourceShape.model_validate(source) for source in known])
