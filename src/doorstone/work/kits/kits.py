"""Kits: made for one device or several of the same case, signed, handed out while they stand, compared."""

from __future__ import annotations

import hashlib
import io
import sqlite3
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.conditions import Outcome
from doorstone.core.devices.life import left_alone
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import FIX
from doorstone.core.followups import StepKind, applications_on, follow_ups
from doorstone.core.kits.case import KitCase, KitException, KitStep, UnprovedFix
from doorstone.core.kits.check import kit_differences
from doorstone.core.kits.files import archive, kit_refusals, render
from doorstone.core.kits.gates import GateResult, check_gates
from doorstone.core.kits.options import (
    MOST_DEVICES,
    KitNeeds,
    KitOptions,
    SharedCase,
    check_options,
    check_waived,
    fewest_kits,
    kit_permission,
    settings_sets,
)
from doorstone.core.kits.overrides import Choice, OverrideSet, choose
from doorstone.core.kits.settings_store import StoreError, setting_text
from doorstone.core.media import Media, shared_media
from doorstone.core.platforms.platform import Platform, Route, target_release
from doorstone.formats.runbook_page import runbook_page
from doorstone.formats.signature import new_key, public_key, sign
from doorstone.formats.template_sandbox import TemplateError, fill_template
from doorstone.store import kits as store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.keys import KIT_KEY, key_file
from doorstone.store.ledger import keep_receipt
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.kits.overrides import overrides_for
from doorstone.work.snapshot.approvals import stale_devices
from doorstone.work.snapshot.kit_standing import KitStanding, kit_standings
from doorstone.work.snapshot.media_on_record import choose_media, need_of, on_record, with_media
from doorstone.work.snapshot.sheets import need_kit_route, need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot, terms

MOST_AT_ONCE = 5_000


class KitFile(Struct, frozen=True):
    path: str
    text: str


class Kit(Struct, frozen=True):
    id: str
    row: store.KitRow
    standing: KitStanding
    files: tuple[KitFile, ...] = ()


class _DeviceCase(Struct, frozen=True):
    device: str
    chosen: OverrideSet
    exceptions: tuple[ExceptionRow, ...]
    gates: tuple[GateResult, ...]
    refused: tuple[ErrorEntry, ...]
    patches: tuple[str, ...]
    media: Media | None


# -------------------------------------------------------------------- making


def make_kit(
    context: Context,
    actor: Actor,
    device: str | Sequence[str],
    release: str,
    route: str,
    carry_over: str,
    waive: Mapping[str, str] | None = None,
    media: str = "",
    sets: Sequence[str] = (),
) -> Kit:
    """Make the kit for exactly what is excepted. Raises `RefusedError` with every reason why there may be none."""
    devices = (device,) if isinstance(device, str) else tuple(device)
    wanted = KitOptions(tuple(sorted(set(devices))), release, route, carry_over, waive, media, tuple(sets))
    _check_wanted(wanted)
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_kit(context, before)
        now = snapshot(context)
        platform, release = _platform_of(now, wanted)
        found = _device_cases(now, db, platform, release, wanted)
        _refuse(found, release)
        name = _make(context, db, actor, now, platform, release, wanted, found)
    return get_kit(context, name)


def make_each(context: Context, actor: Actor, wanted: KitOptions) -> tuple[list[Kit], list[ErrorEntry]]:
    """Make one kit for each distinct set of needs, and say which devices can have none, and why.

    Raises `RefusedError` if none of them can have one.
    """
    _check_each(wanted)
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            names, refused = before.split(), shared_cases(context, wanted)[1]
            return [get_kit(context, name) for name in names], refused
        now = snapshot(context)
        platform, release = _platform_of(now, wanted)
        found = {one.device: one for one in _cases_sharing_media(now, db, platform, release, wanted)}
        errors = [entry for one in found.values() for entry in one.refused]
        cases = _shared([one for one in found.values() if not one.refused])
        if not cases:
            raise RefusedError(f"No kit can be made for any of them to {release}", "Correct each reason first", errors)
        plain = replace(actor, receipt=None)
        made = []
        for case in cases:
            for start in range(0, len(case.devices), MOST_DEVICES):
                part = case.devices[start : start + MOST_DEVICES]
                mine = [found[device] for device in part]
                made.append(_make(context, db, plain, now, platform, release, replace(wanted, devices=part), mine))
        if actor.receipt is not None:
            keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, " ".join(made), context.now())
    return [get_kit(context, name) for name in made], errors


