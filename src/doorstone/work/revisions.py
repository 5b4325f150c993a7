"""Revisions of sheets: what a changed sheet would do, loading it, and what its revisions said."""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from doorstone.core.exceptions import ExceptionState, shown, stale_because
from doorstone.core.facts import View, settle
from doorstone.core.fleet import profile_facts, rules_basis
from doorstone.core.platforms import Override, Platform
from doorstone.core.revisions import Change, differences
from doorstone.core.sorting import assess
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.store import attempts as attempt_store
from doorstone.store import devices as device_store
from doorstone.store import exceptions as exception_store
from doorstone.store import kits as kit_store
from doorstone.store import profiles as profile_store
from doorstone.store import sheets as store
from doorstone.store import texts
from doorstone.work.desk import Actor, Desk, id_of, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError, Trouble
from doorstone.work.picture import picture
from doorstone.work.profiles import Settler, place
from doorstone.work.sheets import Sheet, all_sheets, get_sheet, sheet_of, with_reported


@dataclass(frozen=True, slots=True)
class LoadReport:
    platform: str
    revision: int
    changed: bool
    requirements: int
    overrides: int
    releases: int


@dataclass(frozen=True, slots=True)
class StateMove:
    """Devices whose state at a release would change. `devices` names at most 50 of the `count`."""

    release: str
    was: str
    becomes: str
    count: int
    devices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Touched:
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
    moves: tuple[StateMove, ...]
    exceptions: tuple[Touched, ...]
    kits: tuple[Touched, ...]
    relying: tuple[Touched, ...]


@dataclass(frozen=True, slots=True)
class Revision:
    revision: int
    sha256: str
    loaded_at: str
    loaded_by: str
    changes: tuple[Change, ...]


def parse_sheet(text: str, lists: Mapping[str, str], name: str) -> Platform:
    """Read a sheet; raises `BadInputError` with a trouble for every place that is wrong."""
    try:
        return read_sheet(text, lists, name)
    except SheetError as error:
        troubles = [
            Trouble(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.mend) for p in error.problems
        ]
        raise BadInputError(f"The sheet {name} is refused", "Mend each place and load it again", troubles) from error


def load_sheet(
    desk: Desk, actor: Actor, text: str, lists: Mapping[str, str], name: str, seen: int | None = None
) -> LoadReport:
    """Load a sheet as the platform's next revision; the same sheet again changes nothing. Raises `BadInputError`.

    With `seen`, the revision whose impact was looked at, it is refused if another has been loaded since.
    """
    platform = parse_sheet(text, lists, name)
    digest = _digest(text, lists)
    desk.memory.setdefault(
        ("parsed", digest), platform
    )  # filling its templates may take seconds: not while others wait
    with desk.database.write() as db:
        before = store.newest(db, platform.id)
        held = before.revision if before else 0
        if seen is not None and seen != held:
            raise RefusedError(
                f"{platform.id} is at revision {held}, you looked at the impact on {seen}",
                "Look at it again, then load",
            )
        if before is not None and before.sha256 == digest:
            return _report(platform, before.revision, changed=False)
        old = all_sheets(desk).get(platform.id)
        revision = store.add(db, platform.id, digest, text, lists, desk.now(), actor.name)
        new = all_sheets(desk)[platform.id]
        if old is None or _seen_by(old) != _seen_by(new):
            place(desk, db, device_store.ids(db, platform.id))
        body = {"revision": revision, "sha256": digest}
        record(desk, db, actor, "sheet loaded", "sheet", platform.id, body)
    return _report(platform, revision, changed=True)


def _seen_by(sheet: Sheet) -> object:
    """All of a sheet that decides in which profile a device is."""
    names = sorted(profile_facts(sheet.platform))
    return names, [sheet.platform.specs[name] for name in names], sheet.told_by_text, sheet.reported


def _digest(text: str, lists: Mapping[str, str]) -> str:
    return hashlib.sha256(json.dumps([text, dict(sorted(lists.items()))]).encode()).hexdigest()


