"""The impact of a changed sheet: states, runways, costs, exceptions, kits, everybody who relies on them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Any, NamedTuple

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, excepted, shown, stale_because
from doorstone.core.facts import View, settle
from doorstone.core.forecast.costs import ways_of
from doorstone.core.forecast.device_forecast import Forecast, forecast
from doorstone.core.platforms.differences import Change, differences
from doorstone.core.platforms.impact import kit_objections, releases_lost
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Decision, assess, findings_of, since_fixes, with_exceptions
from doorstone.core.sorting.rules_basis import rules_basis
from doorstone.store import attempts as attempt_store
from doorstone.store import exceptions as exception_store
from doorstone.store import kits as kit_store
from doorstone.store import platforms as store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.readings import failure_messages
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.platforms.revisions import digest_of, parse_sheet
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.sheets import get_sheet, with_reported
from doorstone.work.snapshot.snapshot import snapshot

MOST_NAMED = 50


@dataclass(frozen=True, slots=True)
class StateMove:
    """Devices whose state at a release would change. `devices` names at most 50 of the `count`."""

    platform: str
    release: str
    was: str
    becomes: str
    count: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RunwayMove:
    """Devices whose runway would move, on the technical or the approved line; None is no day at all.

    `devices` names at most 50 of the `count`.
    """

    line: str
    was: date | None
    becomes: date | None
    count: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class CostMove:
    """Devices on which a way would cost otherwise; None where there is no such way. See `core.costs`."""

    way: str
    was: Decimal | None
    becomes: Decimal | None
    count: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Affected:
    """An exception, a kit or an override that the change touches: which, on which devices, and how."""

    id: str
    devices: tuple[str, ...]
    words: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Impact:
    """What loading a sheet would do. `revision` is the one loaded now, 0 for a platform's first sheet."""

    platform: str
    name: str
    revision: int
    changed: bool
    changes: tuple[Change, ...]
    devices: int
    moves: tuple[StateMove, ...] = ()
    runways: tuple[RunwayMove, ...] = ()
    costs: tuple[CostMove, ...] = ()
    exceptions: tuple[Affected, ...] = ()
    kits: tuple[Affected, ...] = ()
    relying: tuple[Affected, ...] = ()


# ------------------------------------------------------------------- impact


def sheet_impact(context: Context, text: str, lists: Mapping[str, str], name: str) -> Impact:
    """What loading this sheet would change: words, states, runways, costs, exceptions, kits. Nothing is loaded."""
    platform = parse_sheet(text, lists, name)
    with context.database.read() as db:
        before = store.newest(db, platform.id)
        reported = [r for r in failure_messages.reported(db) if r.platform == platform.id]
    if before is None:
        return Impact(platform.id, platform.name, 0, True, (), 0)
    if before.sha256 == digest_of(text, lists):
        return Impact(platform.id, platform.name, before.revision, False, (), 0)
    old, new = get_sheet(context, platform.id).platform, with_reported(platform, reported)
    touched = tuple(_exceptions(context, old, new))
    cases = _cases(context, old, new)
    held = _held(context, old, touched)
    moves, moved = _moves(context, old, new, cases, held)
    runways, costs = _foretold(context, old, new, cases, held)
    return Impact(
        platform.id,
        platform.name,
        before.revision,
        True,
        differences(old, new),
        len(moved),
        tuple(moves),
        runways,
        costs,
        touched,
        tuple(_kits(context, old, new)),
        tuple(_relying(context, old, new)),
    )


class _Case(NamedTuple):
    """Devices that are the same to both sheets: what each sees of them, and the one that stands alone, if one."""

    before: View
    after: View
    own: str
    devices: list[str]


class _Held(NamedTuple):
    """The exceptions of a device, as they are and as they would be: some would need a second look."""

    before: tuple[ExceptionTerms, ...]
    after: tuple[ExceptionTerms, ...]


def _held(context: Context, old: Platform, touched: Iterable[Affected]) -> dict[str, _Held]:
    """Every device with an approved exception, and its exceptions before and after."""
    doubted = {(device, one.id): "; ".join(one.words) for one in touched for device in one.devices}
    with context.database.read() as db:
        devices = exception_store.excepted_devices(db, old.id)
    return {
        device: _Held(mine, tuple(replace(e, doubt=e.doubt or doubted.get((device, e.id), "")) for e in mine))
        for device, mine in snapshot(context).held(devices).items()
    }


