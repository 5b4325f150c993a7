"""Asking the update service: which devices are due to be asked about, what it says, when to ask again."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.platforms.platform import UpdateClass
from doorstone.core.updates import (
    Attribution,
    ClassStanding,
    Observation,
    attributions,
    check_observation,
    retry_after,
    says_something,
    standing,
)
from doorstone.store import attempts as attempt_store
from doorstone.store import attempts as store
from doorstone.store import followups as poll_store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.followups import PollRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.batch import all_or_none
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.observations import observation_of
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import after_exception, by_exception

Fetch = Callable[[str, date], Mapping[str, Any]]
SERVICE = Actor("doorstone", "administrator", "rounds")
SOURCE = "update-service"


def poll(context: Context, fetch: Fetch, at: datetime, every: timedelta, most: int = 50) -> dict[str, str]:
    """Ask about each device that runs a release by exception, in force or ended, and is due.

    Returns device -> what came of it.

    `fetch` raises `OSError` where there is no answer; the device is then asked about later each time, up to a day.
    """
    now = snapshot(context)
    with context.database.read() as db:
        approved = exception_store.standing(db)
        running = {device for device, _ in by_exception(now, approved)}
        devices = sorted({*running, *after_exception(db, now, approved)})
        held = poll_store.polls(db, devices)
    due = [device for device in devices if device not in held or held[device].next_at <= at.isoformat()]
    outcomes = {}
    for device in due[:most]:
        failures = held[device].failures if device in held else 0
        try:
            answer = fetch(device, context.today())
            recorded = _keep(context, device, answer)
            row = PollRow(device, (at + every).isoformat(), 0, "")
            outcomes[device] = f"{recorded} recorded"
        except (OSError, BadInputError, KeyError, TypeError, ValueError) as error:
            row = PollRow(device, (at + retry_after(failures)).isoformat(), failures + 1, str(error)[:300])
            outcomes[device] = f"failed: {error}"
        with context.database.write() as db:
            poll_store.keep_poll(db, row)
    return outcomes


def _keep(context: Context, device: str, answer: Mapping[str, Any]) -> int:
    """Record what is new: another result than last time, or the same after a week. Returns how many."""
    recorded = 0
    for kind in UpdateClass:
        one = answer[kind.value]
        given = NewObservation(
            device, context.today(), kind.value, str(one["result"]), str(one.get("reason", "")), SOURCE,
            str(one.get("detail", "")),
        )  # fmt: skip
        with context.database.read() as db:
            seen = [o for o in attempt_store.observations(db, device) if o.update_class == kind and o.source == SOURCE]
        last = observation_of(seen[0]) if seen else None
        if not says_something(last, Observation(given.seen_on, kind, given.result, given.reason)):
            continue
        record_observation(context, SERVICE, given)
        recorded += 1
    return recorded


class NewObservation(Struct, frozen=True):
    device: str
    seen_on: date
    update_class: str
    result: str
    reason: str
    source: str
    detail: str
    corrects: str = ""


class DeviceStanding(Struct, frozen=True):
    device: str
    release: str
    classes: tuple[ClassStanding, ...]
    attributions: tuple[Attribution, ...] = ()


def record_observations(context: Context, actor: Actor, given: Sequence[NewObservation]) -> tuple[int, int]:
    """Record many observations, all or none; those known already are left alone. Returns (recorded, known)."""
    plain = replace(actor, receipt=None)
    named = ((f"observation {at}, {one.device}", one) for at, one in enumerate(given, 1))
    made = all_or_none(context, named, lambda one: record_new(context, plain, one))
    return sum(row is not None for row in made), sum(row is None for row in made)


def record_new(context: Context, actor: Actor, one: NewObservation) -> store.ObservationRow | None:
    """Record an observation; None if it is known already, and left alone."""
    with context.database.write() as db:
        if store.has_observation(db, one.device, one.seen_on.isoformat(), one.update_class, one.source, one.result):
            return None
        return record_observation(context, actor, one)


def record_observation(context: Context, actor: Actor, given: NewObservation) -> store.ObservationRow:
    """Record what was seen of one update class on a device on a day."""
    with rules():
        check_observation(given.update_class, given.result, given.reason, given.seen_on, context.today())
    snapshot(context).device(given.device)
    values = {
        "device": given.device,
        "seen_on": given.seen_on.isoformat(),
        "update_class": given.update_class,
        "result": given.result,
        "reason": given.reason,
        "source": given.source or "operator",
        "detail": given.detail,
        "by": actor.name,
    }
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            number = number_of("OB", before)
        else:
            number = store.add_observation(db, values)
            if given.corrects:
                _correct(context, db, actor, given.corrects.strip().upper(), number)
            body = {**values, "corrects": given.corrects} if given.corrects else values
            record(context, db, actor, "observed", "observation", id_of("OB", number), body, creates=True)
        row = store.observation(db, number)
    assert row is not None
    return row


def _correct(context: Context, db: sqlite3.Connection, actor: Actor, name: str, number: int) -> None:
    """Note that an observation is put right by another. Raises `MissingError` or `RefusedError`."""
    wrong = store.observation(db, number_of("OB", name))
    if wrong is None or wrong.id == number:
        raise MissingError(f"Observation {name!r} does not exist", "See them on the device's page")
    by = id_of("OB", number)
    if wrong.corrected_by:
        later = id_of("OB", wrong.corrected_by)
        raise RefusedError(f"{name} was corrected by {later}", f"Correct {later}")
    store.correct_observation(db, wrong.id, number)
    body = {"by": by, "device": wrong.device}
    record(context, db, actor, "observation corrected", "observation", id_of("OB", wrong.id), body)


def device_of(context: Context, name: str) -> list[str]:
    """The device of an observation, alone in a list; an empty list if there is no such observation."""
    with context.database.read() as db:
        row = store.observation(db, number_of("OB", name.strip().upper())) if name else None
    return [row.device] if row else []


def list_observations(context: Context, device: str) -> list[store.ObservationRow]:
    with context.database.read() as db:
        return store.observations_with_corrections(db, device or None)


def device_standing(context: Context, device: str) -> DeviceStanding:
    """Expected and observed, per update class, at the release that the device runs."""
    now = snapshot(context)
    now.device(device)
    platform = now.need_sheet(device).platform
    runs = now.view(device).text("os.release")
    need_release(platform, runs)
    with context.database.read() as db:
        seen = [observation_of(row) for row in store.observations(db, device)]
    assessment = now.assessment(device, runs)
    classes = standing(
        platform, assessment, seen, now.today, context.policy.check_every_days, now.device(device).edition
    )
    held = [
        (e.id, e.requirements) for e in now.exceptions_of(device) if e.in_force(now.today) and e.reaches(platform, runs)
    ]
    return DeviceStanding(device, runs, classes, attributions(platform, assessment, held))
