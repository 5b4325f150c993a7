"""Who may sign in, and who may decide at which sites."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from datetime import timedelta

from doorstone.core.people import AccountAct, covers
from doorstone.store import ledger
from doorstone.store import people as store
from doorstone.work.context.context import Context


def active_people(db: sqlite3.Connection) -> frozenset[str]:
    """The people who can sign in."""
    return frozenset(person.name for person in store.every(db) if person.active)


def account_acts(context: Context, db: sqlite3.Connection) -> list[AccountAct]:
    """Who created or gained control of which account within the last `separate_days`, by the ledger."""
    since = (context.today() - timedelta(days=context.policy.separate_days)).isoformat()

    def read() -> list[AccountAct]:
        rows = ledger.by_action(db, "person", CONTROL, since)
        return [AccountAct(row.actor, row.object) for row in rows if row.actor != row.object]

    return context.cached(("account acts",), (context.stamp().ledger, since), read)


CONTROL = ("person added", "password set", "person bound", "second factor removed")
"""Entries of the ledger on an account after which their actor may sign in to it."""


def may_decide(db: sqlite3.Connection, name: str, sites: Iterable[str]) -> bool:
    """Whether somebody may sign in today and is an approver at each of these sites."""
    row = store.get(db, name)
    if row is None or not row.active:
        return False
    return all(
        covers(row.role, "approver") or covers(row.sites.get(site, "viewer"), "approver") for site in sites or [""]
    )