def _moves(
    context: Context, old: Platform, new: Platform, cases: Iterable[_Case], held: Mapping[str, _Held]
) -> tuple[list[StateMove], set[str]]:
    """The moves, and every device that moves. Only releases whose rules differ, or exceptions, are sorted both ways."""
    today = context.today()
    touched = {
        r.id for r in new.releases if old.has(r.id) and rules_basis(old, r.id, today) != rules_basis(new, r.id, today)
    }
    unsettled = {e.release for one in held.values() if one.before != one.after for e in one.after}
    decisions = snapshot(context).decisions_for(old)
    found = []
    every: set[str] = set()
    for release in (r.id for r in new.releases if old.has(r.id) and (r.id in touched or unsettled)):
        moved: dict[tuple[str, str], list[str]] = {}
        for case in cases:
            sides = [
                assess(sheet, release, view, decisions, case.own)
                for sheet, view in ((old, case.before), (new, case.after))
            ]
            marks = [{f.requirement.id: f.mark for f in side.findings} for side in sides]
            for device in case.devices:
                mine = held.get(device, _Held((), ()))
                was, becomes = (
                    with_exceptions(side.state, mark, excepted(terms, sheet, release, today)).value
                    for side, mark, terms, sheet in zip(sides, marks, mine, (old, new), strict=True)
                )
                if was != becomes:
                    moved.setdefault((was, becomes), []).append(device)
        for (was, becomes), devices in sorted(moved.items()):
            found.append(StateMove(new.id, release, was, becomes, len(devices), tuple(sorted(devices)[:MOST_NAMED])))
            every.update(devices)
    return found, every


def _cases(context: Context, old: Platform, new: Platform) -> list[_Case]:
    """The devices, those together that give the same answers by both sheets."""
    now = snapshot(context)
    classifiers = [Classifier(sheet, now.today) for sheet in (old, new)]
    with context.database.read() as db:
        if classifiers[0].basis == classifiers[1].basis:
            views = now.profile_views(old)
            devices: dict[int, list[str]] = {}
            for row in device_store.of_profiles(db, views):
                devices.setdefault(row.profile or 0, []).append(row.id)
            return [_Case(view, view, own, devices.get(number, [])) for number, (view, own) in views.items()]
        settler = Settler(context, db)
        cases: dict[tuple[str, str], _Case] = {}
        for device in device_store.ids(db, old.id):
            own = device if device in settler.by.own else ""
            readings, dispute_decisions = settler.readings(device), settler.dispute_decisions(device)
            seen = [
                since_fixes(sheet, settle(readings, settler.by.sources, specs, settler.by.today, dispute_decisions))
                for sheet, specs in ((old, settler.by.specs), (new, {**settler.by.specs, **new.specs}))
            ]
            before, after = (
                one.of(profile_content(old.id, one.names, view, own))
                for one, view in zip(classifiers, seen, strict=True)
            )
            cases.setdefault((before, after), _Case(seen[0], seen[1], own, [])).devices.append(device)
        return list(cases.values())


def _foretold(
    context: Context, old: Platform, new: Platform, cases: Iterable[_Case], held: Mapping[str, _Held]
) -> tuple[tuple[RunwayMove, ...], tuple[CostMove, ...]]:
    """Runways and costs that move: once for all devices that give the same answers by both sheets."""
    today, decisions = context.today(), snapshot(context).decisions_for(old)
    runways: dict[tuple[str, date | None, date | None], list[str]] = {}
    costs: dict[tuple[str, Decimal | None, Decimal | None], list[str]] = {}
    for case in cases:
        if not (old.has(case.before.text("os.release")) and new.has(case.after.text("os.release"))):
            continue
        ahead = [_Ahead(sheet, view, case.own, decisions) for sheet, view in ((old, case.before), (new, case.after))]
        was, becomes = (one.whole.technical.runway for one in ahead)
        if was != becomes:
            runways.setdefault(("technical", was, becomes), []).extend(case.devices)
        for device in case.devices:
            mine = held.get(device, _Held((), ()))
            was, becomes = (one.approved(device, terms) for one, terms in zip(ahead, mine, strict=True))
            if was != becomes:
                runways.setdefault(("approved", was, becomes), []).append(device)
        prices = [
            {way.way: way.cost for way in ways_of(one.whole, one.plain, today, context.policy.costs)} for one in ahead
        ]
        for way in sorted({*prices[0], *prices[1]}):
            pair = prices[0].get(way), prices[1].get(way)
            if pair[0] != pair[1]:
                costs.setdefault((way, *pair), []).extend(case.devices)
    return (
        tuple(RunwayMove(*key, len(names), _first(names)) for key, names in sorted(runways.items(), key=_by_size)),
        tuple(CostMove(*key, len(names), _first(names)) for key, names in sorted(costs.items(), key=_by_size)),
    )