def _make(
    context: Context, db: sqlite3.Connection, actor: Actor, now: Snapshot, platform: Platform, release: str,
    wanted: KitOptions, found: Sequence[_DeviceCase],
) -> str:  # fmt: skip
    """Keep the kit of devices that can share one. Returns its id."""
    number = store.next_id(db)
    case = _kit_case(now, id_of("KT", number), platform, release, wanted, found)
    bundle = archive(case.id, _render(case, _private_key(context)))
    values = {
        "id": number,
        "platform": platform.id,
        "sheet_revision": case.sheet_revision,
        "release": release,
        "route": wanted.route,
        "carry_over": wanted.carry_over,
        "device": wanted.devices[0],
        "devices": list(wanted.devices),
        "overrides": list(case.chosen.ids),
        "exceptions": [e.id for e in case.exceptions],
        "waived": dict(case.waived),
        "media": case.media.id if case.media else None,
        "sets": [known.id for known in case.sets],
        "expires_on": case.expires.isoformat() if case.expires else None,
        "sha256": hashlib.sha256(bundle).hexdigest(),
        "made_by": actor.name,
        "made_at": context.now(),
    }
    store.add(db, values, bundle)
    record(context, db, actor, "kit made", "kit", case.id, values, creates=True)
    return case.id


def _render(case: KitCase, private: bytes) -> dict[str, bytes]:
    try:
        return render(case, lambda manifest: sign(private, manifest), fill_template)
    except (StoreError, TemplateError) as error:
        raise RefusedError(str(error), "Correct the sheet, or the template beside it") from error


def _check_each(wanted: KitOptions) -> None:
    """As `_check_wanted`, without the limit on devices of one kit."""
    if len(wanted.devices) > MOST_AT_ONCE:
        raise BadInputError(f"{len(wanted.devices):,} devices at once", f"Choose up to {MOST_AT_ONCE:,}")
    _check_wanted(replace(wanted, devices=wanted.devices[:MOST_DEVICES]))


def _check_wanted(wanted: KitOptions) -> None:
    need_kit_route(wanted.route)
    with rules():
        check_options(wanted)


def _platform_of(now: Snapshot, wanted: KitOptions) -> tuple[Platform, str]:
    platform = now.one_platform(wanted.devices, "Make one kit per platform")
    release = wanted.release or target_release(platform, now.today)
    need_release(platform, release)
    with rules():
        check_waived(platform, wanted.waive or ())
        settings_sets(platform, wanted.sets)
    return platform, release


def _device_cases(
    now: Snapshot, db: sqlite3.Connection, platform: Platform, release: str, wanted: KitOptions
) -> list[_DeviceCase]:
    held = exception_store.of_devices(db, wanted.devices)
    every = {row.id: row for mine in held.values() for row in mine}
    stale = {number: stale_devices(row, now) for number, row in every.items()}
    known, media = {number: terms(row) for number, row in every.items()}, on_record(db, platform)
    found = []
    for device in wanted.devices:
        rows = {id_of("EX", row.id): row for row in held.get(device, ())}
        mine = [(known[row.id], stale[row.id].get(device, ())) for row in rows.values()]
        found.append(_device_case(now, platform, release, wanted, device, rows, mine, media))
    return found


def _cases_sharing_media(
    now: Snapshot, db: sqlite3.Connection, platform: Platform, release: str, wanted: KitOptions
) -> list[_DeviceCase]:
    """The cases of devices, with media that as many as possible share, so that they need the fewest kits."""
    found = {one.device: one for one in _device_cases(now, db, platform, release, wanted)}
    if wanted.media:
        return list(found.values())
    recorded = on_record(db, platform)
    groups: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for one in found.values():
        if not one.refused:
            groups.setdefault((one.chosen.ids, one.patches), []).append(one.device)
    for devices in groups.values():
        shared = shared_media(recorded, release, [need_of(now, device) for device in devices], now.today)
        changed: dict[str, list[str]] = {}
        for device, media in shared.items():
            if found[device].media != media:
                changed.setdefault(media.id, []).append(device)
        made = [
            one
            for media, mine in changed.items()
            for one in _device_cases(now, db, platform, release, replace(wanted, devices=tuple(mine), media=media))
        ]
        if not any(one.refused for one in made):
            found.update({one.device: one for one in made})
    return list(found.values())