def _report(platform: Platform, revision: int, *, changed: bool) -> LoadReport:
    return LoadReport(
        platform.id,
        revision,
        changed,
        len({r.id for r in platform.requirements}),
        len(platform.overrides),
        len(platform.releases),
    )


# ------------------------------------------------------------------- impact


def sheet_impact(desk: Desk, text: str, lists: Mapping[str, str], name: str) -> Impact:
    """What loading this sheet would change: words, states, exceptions, kits. Nothing is loaded."""
    platform = parse_sheet(text, lists, name)
    with desk.database.read() as db:
        before = store.newest(db, platform.id)
        reported = [r for r in texts.reported(db) if r.platform == platform.id]
    if before is None:
        return Impact(platform.id, platform.name, 0, True, (), 0, (), (), (), ())
    if before.sha256 == _digest(text, lists):
        return Impact(platform.id, platform.name, before.revision, False, (), 0, (), (), (), ())
    old, new = get_sheet(desk, platform.id).platform, with_reported(platform, reported)
    moves, moved = _moves(desk, old, new)
    return Impact(
        platform.id,
        platform.name,
        before.revision,
        True,
        differences(old, new),
        len(moved),
        tuple(moves),
        tuple(_exceptions(desk, old, new)),
        tuple(_kits(desk, old, new)),
        tuple(_relying(desk, old, new)),
    )


def _moves(desk: Desk, old: Platform, new: Platform) -> tuple[list[StateMove], set[str]]:
    """The moves, and every device that moves. Only releases whose rules differ are sorted both ways, profiles once."""
    today = desk.today()
    touched = [
        r.id for r in new.releases if old.has(r.id) and rules_basis(old, r.id, today) != rules_basis(new, r.id, today)
    ]
    cases = _cases(desk, old, new) if touched else []
    decisions = picture(desk).decisions_for(old)
    found = []
    every: set[str] = set()
    for release in touched:
        moved: dict[tuple[str, str], list[str]] = {}
        for before, after, own, devices in cases:
            was = assess(old, release, before, decisions, own).state.value
            becomes = assess(new, release, after, decisions, own).state.value
            if was != becomes:
                moved.setdefault((was, becomes), []).extend(devices)
        for (was, becomes), devices in sorted(moved.items()):
            found.append(StateMove(release, was, becomes, len(devices), tuple(sorted(devices)[:50])))
            every.update(devices)
    return found, every


def _cases(desk: Desk, old: Platform, new: Platform) -> list[tuple[View, View, str, list[str]]]:
    """(view before, view after, own device, devices) per profile; per device if the new sheet looks at other facts."""
    now = picture(desk)
    same = profile_facts(new) <= profile_facts(old) and all(
        old.specs[name] == new.specs[name] for name in profile_facts(new)
    )
    with desk.database.read() as db:
        if same:
            views = now.profile_views(old)
            devices: dict[int, list[str]] = {}
            for row in device_store.of_profiles(db, views):
                devices.setdefault(row.profile or 0, []).append(row.id)
            return [(view, view, own, devices.get(number, [])) for number, (view, own) in views.items()]
        settler = Settler(desk, db)
        cases = []
        for device in device_store.ids(db, old.id):
            readings, rulings = settler.readings(device), settler.rulings(device)
            before, after = (
                settle(readings, settler.by.sources, specs, settler.by.today, rulings)
                for specs in (settler.by.specs, {**settler.by.specs, **new.specs})
            )
            cases.append((before, after, device, [device]))
        return cases


def _exceptions(desk: Desk, old: Platform, new: Platform) -> Iterable[Touched]:
    now = picture(desk)
    decisions = now.decisions_for(old)
    with desk.database.read() as db:
        rows = [row for row in exception_store.every(db) if row.platform == old.id]
    for row in rows:
        if row.state not in (ExceptionState.REQUESTED, ExceptionState.APPROVED):
            continue
        name = id_of("EX", row.id)
        if not new.has(row.release):
            yield Touched(name, tuple(row.devices), (f"release {row.release} is no longer in the sheet",))
            continue
        words: Counter[str] = Counter()
        devices = []
        for device in row.devices:
            view = now.view(device)
            before, after = (
                shown(assess(sheet, row.release, view, decisions, device), row.requirements) for sheet in (old, new)
            )
            if because := stale_because(before, after):
                devices.append(device)
                words.update(because)
        if devices:
            yield Touched(name, tuple(devices), tuple(words))


