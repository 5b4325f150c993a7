"""Whether kits may still be handed out, and why not: a changed sheet, exception, fact, gate or media."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from doorstone.core.kits.gates import check_gates
from doorstone.core.platforms.platform import Platform, Route
from doorstone.store import attempts as attempt_store
from doorstone.store import exceptions as exception_store
from doorstone.store import kits as store
from doorstone.store import media as media_store
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import stale_devices, state_of
from doorstone.work.snapshot.media_on_record import on_record, with_media
from doorstone.work.snapshot.snapshot import Snapshot, snapshot


@dataclass(frozen=True, slots=True)
class KitStanding:
    """`reasons` why a kit may no longer be handed out; none while it stands. `used` are the attempts made with it."""

    reasons: tuple[str, ...]
    used: tuple[str, ...]


def _no_longer_so(now: Snapshot, platform: Platform, row: store.KitRow) -> list[str]:
    """What of the facts and gates that a kit was made on is otherwise today, device by device."""
    found = []
    media = None
    if row.media:
        with now.context.database.read() as db:
            held = {one.id: one for one in on_record(db, platform)}
        media = held.get(row.media)
    excepted = {name for e in now.exceptions if e.id in row.exceptions for name in e.requirements}
    for device in row.devices:
        known = now.device(device)
        if known.running_release == row.release:
            continue  # it has served
        assessment = now.assessment(device, row.release)
        for finding in assessment.findings:
            if finding.mark != "met" and finding.requirement.id not in excepted:
                found.append(f"{device}: {finding.requirement.title} is {finding.mark} now")
        seen = with_media(now.view(device), media, row.release, row.carry_over)
        for gate in check_gates(platform, Route(row.route), seen, device, critical=known.critical):
            if gate.blocks:
                found.append(f"{device}: {gate.gate.title}: {gate.measured}")
            elif gate.waivable and gate.gate.id not in row.waived:
                found.append(f"{device}: {gate.gate.title}: {gate.measured} (a warning)")
    return found


def kit_standings(context: Context, rows: Sequence[store.KitRow]) -> dict[int, KitStanding]:
    """Why each kit no longer stands: an older sheet, an exception that ended or is stale; and where it was used."""
    now = snapshot(context)
    names = {name for row in rows for name in row.exceptions}
    with context.database.read() as db:
        held = {name: exception_store.get(db, number_of("EX", name)) for name in names}
        used: dict[int, list[str]] = {}
        media = {row.id: row for row in media_store.every(db, withdrawn=True)}
        for attempt, kit in attempt_store.using(db, [row.id for row in rows]):
            used.setdefault(kit, []).append(id_of("AT", attempt))
    stale = {name: stale_devices(row, now) for name, row in held.items() if row is not None}
    found = {}
    for row in rows:
        reasons = []
        sheet = now.sheets.get(row.platform)
        if sheet is not None and sheet.revision != row.sheet_revision:
            reasons.append(f"it was made of revision {row.sheet_revision} of the sheet, which is at {sheet.revision}")
        for name in row.exceptions:
            exception = held[name]
            state = state_of(exception, now.today) if exception else "gone"
            if state != "approved":
                reasons.append(f"{name} is {state}")
            reasons += [f"{name} is stale for {device}" for device in row.devices if device in stale.get(name, {})]
        last = min((date.fromisoformat(e.expires_on) for n in row.exceptions if (e := held[n])), default=None)
        if last is not None and now.today > last:
            reasons.append(f"its last day was {last}")
        if row.media and (held_media := media.get(number_of("MD", row.media))) and held_media.withdrawn:
            reasons.append(f"{row.media} was withdrawn: {held_media.withdrawn}")
        if sheet is not None and not reasons and sheet.platform.has(row.release):
            reasons += _no_longer_so(now, sheet.platform, row)
        found[row.id] = KitStanding(tuple(reasons), tuple(sorted(used.get(row.id, ()))))
    return found
