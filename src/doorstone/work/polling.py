"""Asking the update service: which devices are due to be asked about, what it says, when to ask again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date, datetime, timedelta
from typing import Any

from doorstone.core.platforms import UpdateClass
from doorstone.store import after as store
from doorstone.store import attempts as attempt_store
from doorstone.store.after import PollRow
from doorstone.work.attempts import ObservationGiven, record_observation
from doorstone.work.desk import Actor, Desk
from doorstone.work.due import by_exception
from doorstone.work.errors import BadInputError
from doorstone.work.picture import picture

Fetch = Callable[[str, date], Mapping[str, Any]]
SERVICE = Actor("doorstone", "administrator", "rounds")
SOURCE = "update-service"
SLOWEST = timedelta(days=1)
KEEP_DAYS = 7


def poll(desk: Desk, fetch: Fetch, at: datetime, every: timedelta, most: int = 50) -> dict[str, str]:
    """Ask about each device that runs a release by exception and is due. Returns device -> what came of it.

    `fetch` raises `OSError` where there is no answer; the device is then asked about later each time, up to a day.
    """
    now = picture(desk)
    with desk.database.read() as db:
        devices = sorted({device for device, _ in by_exception(db, now)})
        held = store.polls(db, devices)
    due = [device for device in devices if device not in held or held[device].next_at <= at.isoformat()]
    said = {}
    for device in due[:most]:
        failures = held[device].failures if device in held else 0
        try:
            answer = fetch(device, desk.today())
            recorded = _keep(desk, device, answer)
            row = PollRow(device, (at + every).isoformat(), 0, "")
            said[device] = f"{recorded} recorded"
        except (OSError, BadInputError, KeyError, TypeError, ValueError) as error:
            wait = min(SLOWEST, timedelta(minutes=5) * 2**failures)
            row = PollRow(device, (at + wait).isoformat(), failures + 1, str(error)[:300])
            said[device] = f"failed: {error}"
        with desk.database.write() as db:
            store.keep_poll(db, row)
    return said


def _keep(desk: Desk, device: str, answer: Mapping[str, Any]) -> int:
    """Record what is new: another result than last time, or the same after a week. Returns how many."""
    recorded = 0
    for kind in UpdateClass:
        one = answer[kind.value]
        given = ObservationGiven(
            device, desk.today(), kind.value, str(one["result"]), str(one.get("reason", "")), SOURCE,
            str(one.get("detail", "")),
        )  # fmt: skip
        with desk.database.read() as db:
            seen = [o for o in attempt_store.observations(db, device) if o.update_class == kind and o.source == SOURCE]
        last = seen[0] if seen else None
        same = last is not None and (last.result, last.reason) == (given.result, given.reason)
        if last is not None and same and given.seen_on - date.fromisoformat(last.seen_on) < timedelta(days=KEEP_DAYS):
            continue
        record_observation(desk, SERVICE, given)
        recorded += 1
    return recorded
