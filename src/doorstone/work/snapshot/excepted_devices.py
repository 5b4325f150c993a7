"""The devices that exceptions name, each with what these permit today, kept from one change of the records to the next.

A change speaks of few: the exceptions that the ledger speaks of since, and the devices that were written since. Only
these are looked at again.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import date
from typing import Any, NamedTuple, TypeVar

from msgspec import Struct, field

from doorstone.core.exceptions.life import ExceptionTerms, excepted
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import with_exceptions
from doorstone.core.sorting.counts import Sorted
from doorstone.store import ledger
from doorstone.store.devices import excepted_changes
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import number_of
from doorstone.work.snapshot.standings import Raised

T = TypeVar("T")
Doubts = Mapping[int, Mapping[str, tuple[str, ...]]]
"""Approved exception -> device for which it no longer stands -> what changed."""


class Looked(NamedTuple):
    """Devices -> what their exceptions permit, newest first; which approvals are in doubt for them; how they stand."""

    held: Mapping[str, tuple[ExceptionTerms, ...]]
    doubts: Doubts
    rows: Mapping[str, DeviceRow]


class ExceptedDevices(Struct):
    """As the records stood at one moment, on one day and under one set of rules.

    `held`: device -> what its exceptions permit, newest first. `in_force`: of these what permits anything today.
    `rows`: each of these devices as it is settled.
    """

    today: date
    held: Mapping[str, tuple[ExceptionTerms, ...]]
    in_force: Mapping[str, tuple[ExceptionTerms, ...]]
    doubts: Doubts
    rows: Mapping[str, DeviceRow]
    _named: dict[tuple[str, str], Mapping[str, frozenset[str]]] = field(default_factory=dict)
    _raised: dict[tuple[str, str], Mapping[str, Raised]] = field(default_factory=dict)

    def named(self, platform: Platform, release: str) -> Mapping[str, frozenset[str]]:
        """Device -> the requirements that exceptions permit it to fail at a release."""
        key = platform.id, release
        if key not in self._named:
            self._named[key] = self._named_of(self.in_force, platform, release)
        return self._named[key]

    def _named_of(self, devices: Iterable[str], platform: Platform, release: str) -> dict[str, frozenset[str]]:
        known: dict[tuple[ExceptionTerms, ...], frozenset[str]] = {}  # most devices have the same as many others
        found = {}
        for device in devices:
            terms = self.in_force.get(device, ())
            names = known.get(terms)
            if names is None:
                names = known[terms] = excepted(terms, platform, release, self.today)
            if names:
                found[device] = names
        return found

    def raised(self, platform: Platform, release: str, of: Mapping[int, Sorted]) -> Mapping[str, Raised]:
        """The devices that their exceptions bring to another state than their profile's, whose state is in `of`."""
        key = platform.id, release
        if key not in self._raised:
            self._raised[key] = self._raised_of(self.named(platform, release), platform, of)
        return self._raised[key]

    def _raised_of(
        self, named: Mapping[str, frozenset[str]], platform: Platform, of: Mapping[int, Sorted]
    ) -> dict[str, Raised]:
        found = {}
        known: dict[tuple[int, frozenset[str]], tuple[str, Sorted]] = {}
        for device, names in named.items():
            row = self.rows[device]
            if row.profile is None or row.platform != platform.id:
                continue
            if (row.profile, names) not in known:
                plain = of[row.profile]
                state = with_exceptions(plain.state, plain.marks, names)
                known[row.profile, names] = plain.state, Sorted(state.value, plain.marks)
            was, stands = known[row.profile, names]
            if stands.state != was:
                found[row.id] = Raised(row, was, stands)
        return found

    def after(
        self,
        touched: Collection[str],
        looked: Looked,
        platforms: Mapping[str, Platform],
        of: Callable[[Platform, str], Mapping[int, Sorted]],
    ) -> ExceptedDevices:
        """As it is after a change that touched some devices, of which `looked` is what was found anew."""
        made = ExceptedDevices(
            self.today,
            _with(self.held, touched, looked.held),
            _with(self.in_force, touched, in_force(looked.held, self.today)),
            _doubts_with(self.doubts, touched, looked.doubts),
            _with(self.rows, touched, looked.rows),
        )
        for (name, release), held in self._named.items():
            made._named[name, release] = _with(held, touched, made._named_of(touched, platforms[name], release))
        for (name, release), raised in self._raised.items():
            named = {d: found for d in touched if (found := made.named(platforms[name], release).get(d))}
            anew = made._raised_of(named, platforms[name], of(platforms[name], release) if named else {})
            made._raised[name, release] = _with(raised, touched, anew)
        return made


