"""What is due: gathered from the records, for everybody or for one person."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import date

from msgspec.structs import replace

from doorstone.core.due.exceptions import DueException, due_on_exception
from doorstone.core.due.items import Due, in_order
from doorstone.core.exceptions.life import ExceptionState
from doorstone.store import people as people_store
from doorstone.store.devices import lives as life_store
from doorstone.store.exceptions import exceptions as store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.people import PersonRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.context.passwords import digest_of
from doorstone.work.due.fleet import fleet_items
from doorstone.work.due.upgrades import upgrade_items
from doorstone.work.snapshot.approvals import kept_conditions, stale_devices, state_of
from doorstone.work.snapshot.past import stale_days
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.uncovered import after_exception


def due_list(context: Context, person: str = "") -> list[Due]:
    """Everything that is due, what costs most to be late with first.

    With a `person`, what concerns them, and whoever they are deputy of today.
    """
    with context.database.read() as db:
        stamp, today = context.stamp(), context.today()
        names = [person, *people_store.deputised(db, person, today.isoformat())] if person else []
        whose = [row for row in (people_store.get(db, name) for name in names) if row is not None]
        depends_on = (stamp.ledger, stamp.devices, stamp.readings, stamp.people, today, context.policy)
        found = context.cached(("due",), depends_on, lambda: in_order(_every(context, db, snapshot(context)), today))
    return [due for due in found if not person or any(_concerns(due, who) for who in whose)]


def of_calendar(context: Context, secret: str) -> tuple[str, list[Due]] | None:
    """The person behind the secret of a calendar address, and what is due for them. None if the secret is unknown."""
    with context.database.read() as db:
        row = people_store.by_calendar(db, digest_of(secret))
    return (row.name, due_list(context, row.name)) if row is not None and row.active else None


def _concerns(due: Due, who: PersonRow) -> bool:
    here = {who.role} | {role for site, role in who.sites.items() if not due.sites or site in due.sites}
    return due.concerns(who.name, here)


def _every(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    active = {p.name for p in people_store.every(db) if p.active}
    policy = context.policy
    still: dict[int, list[str]] = {}
    every = store.standing(db)
    after = after_exception(db, now, every)
    for device, row in after.items():
        still.setdefault(row.id, []).append(device)
    ended = {row.id: row for row in after.values()}
    standing = [row for row in every if state_of(row, now.today) is not ExceptionState.LAPSED]
    for row in [*standing, *(replace(row, devices=tuple(still[number])) for number, row in sorted(ended.items()))]:
        yield from due_on_exception(
            _due_exception(db, row, now), now.today, ahead_days=policy.ahead_days, decide_days=policy.decide_days,
            self_approval=policy.self_approval, active=active,
        )  # fmt: skip
    since = {device: date.fromisoformat(row.start_on) for device, row in after.items()}
    away = set(life_store.out_of_service(db))
    yield from (due for due in upgrade_items(context, db, now, since, every) if due.object not in away)
    yield from fleet_items(context, db, now)


def _due_exception(db: sqlite3.Connection, row: ExceptionRow, now: Snapshot) -> DueException:
    stale = stale_devices(row, now).keys()
    requested = row.state == ExceptionState.REQUESTED
    question = next((c.text for c in reversed(row.comments) if c.kind == "question"), "") if row.asked_back else ""
    return DueException(
        id=id_of("EX", row.id),
        state=state_of(row, now.today),
        release=row.release,
        devices=row.devices,
        sites=frozenset(device.site for device in now.rows_of_excepted(row.devices)),
        owner=row.owner,
        requester=row.requester,
        requested_on=date.fromisoformat(row.requested_at[:10]),
        review=date.fromisoformat(row.review_on),
        expiry=date.fromisoformat(row.expires_on),
        renewed=row.renewed_by is not None,
        editors=row.shaped_by,
        approvers=[approval.person for approval in row.approvals],
        approvals_needed=row.approvals_needed,
        asked_back=bool(row.asked_back),
        question=question,
        stale_for=stale,
        stale_since=min(stale_days(db, now, row.id, stale).values()) if stale else None,
        conditions=[] if requested else [view.kept for view in kept_conditions(row, now)],
    )