def _device_case(
    now: Snapshot, platform: Platform, release: str, wanted: KitOptions, device: str,
    rows: Mapping[str, ExceptionRow], held: Sequence[tuple[ExceptionTerms, Sequence[str]]], recorded: Sequence[Media],
) -> _DeviceCase:  # fmt: skip
    view, route = now.view(device), Route(wanted.route)
    assessment = now.assessment(device, release)
    unmet = {f.requirement.id for f in assessment.unmet()}
    permitted = kit_permission(held, platform, release, unmet, now.today)
    excepted = permitted.excepted
    known = now.experience(platform).of(device, now.device(device).model).at(release)
    choice = choose(platform, release, route, view.values(), view.as_of, set(excepted), set(excepted), known=known)
    media = choose_media(now, recorded, device, release, wanted.media)
    seen = with_media(view, media, release, wanted.carry_over)
    gates = check_gates(platform, route, seen, device, critical=now.device(device).critical)
    waive = set(wanted.waive or ())
    refused = [
        ErrorEntry(f"{device}, {r.subject}", r.reason, r.hint)
        for r in kit_refusals(assessment, excepted, permitted.stale, choice, gates, waive)
    ]
    if alone := left_alone(device, now.device(device).life):
        refused.insert(0, ErrorEntry(device, *alone))
    refused += [
        ErrorEntry(f"{device}, {g.gate.id}", f"{g.gate.title} is a stop and cannot be waived", g.gate.todo)
        for g in gates
        if g.blocks and g.gate.id in waive
    ]
    model = now.device(device).model
    patches = platform.models[model].patches if model in platform.models else ()
    return _DeviceCase(
        device, _best(choice), tuple(rows[name] for name in permitted.used), gates, tuple(refused), patches, media
    )


def _best(choice: Choice) -> OverrideSet:
    return choice.best or OverrideSet((), (), ())


def _refuse(found: Sequence[_DeviceCase], release: str) -> None:
    errors = [entry for one in found for entry in one.refused]
    if errors:
        named = ", ".join(one.device for one in found[:5]) + (" and others" if len(found) > 5 else "")
        raise RefusedError(f"No kit can be made for {named} to {release}", "Correct each reason first", errors)
    cases = _shared(found)
    if len(cases) > 1:
        apart = [ErrorEntry(", ".join(case.devices[:6]), case.needs, "Make a kit for these") for case in cases]
        raise RefusedError(f"These devices are {len(cases)} cases: they cannot share a kit", "Make one for each", apart)


def _shared(found: Sequence[_DeviceCase]) -> list[SharedCase]:
    return fewest_kits(
        KitNeeds(one.device, one.chosen.ids, one.patches, one.media.id if one.media else "") for one in found
    )


def _kit_case(
    now: Snapshot, kit: str, platform: Platform, release: str, wanted: KitOptions, found: Sequence[_DeviceCase]
) -> KitCase:
    sheet = now.need_sheet(wanted.devices[0])
    gates = tuple(gate for one in found for gate in one.gates)
    waivable = {gate.gate.id for gate in gates if gate.waivable}
    rows = {row.id: row for one in found for row in one.exceptions}
    return KitCase(
        kit,
        platform,
        sheet.revision,
        sheet.sha256,
        release,
        Route(wanted.route),
        wanted.carry_over,
        wanted.devices,
        found[0].chosen,
        tuple(_kit_exception(rows[number]) for number in sorted(rows)),
        gates,
        now.today,
        found[0].patches,
        {gate: why.strip() for gate, why in sorted((wanted.waive or {}).items()) if gate in waivable},
        found[0].media,
        settings_sets(platform, wanted.sets),
        tuple((one.device, now.device(one.device).name, now.view(one.device).text("machine.serial")) for one in found),
        _kit_steps(now, platform, release, wanted, found),
        tuple(fix for one in found for fix in _unproved(now, one.device)),
    )


