"""Deliveries and receipts that are over end by themselves, a few at a time."""

from __future__ import annotations

from datetime import timedelta

from doorstone.store import operations as store
from doorstone.work.context.context import Context

AT_ONCE = 2_000


def forget_ended(context: Context) -> int:
    """Forget deliveries and receipts past the days for which they are kept. Returns how many."""
    kept, today = context.policy.retention, context.moment()
    with context.database.write() as db:
        deliveries = store.forget_deliveries(db, (today - timedelta(days=kept.delivery_days)).isoformat(), AT_ONCE)
        return deliveries + store.forget_receipts(db, (today - timedelta(days=kept.receipt_days)).isoformat(), AT_ONCE)
