"""The ledger on the wire: entries, stories, checks."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from doorstone.api.common import ApiModel
from doorstone.api.times import Moment


class EntryResponse(ApiModel):
    """An entry of the ledger; `hash` covers it and the `previous` one."""

    seq: int
    at: Moment
    actor: str
    via: str
    action: str
    kind: str
    object: str
    body: dict[str, Any]
    previous: str
    hash: str


class EntryPage(ApiModel):
    """A page of the ledger."""

    items: list[EntryResponse]
    next: str | None


class LedgerCheckResponse(ApiModel):
    """What a check of the whole ledger found."""

    entries: int
    ok: bool
    faults: list[str]
    head: str = Field(description="The last entry as number:hash, to be noted elsewhere")


class StoryLineResponse(ApiModel):
    """An entry as a sentence."""

    seq: int
    at: Moment
    actor: str
    words: str


class StoryResponse(ApiModel):
    """What happened to an object, in sentences."""

    items: list[StoryLineResponse]
