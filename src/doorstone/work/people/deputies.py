"""Deputies: who may act in whose place, for which days. What a deputy decides says so for ever."""

from __future__ import annotations

import sqlite3
from datetime import date

from msgspec import Struct

from doorstone.core.people import Deputy, check_deputy
from doorstone.store import people as store
from doorstone.store.people import DeputyRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of, number_of


class DeputyView(Struct, frozen=True):
    """A deputy as it stands today."""

    id: str
    row: DeputyRow
    in_force: bool


def list_deputies(context: Context) -> list[DeputyView]:
    """Every deputy there is or was, newest first."""
    with context.database.read() as db:
        return [_view(context, row) for row in store.deputies(db)]


def _view(context: Context, row: DeputyRow) -> DeputyView:
    days = Deputy(row.person, row.deputy, date.fromisoformat(row.start_on), date.fromisoformat(row.end_on))
    return DeputyView(id_of("DP", row.id), row, row.ended_at is None and days.in_force(context.today()))


def acts_for(context: Context, name: str) -> list[str]:
    """The people in whose place somebody may act today."""
    with context.database.read() as db:
        return store.deputised(db, name, context.today().isoformat())


def name_deputy(context: Context, actor: Actor, deputy: Deputy, reason: str) -> DeputyView:
    """Let a deputy act in a person's place for some days. Only the person, or an administrator, names one.

    Raises `RefusedError`, `BadInputError` for days or people that cannot be.
    """
    if actor.in_place_of:
        raise RefusedError("A deputy names no deputy", f"{actor.in_place_of} or an administrator does")
    if actor.name != deputy.person and actor.role != "administrator":
        raise RefusedError(f"The deputy of {deputy.person} is not yours to name", "They, or an administrator, name one")
    with rules():
        check_deputy(deputy, reason, context.today())
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return _get(context, before)
        for name in (deputy.person, deputy.deputy):
            row = store.get(db, name)
            if row is None or not row.active:
                raise BadInputError(f"There is no active account named `{name}`", "See them with 'person list'")
        _check_alone(db, deputy)
        values = {
            "person": deputy.person,
            "deputy": deputy.deputy,
            "start_on": deputy.start.isoformat(),
            "end_on": deputy.end.isoformat(),
            "reason": reason.strip(),
            "by": actor.name,
            "at": context.now(),
        }
        name = id_of("DP", store.add_deputy(db, values))
        record(context, db, actor, "deputy named", "deputy", name, values, creates=True)
    return _get(context, name)


def _check_alone(db: sqlite3.Connection, deputy: Deputy) -> None:
    """Raises `RefusedError` if the deputy acts for the person on any of these days already."""
    first, last = deputy.start.isoformat(), deputy.end.isoformat()
    for row in store.deputies(db):
        same = (row.person, row.deputy) == (deputy.person, deputy.deputy) and row.ended_at is None
        if same and row.start_on <= last and row.end_on >= first:
            words = f"{row.deputy} acts for {row.person} from {row.start_on} through {row.end_on} already"
            raise RefusedError(words, f"Name other days, or end {id_of('DP', row.id)} first")


def end_deputy(context: Context, actor: Actor, name: str) -> DeputyView:
    """End a deputy before its time. Raises `MissingError`, `RefusedError`."""
    with context.database.write() as db:
        row = store.deputy(db, number_of("DP", name))
        if row is None:
            raise MissingError(f"There is no deputy {name!r}", "See them with 'person deputies'")
        if actor.name not in (row.person, row.deputy) and actor.role != "administrator":
            raise RefusedError(f"{name} is not yours to end", f"{row.person}, {row.deputy} or an administrator ends it")
        if row.ended_at is None:
            store.end_deputy(db, row.id, context.now())
            body = {"person": row.person, "deputy": row.deputy}
            record(context, db, actor, "deputy ended", "deputy", id_of("DP", row.id), body)
    return _get(context, name)


def _get(context: Context, name: str) -> DeputyView:
    with context.database.read() as db:
        row = store.deputy(db, number_of("DP", name))
    assert row is not None
    return _view(context, row)
