"""Who may sign in, and who may decide at which sites."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from doorstone.core.people import covers
from doorstone.store import people as store


def active_people(db: sqlite3.Connection) -> frozenset[str]:
    """The people who can sign in."""
    return frozenset(person.name for person in store.every(db) if person.active)


def may_decide(db: sqlite3.Connection, name: str, sites: Iterable[str]) -> bool:
    """Whether somebody may sign in today and is an approver at each of these sites."""
    row = store.get(db, name)
    if row is None or not row.active:
        return False
    return all(
        covers(row.role, "approver") or covers(row.sites.get(site, "viewer"), "approver") for site in sites or [""]
    )
