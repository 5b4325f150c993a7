"""Failure messages: match one to a requirement, or make it a new requirement."""

from __future__ import annotations

import re

from doorstone.store.devices import devices as device_store
from doorstone.store.readings import failure_messages as store
from doorstone.store.readings.failure_messages import ReportedRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.snapshot.failure_messages import FailureMessage, list_messages
from doorstone.work.snapshot.settling import place
from doorstone.work.snapshot.sheets import get_sheet, need_release


def match_message(context: Context, actor: Actor, platform_id: str, text: str, requirement: str) -> FailureMessage:
    """Match a text to a requirement: from then on it is that source's verdict on it."""
    sheet = get_sheet(context, platform_id)
    known = list(dict.fromkeys(r.id for r in sheet.platform.requirements))
    if requirement not in known:
        raise MissingError(f"{sheet.platform.name} asks for no {requirement!r}", f"It asks for {', '.join(known)}")
    with context.database.write() as db:
        _need(context, platform_id, text)
        store.match(db, platform_id, text, requirement, actor.name, context.now())
        place(context, db, store.devices_with(db, platform_id, text))
        body = {"platform": platform_id, "text": text, "requirement": requirement}
        record(context, db, actor, "failure message matched", "requirement", requirement, body)
    return _need(context, platform_id, text)


def new_requirement(
    context: Context, actor: Actor, platform_id: str, text: str, name: str, title: str, since: str
) -> FailureMessage:
    """Make a text into a new requirement, unsorted: unmet on every device that reports it, met on all others."""
    sheet = get_sheet(context, platform_id)
    need_release(sheet.platform, since)
    if not re.fullmatch(r"[a-z][a-z0-9_]{1,39}(-[a-z0-9_]+)*", name) or len(name) > 60:
        raise BadInputError(f"{name!r} is not an id", "Use small letters, digits and dashes, such as camera-lock")
    if not title.strip():
        raise BadInputError("A requirement has a title", "Say in a few words what is asked")
    if any(r.id == name for r in sheet.platform.requirements):
        raise RefusedError(f"{sheet.platform.name} has a requirement {name!r} already", "Match the text to it")
    message = _need(context, platform_id, text)
    because = f"Reported by {', '.join(message.sources)}: “{text}” Nobody has said yet what it is."
    with context.database.write() as db:
        row = ReportedRow(platform_id, name, title.strip(), since, because, actor.name, context.now())
        store.add_reported(db, row)
        store.match(db, platform_id, text, name, actor.name, context.now())
        place(context, db, device_store.ids(db, platform_id))
        body = {"platform": platform_id, "text": text, "title": title.strip(), "since": since}
        record(context, db, actor, "requirement added from a failure message", "requirement", name, body)
    return _need(context, platform_id, text)


def _need(context: Context, platform_id: str, text: str) -> FailureMessage:
    found = next((message for message in list_messages(context, platform_id) if message.text == text), None)
    if found is None:
        raise MissingError(f"No device reports {text!r}", "See them with 'doorstone sorting texts'")
    return found
