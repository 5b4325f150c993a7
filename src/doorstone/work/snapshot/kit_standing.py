"""Whether kits may still be used: gathered from the sheet, exceptions, devices, gates and media of today."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct

from doorstone.core.kits.gates import check_gates
from doorstone.core.kits.standing import (
    HeldException,
    KitBasis,
    KitDevice,
    device_changed,
    permission_ended,
    sheet_changes,
)
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import assess
from doorstone.store import attempts as attempt_store
from doorstone.store import media as media_store
from doorstone.store import platforms as sheet_store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.kits import KitRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.approvals import stale_devices, state_of
from doorstone.work.snapshot.media_on_record import on_record, with_media
from doorstone.work.snapshot.sheets import parsed
from doorstone.work.snapshot.snapshot import Snapshot, snapshot


class KitStanding(Struct, frozen=True):
    """`reasons` why a kit may no longer be handed out; none while it stands. `used` are the attempts made with it."""

    reasons: tuple[str, ...]
    used: tuple[str, ...]


def kit_standings(context: Context, rows: Sequence[KitRow]) -> dict[int, KitStanding]:
    """Why each kit no longer stands, and where it was used."""
    now = snapshot(context)
    names = {name for row in rows for name in row.exceptions}
    with context.database.read() as db:
        held = {name: exception_store.get(db, number_of("EX", name)) for name in names}
        media = {row.id: row for row in media_store.every(db, withdrawn=True)}
        used: dict[int, list[str]] = {}
        for attempt, number in attempt_store.using(db, [row.id for row in rows]):
            used.setdefault(number, []).append(id_of("AT", attempt))
    exceptions = {name: _exception(row, now) for name, row in held.items()}
    made_by = sheets_of_kits(context, rows)
    found = {}
    for row in rows:
        kit = kit_basis(now, row)
        sheet = now.sheets.get(row.platform)
        kept = media.get(number_of("MD", row.media)) if row.media else None
        withdrawn = (kept.withdrawn or "") if kept else ""
        reasons = list(permission_ended(kit, exceptions, withdrawn, now.today))
        if sheet is not None:
            reasons += sheet_changes(kit, made_by[row.platform, row.sheet_revision], sheet.platform)
        if sheet is not None and not reasons and sheet.platform.has(row.release):
            excepted = {name for e in row.exceptions for name in exceptions[e].requirements}
            for device in _devices(now, sheet.platform, row):
                reasons += device_changed(kit, device, excepted)
        found[row.id] = KitStanding(tuple(reasons), tuple(sorted(used.get(row.id, ()))))
    return found


def objections_by(
    context: Context, row: KitRow, after: Platform, stale_for: Mapping[str, Collection[str]]
) -> list[str]:
    """Why a kit that is valid today would not be by another sheet, which would make exceptions stale for devices."""
    now = snapshot(context)
    kit, made_by = kit_basis(now, row), sheets_of_kits(context, [row])[row.platform, row.sheet_revision]
    found = list(sheet_changes(kit, made_by, after))
    for name in row.exceptions:
        found += [f"{name} is stale for {device}" for device in row.devices if device in stale_for.get(name, ())]
    if not found and after.has(row.release):
        with context.database.read() as db:
            rows = [exception_store.get(db, number_of("EX", name)) for name in row.exceptions]
        excepted = {name for held in rows if held is not None for name in held.requirements}
        for device in _devices(now, after, row):
            found += device_changed(kit, device, excepted)
    return found


def kit_basis(now: Snapshot, row: KitRow) -> KitBasis:
    """What a kit on record was made of."""
    models = {now.device(device).model for device in row.devices}
    return KitBasis(
        row.devices, row.release, Route(row.route), row.overrides, row.sets, models, row.exceptions, row.media or "",
        row.waived,
    )  # fmt: skip


def sheets_of_kits(context: Context, rows: Iterable[KitRow]) -> dict[tuple[str, int], Platform]:
    """The sheets by which kits were made, by platform and revision."""
    wanted = {(row.platform, row.sheet_revision) for row in rows}
    with context.database.read() as db:
        sheets = [sheet_store.revision(db, *key) for key in sorted(wanted)]
    return {
        (sheet.platform, sheet.revision): parsed(sheet.text, tuple(sorted(sheet.lists.items())), sheet.platform)
        for sheet in sheets
        if sheet is not None
    }


def _exception(row: ExceptionRow | None, now: Snapshot) -> HeldException:
    if row is None:
        return HeldException(None)
    expiry = date.fromisoformat(row.expires_on)
    return HeldException(state_of(row, now.today), expiry, stale_devices(row, now).keys(), row.requirements)


def _devices(now: Snapshot, platform: Platform, row: KitRow) -> Iterator[KitDevice]:
    """The kit's devices that do not run its release yet: for the others it has served."""
    with now.context.database.read() as db:
        media = {one.id: one for one in on_record(db, platform)}.get(row.media or "")
    for name in row.devices:
        device = now.device(name)
        if device.running_release != row.release:
            seen = with_media(now.view(name), media, row.release, row.carry_over)
            gates = check_gates(platform, Route(row.route), seen, name, critical=device.critical)
            assessment = assess(platform, row.release, now.view(name), now.decisions_for(platform), name)
            yield KitDevice(name, assessment, gates)
