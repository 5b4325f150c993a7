"""The check-up of a running service, or of a data folder."""

from __future__ import annotations

import shutil
import sqlite3
from datetime import UTC, date, datetime, timedelta

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.operations import Check, Level, Vitals, check_up, worst
from doorstone.store import ledger as ledger_store
from doorstone.store import operations as store
from doorstone.store.database import DamagedError, newest_schema
from doorstone.work.context.context import Context

RECENT = timedelta(days=30)


class CheckUp(Struct, frozen=True):
    level: Level
    vitals: Vitals
    checks: tuple[Check, ...]


def look_over(context: Context, *, deep: bool = False) -> CheckUp:
    """Every check; `deep` reads all records and the whole ledger as well, which takes long on large ones."""
    now = datetime.now(UTC).replace(tzinfo=None, microsecond=0)
    today = context.moment()
    retention = context.policy.retention
    with context.database.read() as db:
        sizes = asdict(store.sizes(db))
        changed, unchanged = (
            (today - timedelta(days=days)).isoformat() for days in (retention.changed_days, retention.unchanged_days)
        )
        ages = store.reading_ages(db, changed, unchanged)
        waiting, waiting_since = store.waiting_deliveries(db)
        under_way, failed = store.imports(db, (today - RECENT).isoformat())
        vitals = Vitals(
            at=today,
            newest_schema_version=newest_schema(),
            ledger_day=context.floor(),
            free_bytes=shutil.disk_usage(context.database.path.parent).free,
            old_readings=ages.old,
            oldest_reading=date.fromisoformat(ages.oldest[:10]) if ages.oldest else None,
            waiting_deliveries=waiting,
            oldest_waiting=datetime.fromisoformat(waiting_since) if waiting_since else None,
            given_up_deliveries=store.given_up_deliveries(db, (today - RECENT).isoformat()),
            open_imports=under_way,
            failed_imports=failed,
            last_round=today - (now - context.rounds.ended_at) if context.rounds.ended_at else None,
            failed_round=context.rounds.failed,
            faults=tuple(_faults(context, db)) if deep else None,
            **sizes,
        )
    checks = check_up(vitals, retention, context.rounds.seconds)
    return CheckUp(worst(checks), vitals, tuple(checks))


def _faults(context: Context, db: sqlite3.Connection) -> list[str]:
    """What is wrong with the file and with the ledger."""
    found = []
    try:
        context.database.check()
    except DamagedError as error:
        found.append(str(error))
    return [*found, *ledger_store.faults(db)]
