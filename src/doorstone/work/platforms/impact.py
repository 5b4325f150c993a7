"""The impact of a changed sheet: states, runways, costs, exceptions, kits, everybody who relies on them."""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from datetime import date
from decimal import Decimal
from typing import Any, NamedTuple, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, excepted, shown, stale_because
from doorstone.core.forecast.costs import WayPrices
from doorstone.core.platforms.differences import Change, differences
from doorstone.core.platforms.impact import foretell_alike, releases_lost
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, findings_of, with_exceptions
from doorstone.core.sorting.rules_basis import rules_basis
from doorstone.store import attempts as attempt_store
from doorstone.store import kits as kit_store
from doorstone.store import platforms as store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.exceptions import CHANGED
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.platforms import SheetRow
from doorstone.store.readings import failure_messages
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.platforms.both_sheets import BothSheets, Case
from doorstone.work.platforms.revisions import check_stored_values, digest_of, parse_sheet
from doorstone.work.snapshot.kit_standing import kit_standings, objections_by
from doorstone.work.snapshot.settling import roll
from doorstone.work.snapshot.sheets import get_sheet, sheet_of
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.staleness import has_served
from doorstone.work.snapshot.standings import assessments

Key = TypeVar("Key")


class StateMove(Struct, frozen=True):
    """Devices whose state at a release would change. `devices` names at most 50 of the `count`."""

    platform: str
    release: str
    was: str
    becomes: str
    count: int
    devices: tuple[str, ...]


class RunwayMove(Struct, frozen=True):
    """Devices whose runway would move, on the technical or the approved line; None is no day at all.

    `devices` names at most 50 of the `count`.
    """

    line: str
    was: date | None
    becomes: date | None
    count: int
    devices: tuple[str, ...]


class CostMove(Struct, frozen=True):
    """Devices on which a way would cost otherwise; None where there is no such way. See `core/forecast/costs.py`."""

    way: str
    was: Decimal | None
    becomes: Decimal | None
    count: int
    devices: tuple[str, ...]


class Affected(Struct, frozen=True):
    """An exception, a kit or an override that the change touches: which, on which devices, and how.

    `restored`: an approval that is stale today and would apply again.
    """

    id: str
    devices: tuple[str, ...]
    words: tuple[str, ...]
    restored: bool = False


class Impact(Struct, frozen=True):
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
        check_stored_values(context, db, platform)
        before = store.newest(db, platform.id)
        reported = [r for r in failure_messages.reported(db) if r.platform == platform.id]
    if before is None:
        return Impact(platform.id, platform.name, 0, True, (), 0)
    if before.sha256 == digest_of(text, lists):
        return Impact(platform.id, platform.name, before.revision, False, (), 0)
    roll(context)
    loaded, row = get_sheet(context, platform.id), SheetRow(platform.id, 0, "", text, lists, "", "")
    old, fresh = loaded.platform, sheet_of(row, reported, platform)
    new = fresh.platform
    with context.database.read() as db:
        both = BothSheets(context, snapshot(context), loaded, fresh)
        touched = tuple(_exceptions(context, both, old))
        held = _held(context, old, touched)
        moves, moved = _moves(context, db, both, old, held)
        runways, costs = _foretold(context, db, both, old, held)
    return Impact(
        platform.id,
        platform.name,
        before.revision,
        True,
        differences(old, new),
        moved,
        tuple(moves),
        runways,
        costs,
        touched,
        tuple(_kits(context, old, new, touched)),
        tuple(_relying(context, old, new)),
    )


class _Held(NamedTuple):
    """The exceptions of a device, as they are and as they would be: some would need a second look."""

    before: tuple[ExceptionTerms, ...]
    after: tuple[ExceptionTerms, ...]


def _held(context: Context, old: Platform, touched: Iterable[Affected]) -> dict[str, _Held]:
    """Every device with an approved exception, and its exceptions before and after."""
    every = list(touched)
    doubted = {(d, one.id): "; ".join(one.words) for one in every if not one.restored for d in one.devices}
    restored = {(device, one.id) for one in every if one.restored for device in one.devices}
    with context.database.read() as db:
        devices = exception_store.excepted_devices(db, old.id)
    return {
        device: _Held(
            mine,
            tuple(
                replace(e, doubt="" if (device, e.id) in restored else e.doubt or doubted.get((device, e.id), ""))
                for e in mine
            ),
        )
        for device, mine in snapshot(context).held(devices).items()
    }


class _Moving:
    """Cases, and excepted devices, that move alike."""

    def __init__(self) -> None:
        self.cases: list[Case] = []
        self.excepted: list[str] = []

    def count(self, both: BothSheets) -> int:
        return sum(both.sizes[case] for case in self.cases) + len(self.excepted)