def _first(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(sorted(names)[:MOST_NAMED])


def _by_size(entry: tuple[Any, list[str]]) -> tuple[int, str]:
    return -len(entry[1]), str(entry[0])


class _Ahead:
    """What a sheet foretells of devices that are alike."""

    def __init__(self, platform: Platform, view: View, own: str, decisions: Sequence[Decision]) -> None:
        self._platform, self._view, self._decisions = platform, view, decisions
        self.whole: Forecast = forecast(platform, own, view, decisions)
        self.plain: Forecast = forecast(replace(platform, overrides=()), own, view, decisions)

    def approved(self, device: str, terms: tuple[ExceptionTerms, ...]) -> date | None:
        """The runway of one of them by its exceptions."""
        if not terms:
            return self.whole.approved.runway
        return forecast(self._platform, device, self._view, self._decisions, terms).approved.runway


def _exceptions(context: Context, old: Platform, new: Platform) -> Iterable[Affected]:
    now = snapshot(context)
    decisions = now.decisions_for(old)
    with context.database.read() as db:
        rows = [row for row in exception_store.every(db) if row.platform == old.id]
    for row in rows:
        if row.state not in (ExceptionState.REQUESTED, ExceptionState.APPROVED):
            continue
        name = id_of("EX", row.id)
        if not new.has(row.release):
            yield Affected(name, tuple(row.devices), (f"release {row.release} is no longer in the sheet",))
            continue
        words: Counter[str] = Counter()
        devices = []
        for device in row.devices:
            view = now.view(device)
            before, after = (
                shown(
                    findings_of(sheet, row.release, view, decisions, device, row.requirements),
                    view.values(),
                    sheet.specs,
                )
                for sheet in (old, new)
            )
            if because := stale_because(before, after):
                devices.append(device)
                words.update(because)
        if devices:
            yield Affected(name, tuple(devices), tuple(words))


def _kits(context: Context, old: Platform, new: Platform) -> Iterable[Affected]:
    """Kits that would no longer be what the sheet says, each with every device that it is for."""
    with context.database.read() as db:
        rows = [row for row in kit_store.every(db, None) if row.platform == old.id]
    for row in rows:
        words = tuple(kit_objections(old, new, row.release, row.overrides, row.sets))
        if words:
            yield Affected(id_of("KT", row.id), tuple(sorted(row.devices)), words)


def _relying(context: Context, old: Platform, new: Platform) -> Iterable[Affected]:
    """Overrides that would end or go, with every device that relies on them: by attempt, kit or forecast."""
    lost = {was.id: releases_lost(old, new, was) for was in old.overrides}
    if not any(lost.values()):
        return
    with context.database.read() as db:
        kits = {row.id: row for row in kit_store.every(db, None) if row.platform == old.id}
        carried = [a for a in attempt_store.every(db) if a.outcome == "completed" and a.kit in kits]
        rows = list(device_store.of_profiles(db, profile_store.in_use(db, old.id)))
    ahead = snapshot(context).forecasts(rows)
    for was in old.overrides:
        if not lost[was.id]:
            continue
        by = {
            "carried by it": {a.device for a in carried if a.kit and was.id in kits[a.kit].overrides},
            "with a kit": {d for kit in kits.values() if was.id in kit.overrides for d in kit.devices},
            "by their forecast": {
                device
                for device, found in ahead.items()
                if found is not None
                for move in found.technical.moves
                if was.id in move.overrides and move.release in lost[was.id]
            },
            "by their exceptions": {
                device
                for device, found in ahead.items()
                if found is not None
                for move in found.approved.moves
                if was.id in move.overrides and move.release in lost[was.id]
            },
        }
        words = [f"no longer works on {', '.join(lost[was.id])}"]
        words += [f"{len(devices)} {how}" for how, devices in by.items() if devices]
        yield Affected(was.id, tuple(sorted(set().union(*by.values()))), tuple(words))
