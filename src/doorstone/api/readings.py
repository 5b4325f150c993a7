"""Readings on the wire: imports, their problems, sources, failure messages."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel, StateMoveResponse
from doorstone.api.times import Moment

FormName = Literal["ndjson", "json", "csv", "tsv"]


class ImportRequest(RequestModel):
    """How to import a file."""

    form: FormName
    name: str = Field("", max_length=200, description="The file's name, to know it again")
    dry: bool = Field(False, description="Only say what would change")
    skip: bool = Field(False, description="Leave bad lines out instead of refusing the file")
    mapping: str = Field("", max_length=200_000, description="A mapping file, TOML, for foreign columns and words")


class ReadingsRequest(ImportRequest):
    """Readings to import in one call."""

    text: str = Field(max_length=60_000_000, description="The whole file")


class NewDisputeResponse(ApiModel):
    """Devices on which a requirement would become disputed: settle it, or correct the source that is wrong."""

    platform: str
    release: str
    requirement: str
    count: int
    devices: list[str]


class FactChangeResponse(ApiModel):
    """A fact that a file would change on a number of devices."""

    fact: str
    devices: int
    device: str = Field(description="One of them, as an example")
    was: Any
    becomes: Any


class ChangesResponse(ApiModel):
    """What a dry run found."""

    moves: list[StateMoveResponse]
    disputes: list[NewDisputeResponse] = Field(default=[], description="Findings that would become disputed")
    facts: list[FactChangeResponse]


class ImportResponse(ApiModel):
    """An import as it stands. `size` and `position` count bytes of the file, the rest readings and devices."""

    id: str
    at: Moment
    by: str
    form: FormName
    name: str
    state: Literal["waiting", "received", "checking", "applying", "done", "refused", "cancelled", "failed"]
    ended: bool
    dry: bool
    skip: bool
    size: int
    position: int
    checked: int
    applied: int
    rejected: int
    readings: int
    devices: int
    added: int
    why: str
    changes: ChangesResponse | None


RecordKind = Literal["attempts", "observations", "fixes", "lives", "settlements", "follow-ups"]


class RecordFileRequest(RequestModel):
    """A file of records: a row each, of one kind. Columns are the fields of one record; a mapping names others."""

    form: FormName
    text: str = Field(max_length=20_000_000, description="The whole file")
    mapping: str = Field("", max_length=200_000, description="A mapping file, TOML, for foreign columns and words")


class RecordedResponse(ApiModel):
    """What was recorded because of one line."""

    line: int
    device: str
    id: str = Field(description="Empty for what was known already")
    words: str = Field(description="What was recorded")


class RecordFileResponse(ApiModel):
    """What was recorded because of a file."""

    kind: RecordKind
    recorded: int
    known: int = Field(description="Rows that were recorded before, and left alone")
    items: list[RecordedResponse]


class ImportList(ApiModel):
    """The last imports, newest first."""

    items: list[ImportResponse]


class ImportProblemResponse(ApiModel):
    """A line that could not be read, or a note on one: the place, what is wrong, what to do."""

    number: int
    line: int
    place: str
    message: str
    hint: str


class ImportProblemPage(ApiModel):
    """A page of an import's problems and notes."""

    items: list[ImportProblemResponse]
    next: str | None


class SourceResponse(ApiModel):
    """Who reports: higher trust is believed first; null days mean that a reading does not age."""

    name: str
    trust: int
    passing_days: int | None
    lasting_days: int | None


class SourceList(ApiModel):
    """The sources that readings name."""

    items: list[SourceResponse]


class FailureMessageResponse(ApiModel):
    """A failure that devices report in words. `requirement` is empty until somebody matches it."""

    text: str
    devices: int
    sources: list[str]
    last: Moment
    example: str
    requirement: str
    foreseen: bool


class FailureMessageList(ApiModel):
    """Failures in the words of devices."""

    items: list[FailureMessageResponse]


class TextMatchRequest(RequestModel):
    """Matches a failure message to a requirement."""

    platform: str
    text: str = Field(max_length=500)
    requirement: str


class NewRequirementRequest(RequestModel):
    """A requirement that a sheet lacks, made from a failure message."""

    platform: str
    text: str = Field(max_length=500)
    id: str = Field(max_length=60)
    title: str = Field(max_length=200)
    since: str = Field(description="The first release that asks for it")
