"""Failures told in words: a queue of texts nobody foresaw, each matched to a requirement or made into a new one."""

from __future__ import annotations

import re
from dataclasses import dataclass

from doorstone.store import devices as device_store
from doorstone.store import texts as store
from doorstone.store.texts import ReportedRow
from doorstone.work.desk import Actor, Desk, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError
from doorstone.work.profiles import place
from doorstone.work.sheets import get_sheet, need_release, plain_text


@dataclass(frozen=True, slots=True)
class ToldText:
    """A failure that devices report now. `requirement` is empty while nobody has said what it speaks of."""

    text: str
    devices: int
    sources: tuple[str, ...]
    last: str
    example: str
    requirement: str
    foreseen: bool


def list_texts(desk: Desk, platform_id: str, *, waiting: bool = False) -> list[ToldText]:
    """The texts reported now on a platform's devices; with `waiting` only those that match nothing."""
    sheet = get_sheet(desk, platform_id)
    with desk.database.read() as db:
        rows = store.every(db, platform_id)
        matched = {plain_text(text): r for (_, text), r in store.matches(db, platform_id).items()}
    found = []
    for row in rows:
        key = plain_text(row.text)
        requirement = matched.get(key) or sheet.told_by_text.get(key, "")
        told = ToldText(
            row.text, row.devices, tuple(sorted(row.sources.split(","))), row.last, row.example, requirement,
            key in sheet.told_by_text,
        )  # fmt: skip
        if not (waiting and requirement):
            found.append(told)
    return found


def match_text(desk: Desk, actor: Actor, platform_id: str, text: str, requirement: str) -> ToldText:
    """Say which requirement a text speaks of: from then on it is that source's verdict on it."""
    sheet = get_sheet(desk, platform_id)
    known = list(dict.fromkeys(r.id for r in sheet.platform.requirements))
    if requirement not in known:
        raise MissingError(f"{sheet.platform.name} asks for no {requirement!r}", f"It asks for {', '.join(known)}")
    with desk.database.write() as db:
        _need(desk, platform_id, text)
        store.match(db, platform_id, text, requirement, actor.name, desk.now())
        place(desk, db, store.devices_with(db, platform_id, text))
        body = {"platform": platform_id, "text": text, "requirement": requirement}
        record(desk, db, actor, "failure text matched", "requirement", requirement, body)
    return _need(desk, platform_id, text)


def new_requirement(
    desk: Desk, actor: Actor, platform_id: str, text: str, name: str, title: str, since: str
) -> ToldText:
    """Make a text into a new requirement, unsorted: unmet on every device that reports it, met on all others."""
    sheet = get_sheet(desk, platform_id)
    need_release(sheet.platform, since)
    if not re.fullmatch(r"[a-z][a-z0-9_]{1,39}(-[a-z0-9_]+)*", name) or len(name) > 60:
        raise BadInputError(f"{name!r} is not an id", "Use small letters, digits and dashes, such as camera-lock")
    if not title.strip():
        raise BadInputError("A requirement has a title", "Say in a few words what is asked")
    if any(r.id == name for r in sheet.platform.requirements):
        raise RefusedError(f"{sheet.platform.name} has a requirement {name!r} already", "Match the text to it")
    told = _need(desk, platform_id, text)
    because = f"Reported by {', '.join(told.sources)}: “{text}” Nobody has said yet what it is."
    with desk.database.write() as db:
        row = ReportedRow(platform_id, name, title.strip(), since, because, actor.name, desk.now())
        store.add_reported(db, row)
        store.match(db, platform_id, text, name, actor.name, desk.now())
        place(desk, db, device_store.ids(db, platform_id))
        body = {"platform": platform_id, "text": text, "title": title.strip(), "since": since}
        record(desk, db, actor, "requirement added from a failure text", "requirement", name, body)
    return _need(desk, platform_id, text)


def _need(desk: Desk, platform_id: str, text: str) -> ToldText:
    found = next((told for told in list_texts(desk, platform_id) if told.text == text), None)
    if found is None:
        raise MissingError(f"No device reports {text!r}", "See them with 'doorstone sorting texts'")
    return found