def _moves(
    context: Context, db: sqlite3.Connection, both: BothSheets, old: Platform, held: Mapping[str, _Held]
) -> tuple[list[StateMove], int]:
    """The moves, and how many devices move. Only releases whose rules differ, or exceptions, are sorted both ways."""
    today, new, now = context.today(), both.after.platform, snapshot(context)
    touched = {
        r.id for r in new.releases if old.has(r.id) and rules_basis(old, r.id, today) != rules_basis(new, r.id, today)
    }
    unsettled = {e.release for one in held.values() if one.before != one.after for e in one.after}
    profiles = {case.before for case in (*both.sizes, *both.excepted.values())}
    found: list[StateMove] = []
    cases, devices = set[Case](), set[str]()
    for release in (r.id for r in new.releases if old.has(r.id) and (r.id in touched or unsettled)):
        before = assessments(context, old, now.decisions_for(old), release, profiles)
        moved: defaultdict[tuple[str, str], _Moving] = defaultdict(_Moving)
        for case in both.sizes:
            was, becomes = before[case.before].state.value, both.after.assessment(case.after, release).state.value
            if was != becomes:
                moved[was, becomes].cases.append(case)
                cases.add(case)
        for device, case in both.excepted.items():
            sides = before[case.before], both.after.assessment(case.after, release)
            was, becomes = (
                with_exceptions(side.state, side.marks, excepted(terms, sheet, release, today)).value
                for side, terms, sheet in zip(sides, held.get(device, _Held((), ())), (old, new), strict=True)
            )
            if was != becomes:
                moved[was, becomes].excepted.append(device)
                devices.add(device)
        for pair, group in sorted(moved.items()):
            names = both.first(db, group.cases, group.excepted)
            found.append(StateMove(new.id, release, *pair, group.count(both), names))
    return found, sum(both.sizes[case] for case in cases) + len(devices)


def _foretold(
    context: Context, db: sqlite3.Connection, both: BothSheets, old: Platform, held: Mapping[str, _Held]
) -> tuple[tuple[RunwayMove, ...], tuple[CostMove, ...]]:
    """Runways and costs that move: once for all devices that give the same answers by both sheets."""
    now, prices = snapshot(context), WayPrices(context.today(), context.policy.costs)
    same = _same_ahead(context, both, old) if foretell_alike(old, both.after.platform) else set[Case]()
    cases: dict[Case, list[str]] = {case: [] for case in both.sizes if case not in same}
    for device, case in both.excepted.items():
        mine = held.get(device, _Held((), ()))
        if case not in same or mine.before != mine.after:
            cases.setdefault(case, []).append(device)
    before = now.two_forecasts(old, {case.before for case in cases})
    asked = {device for named in cases.values() for device in named if device in held}
    terms = {(both.excepted[device].before, held[device].before) for device in asked}
    by_terms = now.forecasts_with(old, terms)
    runways: defaultdict[tuple[str, date | None, date | None], _Moving] = defaultdict(_Moving)
    costs: defaultdict[tuple[str, Decimal | None, Decimal | None], _Moving] = defaultdict(_Moving)
    for case, named in cases.items():
        was, was_bare = before[case.before]
        becomes, becomes_bare = both.after.forecast(case.after), both.after.forecast_without_overrides(case.after)
        if was is None or was_bare is None or becomes is None or becomes_bare is None:
            continue  # one of the sheets does not know the release that they run
        bare = both.sizes[case] > 0
        if was.technical.runway != becomes.technical.runway:
            _add(runways["technical", was.technical.runway, becomes.technical.runway], case, named, whole=bare)
        if bare and was.approved.runway != becomes.approved.runway:
            _add(runways["approved", was.approved.runway, becomes.approved.runway], case, (), whole=True)
        for device in named:
            mine = held.get(device, _Held((), ()))
            one, other = by_terms.get((case.before, mine.before), was), both.after.forecast(case.after, mine.after)
            if one is not None and other is not None and one.approved.runway != other.approved.runway:
                runways["approved", one.approved.runway, other.approved.runway].excepted.append(device)
        ways = [
            {way.way: way.cost for way in prices.ways_of(*pair)} for pair in ((was, was_bare), (becomes, becomes_bare))
        ]
        for name in sorted({*ways[0], *ways[1]}):
            if ways[0].get(name) != ways[1].get(name):
                _add(costs[name, ways[0].get(name), ways[1].get(name)], case, named, whole=bare)

    return (
        tuple(
            RunwayMove(*key, one.count(both), both.first(db, one.cases, one.excepted))
            for key, one in _sorted(both, runways)
        ),
        tuple(
            CostMove(*key, one.count(both), both.first(db, one.cases, one.excepted))
            for key, one in _sorted(both, costs)
        ),
    )


def _same_ahead(context: Context, both: BothSheets, old: Platform) -> set[Case]:
    """The cases with the same findings by both sheets at every release."""
    cases, decisions = {*both.sizes, *both.excepted.values()}, snapshot(context).decisions_for(old)
    for release in old.releases:
        before = assessments(context, old, decisions, release.id, {case.before for case in cases})
        sides = {case: (before[case.before], both.after.assessment(case.after, release.id)) for case in cases}
        pairs = {(id(one), id(other)): (one, other) for one, other in sides.values()}  # many share theirs
        alike = {key for key, (one, other) in pairs.items() if _found(one) == _found(other)}
        cases = {case for case, (one, other) in sides.items() if (id(one), id(other)) in alike}
    return cases


