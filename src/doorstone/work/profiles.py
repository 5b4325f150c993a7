"""Profiles: each device settled and put with those that share its facts; each profile sorted once per release.

Whatever writes a word about a device places it anew in the same transaction; a new day places those whose words aged.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterable, Mapping
from datetime import date, datetime
from typing import Any

from doorstone.core.facts import BUILT_IN, FactSpec, Reading, Ruling, View, settle, stands_until
from doorstone.core.fleet import profile_facts, profile_key, profile_picture, rules_basis, sorted_as, view_of
from doorstone.core.platforms import Platform, Sort
from doorstone.core.sorting import Decision, Scope, assess
from doorstone.core.words import Words, current_texts, readings_of
from doorstone.store import decisions as decision_store
from doorstone.store import devices as device_store
from doorstone.store import profiles as store
from doorstone.store import settlements, texts
from doorstone.store.decisions import DecisionRow
from doorstone.work.desk import Desk, id_of
from doorstone.work.sheets import Sheet, all_sheets, plain_text


class Settler:
    """Settles devices as of the desk's day, from what the database holds."""

    def __init__(self, desk: Desk, db: sqlite3.Connection) -> None:
        self.db = db
        self.today: date = desk.today()
        self.sources = desk.policy.sources
        self.sheets = all_sheets(desk)
        self.specs = all_specs(self.sheets)
        self.matches = {(p, plain_text(t)): r for (p, t), r in texts.matches(db).items()}
        self.own = {row.target for row in decision_store.in_force(db) if row.scope == Scope.DEVICE}
        self._numbers: dict[str, int] = {}

    def readings(self, device: str) -> list[Reading]:
        """What every source says of the device now, failure texts turned into verdicts where they are matched."""
        words = device_store.every_source(self.db, device)
        found = [reading for source, said in words.items() for reading in readings_of(source, said, self.specs)]
        sheet = self.sheets.get(_newest_text(found, "os.platform"))
        return found + (self._told(words, sheet) if sheet is not None else [])

    def _told(self, words: Mapping[str, Words], sheet: Sheet) -> list[Reading]:
        failing: dict[str, list[tuple[str, datetime]]] = {}
        for source, said in words.items():
            for text, taken_at in current_texts(said):
                key, at = plain_text(text), datetime.fromisoformat(taken_at)
                requirement = self.matches.get((sheet.platform.id, key)) or sheet.told_by_text.get(key)
                if requirement and self._fresh(source, at):
                    failing.setdefault(requirement, []).append((source, at))
        told = []
        for name, said_by in failing.items():
            fact = {f"reported.{name}": True} if name in sheet.reported else {}
            told += [Reading(source, at, dict(fact), {name: False}) for source, at in said_by]
        newest = max((datetime.fromisoformat(at) for said in words.values() for at in said), default=datetime.min)
        quiet = {f"reported.{name}": False for name in sheet.reported if name not in failing}
        return [*told, Reading("nobody", newest, dict(quiet))] if quiet else told

    def _fresh(self, source: str, at: datetime) -> bool:
        known = self.sources.get(source)
        days = known.passing_days if known else 30
        return days is None or (self.today - at.date()).days <= days

    def view(self, device: str) -> View:
        return self._settle(device, self.readings(device))

    def _settle(self, device: str, readings: list[Reading]) -> View:
        return settle(readings, self.sources, self.specs, self.today, self.rulings(device))

    def rulings(self, device: str) -> list[Ruling]:
        found = []
        for row in settlements.of_device(self.db, device):
            if row.kind == "fact" and row.subject not in self.specs:
                continue
            value = self.specs[row.subject].parse(row.value) if row.kind == "fact" else bool(row.value)
            seen, at = datetime.fromisoformat(row.seen_until), datetime.fromisoformat(row.at)
            found.append(Ruling(id_of("ST", row.id), row.subject, value, seen, row.reason, row.by, at))
        return found

    def place(self, device: str) -> int | None:
        """Settle the device and put it in its profile; returns the profile, None without a sheet."""
        readings = self.readings(device)
        view = self._settle(device, readings)
        seen = {
            "platform": view.text("os.platform"),
            "model": view.text("machine.model"),
            "runs": view.text("os.release"),
            "edition": view.text("os.edition"),
        }
        sheet = self.sheets.get(seen["platform"])
        names = profile_facts(sheet.platform) if sheet else frozenset()
        profile = self._profile(sheet.platform, device, view, seen) if sheet else None
        until = stands_until(readings, self.sources, self.specs, self.today, names | {"os.platform"})
        device_store.place(self.db, device, seen, profile, until.isoformat() if until else None)
        return profile

    def _profile(self, platform: Platform, device: str, view: View, seen: Mapping[str, str]) -> int:
        own = device if device in self.own else ""
        picture = profile_picture(platform, view, own)
        key = profile_key(picture)
        if key not in self._numbers:
            self._numbers[key] = store.number_of(self.db, key, platform.id, seen["model"], seen["runs"], own, picture)
        return self._numbers[key]


