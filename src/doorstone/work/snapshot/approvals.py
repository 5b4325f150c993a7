"""How an exception stands today: its state, its conditions, the devices for which it is stale."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from msgspec import Struct

from doorstone.core.exceptions.conditions import ConditionStatus, by_facts, by_word, worst
from doorstone.core.exceptions.life import ExceptionState, state_on
from doorstone.store.exceptions.exceptions import approved_shown
from doorstone.store.exceptions.rows import Attestation, ExceptionRow
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.staleness import conditions_of, stale_reasons


class KeptView(Struct, frozen=True):
    """A condition today. `devices` are those on which the facts do not show it kept, with what they show."""

    kept: ConditionStatus
    devices: Mapping[str, str]
    attested: tuple[Attestation, ...]
    fact_condition: Mapping[str, Any] | None = None
    every_days: int | None = None


def state_of(row: ExceptionRow, today: date) -> ExceptionState:
    """The state of an exception on a day."""
    return state_on(ExceptionState(row.state), date.fromisoformat(row.expires_on), today)


def kept_conditions(row: ExceptionRow, now: Snapshot) -> tuple[KeptView, ...]:
    """Each condition of an exception as it stands today: by the facts of every device, or by somebody's word."""
    sheet = now.sheets.get(row.platform)
    if sheet is None:
        return ()
    found = []
    for one in row.conditions:
        keep = conditions_of(one, sheet.platform)
        if keep.condition is None:
            last = max((date.fromisoformat(word.day) for word in one.attested), default=None)
            found.append(KeptView(by_word(keep, last, now.today), {}, one.attested, None, one.every_days))
            continue
        each = {device: by_facts(keep, now.view(device)) for device in row.devices}
        word = worst(kept.word for kept in each.values())
        open_ = {device: kept.measured for device, kept in each.items() if not kept.holds}
        found.append(KeptView(ConditionStatus(one.number, one.text, word), open_, (), one.fact_condition))
    return tuple(found)


def stale_devices(row: ExceptionRow, now: Snapshot) -> dict[str, list[str]]:
    """The devices whose findings, sorts, requirements or conditions changed since the approval; the others stand."""
    if row.state != ExceptionState.APPROVED:
        return {}
    return {device: list(because) for device, because in sorted(now.doubts(row.id).items())}


def stale_moved_on(row: ExceptionRow, now: Snapshot) -> dict[str, list[str]]:
    """The same for devices that run a later release by now: nothing is to be done, but what changed stays visible."""
    if row.state != ExceptionState.APPROVED or row.platform not in now.sheets:
        return {}
    platform = now.sheets[row.platform].platform
    if not platform.has(row.release):
        return {}
    later = {release.id for release in platform.releases[platform.index(row.release) + 1 :]}
    devices = [one.id for one in now.rows_of_excepted(row.devices) if one.running_release in later]
    if not devices:
        return {}
    with now.context.database.read() as db:
        shown = approved_shown(db, devices).get(row.id, {})
    return stale_reasons(now, row.platform, row.release, row.requirements, (), shown, moved_on=True)