def _found(assessment: Assessment) -> list[tuple[object, ...]]:
    return [(f.requirement.id, f.finding, f.sort, f.fixes, bool(f.against)) for f in assessment.findings]


def _sorted(both: BothSheets, found: Mapping[Key, _Moving]) -> list[tuple[Key, _Moving]]:
    """The moves that most devices make first."""
    return sorted(found.items(), key=lambda entry: (-entry[1].count(both), str(entry[0])))


def _add(moving: _Moving, case: Case, excepted_devices: Iterable[str], *, whole: bool) -> None:
    if whole:
        moving.cases.append(case)
    moving.excepted.extend(excepted_devices)


def _exceptions(context: Context, both: BothSheets, old: Platform) -> Iterable[Affected]:
    """Requests and approvals that rest on what the new sheet says otherwise, and stale approvals that it restores.

    An approval is compared with the new sheet, not the loaded sheet with the new one: what was shown to the approver
    decides. Devices that no longer need the exception are left out.
    """
    now, new = snapshot(context), both.after.platform
    with context.database.read() as db:
        rows = [row for row in exception_store.every(db) if row.platform == old.id]
    because = _Because(context, both, old)
    for row in rows:
        if row.state not in (ExceptionState.REQUESTED, ExceptionState.APPROVED):
            continue
        name = id_of("EX", row.id)
        if not new.has(row.release):
            yield Affected(name, tuple(row.devices), (f"release {row.release} is no longer in the sheet",))
            continue
        stale = now.doubts(row.id) if row.state == ExceptionState.APPROVED else {}
        words: Counter[str] = Counter()
        devices, restored = [], []
        for device in [one for one in row.devices if not has_served(now, one, row.release)]:
            if device in stale:
                if not because.since_approval(device, row):
                    restored.append(device)
            elif found := because.since_today(device, row):
                devices.append(device)
                words.update(found)
        if devices:
            yield Affected(name, tuple(devices), tuple(words))
        if restored:
            yield Affected(name, tuple(restored), ("the approval applies again",), restored=True)


class _Because:
    """What a sheet would change about exceptions. Devices of one class, with the same values, are asked about once."""

    def __init__(self, context: Context, both: BothSheets, old: Platform) -> None:
        self._context, self._both, self._old, self._new = context, both, old, both.after.platform
        self._now = snapshot(context)
        self._decisions = self._now.decisions_for(old)
        self._known: dict[tuple[Case, str, tuple[str, ...]], list[str]] = {}

    def since_today(self, device: str, row: ExceptionRow) -> list[str]:
        """What the new sheet says otherwise than the loaded one of what an exception names on a device."""
        case, asked = self._both.excepted.get(device), tuple(row.requirements)
        if case is None or self._old.specs != self._new.specs:
            return stale_because(*(self._shown(sheet, device, row) for sheet in (self._old, self._new)))
        key = case, row.release, asked
        if key not in self._known:
            before = assessments(self._context, self._old, self._decisions, row.release, [case.before])[case.before]
            sides = before, self._both.after.assessment(case.after, row.release)
            self._known[key] = stale_because(
                *(shown([f for f in side.findings if f.requirement.id in asked], {}, self._new.specs) for side in sides)
            )
        return self._known[key]

    def since_approval(self, device: str, row: ExceptionRow) -> list[str]:
        """What the new sheet says otherwise than what was approved of a device."""
        with self._context.database.read() as db:
            approved = exception_store.approved_shown(db, [device]).get(row.id, {}).get(device, {})
        wanted = {name: part for name, part in approved.items() if name in row.requirements}
        found = stale_because(wanted, self._shown(self._new, device, row), self._new.specs)
        return [str(approved[CHANGED]), *found] if CHANGED in approved else found

    def _shown(self, sheet: Platform, device: str, row: ExceptionRow) -> dict[str, Any]:
        view = self._now.view(device)
        findings = findings_of(sheet, row.release, view, self._decisions, device, row.requirements)
        return shown(findings, view.values(), sheet.specs)


def _kits(context: Context, old: Platform, new: Platform, touched: Iterable[Affected]) -> Iterable[Affected]:
    """Kits that are valid today and would not be by the new sheet, each with every device that it is for."""
    with context.database.read() as db:
        rows = [row for row in kit_store.every(db, None) if row.platform == old.id]
    valid = kit_standings(context, rows)
    stale_for: dict[str, set[str]] = {}
    for one in touched:
        if not one.restored:
            stale_for.setdefault(one.id, set()).update(one.devices)
    for row in rows:
        if not valid[row.id].reasons and (words := objections_by(context, row, new, stale_for)):
            yield Affected(id_of("KT", row.id), tuple(sorted(row.devices)), tuple(words))


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
