"""Failure messages that devices report now, and the requirement that each was matched to."""

from __future__ import annotations

from msgspec import Struct

from doorstone.store.readings import failure_messages as store
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import get_sheet, plain_text


class FailureMessage(Struct, frozen=True):
    """A failure that devices report now. `requirement` is empty until somebody matches it."""

    text: str
    devices: int
    sources: tuple[str, ...]
    last: str
    example: str
    requirement: str
    foreseen: bool


def list_messages(context: Context, platform_id: str, *, waiting: bool = False) -> list[FailureMessage]:
    """The texts reported now on a platform's devices; with `waiting` only those that match nothing."""
    sheet = get_sheet(context, platform_id)
    with context.database.read() as db:
        rows = store.every(db, platform_id)
        matched = {plain_text(text): r for (_, text), r in store.matches(db, platform_id).items()}
    found = []
    for row in rows:
        key = plain_text(row.text)
        requirement = matched.get(key) or sheet.requirement_by_message.get(key, "")
        message = FailureMessage(
            row.text, row.devices, tuple(sorted(row.sources.split(","))), row.last, row.example, requirement,
            key in sheet.requirement_by_message,
        )  # fmt: skip
        if not (waiting and requirement):
            found.append(message)
    return found
