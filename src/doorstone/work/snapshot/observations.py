"""Observations of updates, as core compares them with the standing."""

from __future__ import annotations

from datetime import date

from doorstone.core.platforms.platform import UpdateClass
from doorstone.core.updates import Observation
from doorstone.store.attempts import ObservationRow


def observation_of(row: ObservationRow) -> Observation:
    day = date.fromisoformat(row.seen_on)
    return Observation(day, UpdateClass(row.update_class), row.result, row.reason, row.source, row.detail)
