"""After an upgrade: what is to be done and looked at, what verify says when it is asked again, and what has drifted."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from datetime import date
from typing import Any

from msgspec import Struct

from doorstone.core.followups import (
    SETTING_STATES,
    StepKind,
    check_ends_rollback,
    check_settled,
    drift,
    unfinished,
)
from doorstone.store import followups as store
from doorstone.store import kits as kit_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.rollback import rollback_until
from doorstone.work.snapshot.snapshot import snapshot


class FollowUps(Struct, frozen=True):
    """What a device's newest attempt left to do, and through which day it can go back."""

    device: str
    attempt: str
    steps: tuple[store.FollowUpRow, ...]
    rollback_until: date | None

    @property
    def blocked(self) -> bool:
        """Whether something is open that the device is not finished without."""
        return any(unfinished(step.state, blocking=step.blocking) for step in self.steps)


def device_followups(context: Context, device: str) -> FollowUps:
    """What a device's newest attempt left to do. Raises `MissingError`."""
    now = snapshot(context)
    now.device(device)
    with context.database.read() as db:
        rows = store.of_device(db, device)
        until = rollback_until(db, now, device)
    newest = rows[0].attempt if rows else 0
    steps = tuple(row for row in rows if row.attempt == newest)
    open_until = until if until is not None and until >= now.today else None
    return FollowUps(device, id_of("AT", newest) if rows else "", steps, open_until)


def step_of(context: Context, device: str, step: str) -> str:
    """The id of a step of the device's last upgrade, by its id or name. Raises `MissingError`."""
    steps = device_followups(context, device).steps
    found = [row for row in steps if step in (id_of("FU", row.id), row.name)]
    if len(found) != 1:
        names = ", ".join(dict.fromkeys(row.name for row in steps)) or "no step"
        many = len(found) > 1
        raise MissingError(
            f"{device} has {'several steps' if many else 'no step'} {step!r}",
            "Name it by its id, FU-..." if many else f"Its last upgrade left {names}",
        )
    return id_of("FU", found[0].id)


def step_device(context: Context, name: str) -> str:
    """The device that a follow-up is of. Raises `MissingError`."""
    with context.database.read() as db:
        return _need(db, name).device


def settle(
    context: Context, actor: Actor, name: str, state: str, answer: str = "", reason: str = "", confirm: bool = False
) -> store.FollowUpRow:
    """Say what came of a follow-up. One that ends rollback is asked twice: it needs `confirm`."""
    with context.database.write() as db:
        row = _need(db, name)
        if row.state != "open" and row.state == state and row.answer == answer:
            return row
        with rules():
            check_settled(StepKind(row.kind), row.title, state, answer, reason)
        if row.kind == StepKind.ROLLBACK and state == "done":
            steps = [s for s in store.of_device(db, row.device) if s.attempt == row.attempt]
            left = [s.title for s in steps if unfinished(s.state, blocking=s.blocking)]
            until = rollback_until(db, snapshot(context), row.device)
            with rules():
                check_ends_rollback(row.title, left, until, context.today(), confirmed=confirm)
        settled = {"state": state, "answer": answer, "reason": reason.strip(), "by": actor.name, "at": context.now()}
        store.settle_step(db, row.id, settled)
        body = {"device": row.device, "step": row.name, **settled}
        record(context, db, actor, f"follow-up {state}", "followup", id_of("FU", row.id), body)
        return _need(db, name)


def _need(db: sqlite3.Connection, name: str) -> store.FollowUpRow:
    row = store.get_step(db, number_of("FU", name))
    if row is None:
        raise MissingError(f"There is no follow-up {name!r}", "See them with 'doorstone follow-up list'")
    return row


# ------------------------------------------------------------------------ drift


class Verified(Struct, frozen=True):
    """What verify said, and what has changed since it was last asked: (setting, was, is)."""

    id: str
    kit: str
    device: str
    at: str
    by: str
    ok: bool
    settings: tuple[Mapping[str, str], ...]
    changed: tuple[tuple[str, str, str], ...]


def add_verification(context: Context, actor: Actor, kit: str, device: str, report: Mapping[str, Any]) -> Verified:
    """Keep what `verify` of a kit said on a device. Raises `BadInputError` unless it is such a report."""
    rows = report.get("settings")
    if report.get("kit") != kit or not isinstance(rows, list) or not isinstance(report.get("ok"), bool):
        raise BadInputError(f"This is not what verify of {kit} says", f"Give what 'sh {kit}/verify' prints")
    settings = [{key: str(row.get(key, "")) for key in _KEYS} for row in rows if isinstance(row, dict)]
    if any(row["state"] not in SETTING_STATES for row in settings):
        raise BadInputError("A setting has a state that verify does not give", "Give the report as it was printed")
    with context.database.write() as db:
        held = kit_store.get(db, number_of("KT", kit))
        if held is None or device not in held.devices:
            raise MissingError(f"There is no kit {kit!r} for {device}", "See them with 'doorstone kit list'")
        values = {
            "kit": held.id,
            "device": device,
            "at": context.now(),
            "by": actor.name,
            "ok": int(report["ok"] is True),
            "settings": settings,
        }
        number = store.add_verification(db, values)
        wrong = [row["name"] for row in settings if row["state"] != "right"]
        body = {"device": device, "kit": kit, "ok": report["ok"], "not_right": wrong}
        record(context, db, actor, "kit verified", "verification", id_of("VF", number), body)
    return device_verifications(context, device)[0]


_KEYS = ("place", "section", "name", "state", "expected", "found", "near")


def device_verifications(context: Context, device: str) -> list[Verified]:
    """What verify said on a device, newest first, each with what changed since the one before of the same kit."""
    snapshot(context).device(device)
    with context.database.read() as db:
        rows = store.verifications(db, device)
    found = []
    for at, row in enumerate(rows):
        before = next((old for old in rows[at + 1 :] if old.kit == row.kit), None)
        changed = drift(before.settings, row.settings) if before else ()
        found.append(
            Verified(id_of("VF", row.id), id_of("KT", row.kit), device, row.at, row.by, row.ok, row.settings, changed)
        )
    return found