def _newest_text(readings: Iterable[Reading], name: str) -> str:
    told = [r for r in readings if name in r.facts]
    return str(max(told, key=lambda r: r.taken_at).facts[name]) if told else ""


def all_specs(sheets: Mapping[str, Sheet]) -> dict[str, FactSpec]:
    """The built-in facts and those that any sheet declares."""
    specs = dict(BUILT_IN)
    for sheet in sheets.values():
        specs.update(sheet.platform.specs)
    return specs


def place(desk: Desk, db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Place devices anew: their words, decisions or sheet have changed."""
    settler = Settler(desk, db)
    for device in devices:
        settler.place(device)


def roll(desk: Desk) -> None:
    """Bring every device to the desk's day: those on which a word has aged out since are placed anew."""
    today = desk.today().isoformat()
    with desk.database.read() as db:
        if store.settled_day(db) == today:
            return
    with desk.database.write() as db:
        if (before := store.settled_day(db)) != today:
            place(desk, db, store.fallen(db, today) if before < today else device_store.ids(db))
            store.keep_settled_day(db, today)


def sort_profiles(desk: Desk, platform: Platform, release: str) -> int:
    """Sort the profiles that are not sorted by the rules of today; returns how many that were.

    Only those are touched whose rules differ: a decision on one model leaves the profiles of all others alone.
    """
    roll(desk)
    alone = not desk.database.busy
    with desk.database.read() as db:
        key = ("sorted", platform.id, release)
        stamp = (store.stamp(db), desk.today())
        if desk.memory.get(key) == stamp:
            return 0
        decided = decisions_of(db, platform.id)
        rules = rules_basis(platform, release, desk.today())
        bases: dict[tuple[str, str], str] = {}
        behind: list[tuple[store.ProfileRow, str]] = []
        for row in store.in_use(db, platform.id, release):
            who = (row.model, row.own)
            if who not in bases:
                bases[who] = basis_of(rules, decided, release, *who)
            if row.basis != bases[who]:
                behind.append((row, bases[who]))
        pictures = store.pictures(db, [row.id for row, _ in behind])
    found = []
    for row, basis in behind:
        view = view_of(pictures[row.id], platform.specs, desk.today())
        after = sorted_as(assess(platform, release, view, decided, row.own))
        found.append((row.id, basis, after.state, after.marks))
    if found:
        with desk.database.write() as db:
            store.keep_findings(db, release, found)
    if alone:
        desk.memory[key] = stamp
    return len(found)


def basis_of(rules: str, decided: Iterable[Decision], release: str, model: str, device: str) -> str:
    """A digest of everything that sorts one model (or one device with decisions of its own) at a release."""
    mine = {(Scope.RELEASE, ""), (Scope.MODEL, model), (Scope.DEVICE, device)}
    words: list[Any] = [
        [d.requirement, d.scope, d.sort, d.at.isoformat(), d.id]
        for d in decided
        if d.release == release and (d.scope, d.target) in mine
    ]
    return hashlib.sha256(json.dumps([rules, words]).encode()).hexdigest()[:16]


def decisions_of(db: sqlite3.Connection, platform: str) -> list[Decision]:
    """The decisions on a platform that stand, oldest first."""
    return [decision_of(row) for row in decision_store.in_force(db) if row.platform == platform]


def decision_of(row: DecisionRow) -> Decision:
    return Decision(
        id_of("SD", row.id),
        row.requirement,
        row.release,
        Scope(row.scope),
        row.target,
        Sort(row.sort),
        row.evidence,
        row.note,
        row.by,
        datetime.fromisoformat(row.at),
    )
