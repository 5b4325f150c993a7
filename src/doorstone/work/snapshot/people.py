"""Who may sign in, and who may decide at which sites."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from doorstone.core.people import covers
from doorstone.store import people as store
from doorstone.store.people import PersonRow
from doorstone.work.context.errors import BadInputError


def need_active(db: sqlite3.Connection, name: str) -> PersonRow:
    """Raises `BadInputError` unless `name` is somebody who can sign in."""
    row = store.get(db, name)
    if row is None or not row.active:
        known = ", ".join(p.name for p in store.every(db) if p.active)
        raise BadInputError(
            f"There is no active account named {name!r}", f"Name one of {known or 'the people you add first'}"
        )
    return row


def may_decide(db: sqlite3.Connection, name: str, sites: Iterable[str]) -> bool:
    """Whether somebody may sign in today and is an approver at each of these sites."""
    row = store.get(db, name)
    if row is None or not row.active:
        return False
    return all(
        covers(row.role, "approver") or covers(row.sites.get(site, "viewer"), "approver") for site in sites or [""]
    )