def _kit_steps(
    now: Snapshot, platform: Platform, release: str, wanted: KitOptions, found: Sequence[_DeviceCase]
) -> tuple[KitStep, ...]:
    """What will be to do after the upgrade, each step once, with its devices where it is not to do on all of them."""
    days = platform.release(release).rollback_days
    devices: dict[tuple[str, str, bool], list[str]] = {}
    for one in found:
        view = now.view(one.device)
        steps = follow_ups(
            platform, view, now.today, days, one.chosen.overrides, one.patches, applications_on(view), wanted.sets,
            wanted.carry_over,
        )  # fmt: skip
        for step in steps:
            if step.kind not in (StepKind.LOADER, StepKind.PATCH):  # the runbook says how to carry these out
                devices.setdefault((step.title, step.todo, step.blocking), []).append(one.device)
    return tuple(
        KitStep(*step, devices=() if len(named) == len(found) else tuple(named)) for step, named in devices.items()
    )


def _unproved(now: Snapshot, device: str) -> Iterator[UnprovedFix]:
    """Facts that are believed because a fix was recorded, not because they were read, by the day of the fix."""
    believed = [(name, settled.believed) for name, settled in now.view(device).facts.items()]
    days: dict[date, list[str]] = {}
    for name, word in believed:
        if word.source == FIX:
            days.setdefault(word.taken_at.date(), []).append(f"{name} is {now.specs[name].show(word.value)}")
    yield from (UnprovedFix(device, ", ".join(facts), day) for day, facts in sorted(days.items()))


def _kit_exception(row: ExceptionRow) -> KitException:
    expiry = date.fromisoformat(row.expires_on)
    conditions = "; ".join(condition.text for condition in row.conditions)
    return KitException(id_of("EX", row.id), row.requirements, expiry, conditions, row.acknowledged_by)


def shared_cases(context: Context, wanted: KitOptions) -> tuple[list[SharedCase], list[ErrorEntry]]:
    """The kits that these devices need, one for each distinct set of needs, and why some can have none."""
    _check_each(wanted)
    now = snapshot(context)
    platform, release = _platform_of(now, wanted)
    with context.database.read() as db:
        found = _cases_sharing_media(now, db, platform, release, wanted)
    ready = [one for one in found if not one.refused]
    return _shared(ready), [entry for one in found for entry in one.refused]


def device_gates(
    context: Context, device: str, route: str, release: str = "", carry_over: str = "", media: str = ""
) -> tuple[GateResult, ...]:
    """The gates before one device on a route, as they stand today, with the media named or the one that fits best."""
    need_kit_route(route)
    carry_over = carry_over or ("nothing" if route == Route.CLEAN else "everything")
    now = snapshot(context)
    now.device(device)
    platform, release = _platform_of(now, KitOptions((device,), release))
    with context.database.read() as db:
        chosen = choose_media(now, on_record(db, platform), device, release, media)
    view = with_media(now.view(device), chosen, release, carry_over)
    return check_gates(platform, Route(route), view, device, critical=now.device(device).critical)


class SettingWords(Struct, frozen=True):
    place: str
    section: str
    name: str
    value: str


class SetAnswer(Struct, frozen=True):
    """A settings set before one device. `in_place` is in-place, not-in-place, unread, or not-stated by the sheet."""

    id: str
    title: str
    why: str
    in_place: str
    settings: tuple[SettingWords, ...]


def device_sets(context: Context, device: str) -> tuple[SetAnswer, ...]:
    """The settings sets of the device's platform, and whether each is in place already, by its facts."""
    now = snapshot(context)
    now.device(device)
    platform, view = now.need_sheet(device).platform, now.view(device)
    words = {Outcome.MET: "in-place", Outcome.UNMET: "not-in-place", Outcome.UNREAD: "unread"}
    return tuple(
        SetAnswer(
            one.id,
            one.title,
            one.why,
            words[one.in_place.outcome(view.values(), view.as_of)] if one.in_place else "not-stated",
            tuple(SettingWords(s.place, s.path, s.name, setting_text(s)) for s in one.settings),
        )
        for one in platform.sets
    )