def _kits(desk: Desk, old: Platform, new: Platform) -> Iterable[Touched]:
    """Kits that would no longer be what the sheet says, each with every device that it is for."""
    with desk.database.read() as db:
        rows = [row for row in kit_store.every(db, None) if row.platform == old.id]
    for row in rows:
        words = []
        if not new.has(row.release):
            words.append(f"release {row.release} is no longer in the sheet")
        for name in row.overrides:
            was = next((o for o in old.overrides if o.id == name), None)
            now = next((o for o in new.overrides if o.id == name), None)
            if now is None:
                words.append(f"its override {name} is gone")
            elif new.has(row.release) and not new.in_span(row.release, now.since, now.until):
                words.append(f"its override {name} does not work on {row.release}")
            elif was and _made_otherwise(was, now):
                words.append(f"its override {name} is done in another way")
        if old.store != new.store:
            words.append("settings are kept in another way")
        sets = {s.id: s for s in old.sets}, {s.id: s for s in new.sets}
        words += [f"its settings set {name} differs" for name in row.sets if sets[0].get(name) != sets[1].get(name)]
        if words:
            yield Touched(id_of("KT", row.id), tuple(sorted(row.devices)), tuple(words))


def _made_otherwise(was: Override, now: Override) -> bool:
    """Whether a kit made today would hold something else for the override."""
    return any(
        getattr(was, name) != getattr(now, name)
        for name in ("settings", "arguments", "files", "loader", "kind", "cautions", "expect", "restart", "lasting")
    )


def _relying(desk: Desk, old: Platform, new: Platform) -> Iterable[Touched]:
    """Overrides that would end or go, with every device that relies on them: by attempt, kit or forecast."""
    lost = {was.id: _lost(old, new, was) for was in old.overrides}
    if not any(lost.values()):
        return
    with desk.database.read() as db:
        kits = {row.id: row for row in kit_store.every(db, None) if row.platform == old.id}
        carried = [a for a in attempt_store.every(db) if a.outcome == "completed" and a.kit in kits]
        rows = list(device_store.of_profiles(db, profile_store.in_use(db, old.id)))
    ahead = picture(desk).forecasts(rows)
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
        }
        words = [f"no longer works on {', '.join(lost[was.id])}"]
        words += [f"{len(devices)} {how}" for how, devices in by.items() if devices]
        yield Touched(was.id, tuple(sorted(set().union(*by.values()))), tuple(words))


def _lost(old: Platform, new: Platform, was: Override) -> list[str]:
    """The releases on which an override works by the old sheet, and not by the new."""
    now = next((o for o in new.overrides if o.id == was.id), None)
    return [
        r.id
        for r in new.releases
        if old.has(r.id)
        and old.in_span(r.id, was.since, was.until)
        and (now is None or not new.in_span(r.id, now.since, now.until))
    ]


# ---------------------------------------------------------------- revisions


def revisions(desk: Desk, platform: str) -> list[Revision]:
    """Every revision of a platform's sheet, newest first, with what it changed."""
    get_sheet(desk, platform)
    with desk.database.read() as db:
        rows = store.revisions(db, platform)
    found = []
    before: Platform | None = None
    for row in rows:
        now = sheet_of(row, []).platform
        changes = differences(before, now) if before else ()
        found.append(Revision(row.revision, row.sha256, row.loaded_at, row.loaded_by, changes))
        before = now
    return found[::-1]


def get_revision(desk: Desk, platform: str, revision: int) -> str:
    """The TOML of one revision. Raises `MissingError`."""
    get_sheet(desk, platform)
    with desk.database.read() as db:
        row = next((r for r in store.revisions(db, platform) if r.revision == revision), None)
    if row is None:
        raise MissingError(f"{platform} has no revision {revision}", f"See 'doorstone sheet revisions {platform}'")
    return row.text