def in_force(held: Mapping[str, tuple[ExceptionTerms, ...]], day: date) -> dict[str, tuple[ExceptionTerms, ...]]:
    """Device -> its exceptions that permit something on a day. Devices without any are left out."""
    every = {device: tuple(e for e in mine if e.stands and e.in_force(day)) for device, mine in held.items()}
    return {device: mine for device, mine in every.items() if mine}


def _with(before: Mapping[str, T], touched: Iterable[str], anew: Mapping[str, T]) -> Mapping[str, T]:
    """The mapping with the touched devices as they are now; the very same object if none of them differs."""
    if all(before.get(device) == anew.get(device) for device in touched):
        return before
    made = dict(before)
    for device in touched:
        if device in anew:
            made[device] = anew[device]
        else:
            made.pop(device, None)
    return made


def _doubts_with(before: Doubts, touched: Collection[str], anew: Doubts) -> Doubts:
    gone = set(touched)
    left = {
        number: {device: why for device, why in mine.items() if device not in gone} for number, mine in before.items()
    }
    for number, mine in anew.items():
        left.setdefault(number, {}).update(mine)
    return {number: mine for number, mine in left.items() if mine}


# --------------------------------------------------------------------- keeping


class _Version(NamedTuple):
    rules: Any
    entry: int
    changes: int
    found: ExceptedDevices


class _Versions(Struct):
    """The last two versions, so that a reader of an older moment than the newest finds its own."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    kept: tuple[_Version, ...] = ()

    def before(self, rules: Any, entry: int, changes: int) -> _Version | None:
        fitting = [one for one in self.kept if one.entry <= entry and one.changes <= changes and one.rules == rules]
        return max(fitting, key=lambda one: (one.entry, one.changes), default=None)

    def keep(self, version: _Version) -> None:
        with self.lock:
            self.kept = (*self.kept[-1:], version)


def excepted_devices(
    context: Context,
    rules: Any,
    look: Callable[[Iterable[str]], Looked],
    after: Callable[[ExceptedDevices, Collection[str], Looked], ExceptedDevices],
) -> ExceptedDevices:
    """As the records stand in this transaction. `look` finds out what holds for devices, `after` applies a change."""
    with context.database.read() as db:
        stamp, today = context.stamp(), context.today()
        last = context.cached(("last on exceptions",), stamp.ledger, lambda: ledger.last_on(db, ("exception",)))
        entry, changes = last, stamp.readings
        versions = context.cache.get(("excepted devices",), None, _Versions, wait=False)

        def make() -> ExceptedDevices:
            known = versions.before((rules, today), entry, changes)
            if known is None:
                looked = look(excepted_changes.every_named(db))
                found = ExceptedDevices(today, looked.held, in_force(looked.held, today), looked.doubts, looked.rows)
            else:
                spoken = [number_of("EX", name) for name in ledger.spoken_of(db, "exception", known.entry)]
                touched = {*excepted_changes.named_in(db, spoken), *excepted_changes.since(db, known.changes)}
                found = after(known.found, touched, look(touched)) if touched else known.found
            if not context.database.writing:
                versions.keep(_Version((rules, today), entry, changes, found))
            return found

        return context.cached(("excepted devices now",), (entry, changes, today, rules), make)