class RouteAnswer(Struct, frozen=True):
    """How a device fares on one route, were every check on it excepted.

    `chosen` are the overrides, None if nothing covers `uncovered`; `stops` the gates that stop it today; `keeps` what
    set-up can carry over.
    """

    route: str
    checks: tuple[str, ...]
    chosen: tuple[str, ...] | None
    uncovered: tuple[str, ...]
    excess: tuple[str, ...]
    restart: bool
    stops: tuple[str, ...]
    warns: tuple[str, ...]
    keeps: tuple[str, ...]


def compare_routes(context: Context, device: str, release: str = "") -> tuple[RouteAnswer, ...]:
    """The routes of a kit side by side. Raises `MissingError`."""
    return tuple(_route(context, device, release, route) for route in (Route.IN_PLACE, Route.CLEAN))


def _route(context: Context, device: str, release: str, route: Route) -> RouteAnswer:
    found = overrides_for(context, device, release, route)
    gates = device_gates(context, device, route, release)
    best = found.choice.best
    return RouteAnswer(
        route.value,
        found.checks,
        best.ids if best else None if found.checks else (),
        found.choice.uncovered if found.checks else (),
        best.excess if best else (),
        any(o.restart == "device" for o in best.overrides) if best else False,
        tuple(g.gate.title for g in gates if g.blocks),
        tuple(g.gate.title for g in gates if g.waivable),
        ("nothing",) if route is Route.CLEAN else ("everything", "files"),
    )


# --------------------------------------------------------------------- signing


def _private_key(context: Context) -> bytes:
    """The key that signs kits: made at first use, readable by the owner only."""
    return key_file(context.database.path.with_name(KIT_KEY), new_key)


def signing_key(context: Context) -> bytes:
    """The public key against which a kit is checked, PEM."""
    return public_key(_private_key(context))


# --------------------------------------------------------------------- looking


def get_kit(context: Context, name: str) -> Kit:
    """A kit with its files as text, also one that no longer stands. Raises `MissingError`."""
    row = _need(context, name)
    files = [KitFile(path, _text(data)) for path, data in _files(context, name).items()]
    return Kit(name, row, kit_standings(context, [row])[row.id], tuple(files))


def _text(data: bytes) -> str:
    try:
        return data.decode()
    except UnicodeDecodeError:
        return f"({len(data):,} bytes that are no text, SHA-256 {hashlib.sha256(data).hexdigest()})"


def _need(context: Context, name: str) -> store.KitRow:
    with context.database.read() as db:
        row = store.get(db, number_of("KT", name))
    if row is None:
        raise MissingError(f"There is no kit {name!r}", "See them with 'doorstone kit list'")
    return row


def _files(context: Context, name: str) -> dict[str, bytes]:
    with context.database.read() as db:
        data = store.archive(db, _need(context, name).id)
    assert data is not None
    with zipfile.ZipFile(io.BytesIO(data)) as bundle:
        return {path.removeprefix(f"{name}/"): bundle.read(path) for path in bundle.namelist()}


def kit_archive(context: Context, name: str) -> bytes:
    """The kit as a zip, while it stands. Raises `MissingError`, or `RefusedError` with what has changed since."""
    row = _need(context, name)
    reasons = kit_standings(context, [row])[row.id].reasons
    if reasons:
        errors = [ErrorEntry(name, reason, "Make a new kit") for reason in reasons]
        raise RefusedError(f"{name} is no longer handed out", "Make a new kit once it can be had", errors)
    with context.database.read() as db:
        data = store.archive(db, row.id)
    assert data is not None
    return data


def list_kits(context: Context, device: str = "") -> list[Kit]:
    """Newest first, without their files."""
    with context.database.read() as db:
        rows = store.every(db, device or None)
    standing = kit_standings(context, rows)
    return [Kit(id_of("KT", row.id), row, standing[row.id]) for row in rows]


def runbook(context: Context, name: str) -> tuple[str, str]:
    """The runbook as a page that stands alone, and the digest of its style. Raises `MissingError`."""
    return runbook_page(f"Runbook of {name}", _files(context, name)["runbook.md"].decode())


def differences(context: Context, one: str, other: str) -> list[tuple[str, str, str]]:
    """What differs between two kits, each as (what, in the first, in the second)."""
    return kit_differences(_files(context, one), _files(context, other))
