"""The check-up of a service: its records, disk, history, deliveries, imports and rounds.

In: vitals, as they were measured. Out: one check for each concern, with what to do where something is not well.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, timedelta
from enum import StrEnum

from msgspec import Struct

from doorstone.core.readings.history import Retention

LITTLE_SPACE = 200 * 2**20
"""Bytes of free disk under which the records may stop taking writes."""
LATE_ROUNDS = 10
"""Rounds that may fall out before somebody should look."""


class Level(StrEnum):
    OK = "ok"
    LOOK = "look"
    WRONG = "wrong"


class Vitals(Struct, frozen=True):
    """What was measured. Sizes are bytes; times are UTC.

    `oldest_reading` is the day of the oldest reading that is kept. `old_readings` are past the days for which such
    are kept: something rests on them, or their turn has not come. `faults` is None unless the whole of the records
    and the ledger was read. `last_round` is None where no rounds are run, as on the command line.
    """

    at: datetime
    schema_version: int
    newest_schema_version: int
    ledger_day: date | None
    records_bytes: int
    free_bytes: int
    devices: int
    in_service: int
    classes: int
    readings: int
    old_readings: int
    contents: int
    values: int
    oldest_reading: date | None
    entries: int
    waiting_deliveries: int
    oldest_waiting: datetime | None
    given_up_deliveries: int
    open_imports: int
    failed_imports: int
    last_round: datetime | None = None
    failed_round: str = ""
    faults: tuple[str, ...] | None = None


class Check(Struct, frozen=True):
    """One concern: whether it is well, in words, and what to do if it is not."""

    name: str
    level: Level
    words: str
    hint: str = ""


def check_up(vitals: Vitals, retention: Retention, round_seconds: int) -> list[Check]:
    """Every check, in a fixed order."""
    return [
        *_records(vitals),
        _disk(vitals),
        _clock(vitals),
        _history(vitals, retention),
        _imports(vitals),
        _deliveries(vitals),
        *_rounds(vitals, round_seconds),
    ]


def worst(checks: list[Check]) -> Level:
    """The level of the whole."""
    levels = [check.level for check in checks]
    return next((level for level in (Level.WRONG, Level.LOOK) if level in levels), Level.OK)


def _records(v: Vitals) -> Iterator[Check]:
    words = (
        f"{v.in_service:,} of {v.devices:,} devices in service, {v.classes:,} classes; {v.readings:,} readings,"
        f" {v.contents:,} contents, {v.values:,} values; {v.entries:,} ledger entries"
    )
    yield Check("records", Level.OK, words)
    if v.schema_version != v.newest_schema_version:
        words = f"The records have schema {v.schema_version}, this version writes {v.newest_schema_version}"
        yield Check("schema", Level.WRONG, words, "Start the service once; it brings them up to date")
    if v.faults is not None:
        if v.faults:
            hint = "Stop the service, keep a copy of the data folder, and restore a backup: doorstone restore"
            yield Check("whole", Level.WRONG, "; ".join(v.faults[:3]), hint)
        else:
            yield Check("whole", Level.OK, "The records are whole, and the ledger holds from its first entry")


def _disk(v: Vitals) -> Check:
    words = f"{_size(v.records_bytes)} of records, {_size(v.free_bytes)} free"
    if v.free_bytes < LITTLE_SPACE:
        return Check("disk", Level.WRONG, words, "Free some space now: the service may soon take no more writes")
    if v.free_bytes < 2 * v.records_bytes:
        hint = "Free some space: a backup or the dry run of an import needs as much as the records"
        return Check("disk", Level.LOOK, words, hint)
    return Check("disk", Level.OK, words)


def _clock(v: Vitals) -> Check:
    today = v.at.date()
    if v.ledger_day is not None and today < v.ledger_day:
        words = f"The clock says {today}, and the ledger has an entry of {v.ledger_day}"
        return Check("clock", Level.WRONG, words, "Set the clock; expired tokens stay expired")
    return Check("clock", Level.OK, f"The clock says {today}")


def _history(v: Vitals, retention: Retention) -> Check:
    since = f"since {v.oldest_reading}" if v.oldest_reading else "none yet"
    words = (
        f"Readings {since}; kept for {retention.changed_days:,} days if they moved an answer, else for"
        f" {retention.unchanged_days:,}"
    )
    if v.old_readings:
        words += f"; {v.old_readings:,} older ones stay while something rests on them or until their turn comes"
    return Check("history", Level.OK, words)


def _imports(v: Vitals) -> Check:
    words = f"{v.open_imports:,} under way, {v.failed_imports:,} failed in the last 30 days"
    if v.failed_imports:
        return Check("imports", Level.LOOK, words, "See why, and send the file again: doorstone reading list")
    return Check("imports", Level.OK, words)


def _deliveries(v: Vitals) -> Check:
    words = f"{v.waiting_deliveries:,} wait, {v.given_up_deliveries:,} given up in the last 30 days"
    late = v.oldest_waiting is not None and v.at - v.oldest_waiting > timedelta(days=1)
    if late or v.given_up_deliveries:
        return Check("deliveries", Level.LOOK, words, "See what the address answered: doorstone webhook log")
    return Check("deliveries", Level.OK, words)


def _rounds(v: Vitals, seconds: int) -> Iterator[Check]:
    if v.failed_round:
        words = f"The last round failed: {v.failed_round}"
        yield Check("rounds", Level.WRONG, words, "The service's log has the cause")
    elif v.last_round is not None:
        ago = max(0, round((v.at - v.last_round).total_seconds()))
        words = f"The last round ended {ago:,} s ago; one is due every {seconds:,} s"
        if ago > LATE_ROUNDS * seconds + 60:
            hint = "Restart the service; if it happens again, its log has the cause"
            yield Check("rounds", Level.LOOK, words, hint)
        else:
            yield Check("rounds", Level.OK, words)


def _size(number: int) -> str:
    return f"{number / 2**30:,.1f} GiB" if number >= 2**30 else f"{number / 2**20:,.1f} MiB"
