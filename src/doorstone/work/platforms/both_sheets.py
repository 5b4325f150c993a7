"""The devices of a platform by two sheets at once, the one that is loaded and the one that might be.

Devices of a class that are of one class by the new sheet too are one case: all is asked of the case, once. Only
devices of classes that the new sheet may take apart are looked at, and of these only those that report failures in
words or verdicts, or about which something was decided, are settled one by one.
"""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from collections.abc import Collection, Hashable, Iterable, Mapping
from heapq import merge
from itertools import islice
from typing import Any, NamedTuple

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.profiles import profile_content
from doorstone.core.forecast.outlook import SheetOutlook
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes
from doorstone.store.devices import profiles as profile_store
from doorstone.work.context.context import Context
from doorstone.work.platforms.torn_classes import torn_classes
from doorstone.work.snapshot.contents import batches
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.settling_rules import rules_by
from doorstone.work.snapshot.sheets import Sheet, all_sheets
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.standings import FEW

MOST_NAMED = 50


class Case(NamedTuple):
    """The number of a class by the sheet as it is loaded, and of one by the sheet as it would be."""

    before: int
    after: int


class BothSheets:
    """The cases of a platform. `sizes` counts the devices of each that no exception names; `excepted` has the others.

    `after` is the outlook of the new sheet; classes by the old one are the profiles in use.
    """

    def __init__(self, context: Context, now: Snapshot, old: Sheet, new: Sheet) -> None:
        self.sizes: Counter[Case] = Counter()
        self.excepted: dict[str, Case] = {}
        self._platform = old.platform.id
        self._classifier = Classifier(new.platform, now.today)
        self._numbers: dict[str, int] = {}
        self._contents: dict[int, Mapping[str, Any]] = {}
        self._whole: dict[int, Case] = {}
        self._apart: dict[str, int] = {}
        self._named: defaultdict[Case, list[str]] = defaultdict(list)
        self._excepted_names = now.excepted_rows().keys()
        with context.database.read() as db:
            contents = profile_store.contents(db, profile_store.in_use(db, self._platform))
            torn = torn_classes(db, old, new, now.today, contents)
            split = contents if torn is None else torn.classes
            self._take_whole({n: content for n, content in contents.items() if n not in split})
            names = {*device_store.ids_of_profiles(db, split), *disputes.every_device(db, self._platform)}
            self._look_at(context, db, new, sorted(names))
            self._count(db, now)
        decisions = now.decisions_for(old.platform)
        self.after = SheetOutlook(new.platform, decisions, now.today, self._contents)

    def _take_whole(self, contents: Mapping[int, Mapping[str, Any]]) -> None:
        for number, content in contents.items():
            self._whole[number] = Case(number, self._class_of(content))

    def _class_of(self, content: Mapping[str, Any]) -> int:
        """The number of a class by the new sheet."""
        number = self._numbers.setdefault(self._classifier.of(content), len(self._numbers))
        self._contents.setdefault(number, content)
        return number

    def _look_at(self, context: Context, db: sqlite3.Connection, new: Sheet, devices: Iterable[str]) -> None:
        """Find the case of each of these devices by its facts as the new sheet settles them."""
        settler = Settler(context, db, by=rules_by(context, db, {**all_sheets(context), self._platform: new}))
        known: dict[Hashable, int] = {}
        for part in batches(devices, 1_000):
            held = device_store.records(db, part)
            plain = settler.cases(list(held.values()))
            for device, record in sorted(held.items()):
                if record.profile is None:
                    continue
                key = plain.get(device)
                number = known.get(key) if key is not None else None
                if number is None:
                    own = device if device in settler.by.own else ""
                    view = settler.view(device, record)
                    number = self._class_of(profile_content(self._platform, self._classifier.names, view, own))
                    if key is not None:
                        known[key] = number
                self._put(device, Case(record.profile, number))

    def _put(self, device: str, case: Case) -> None:
        if case.before in self._whole:
            self._apart[device] = case.before
        if device in self._excepted_names:
            self.excepted[device] = case
            return
        self.sizes[case] += 1
        if len(self._named[case]) < MOST_NAMED:  # they come in order
            self._named[case].append(device)

    def _count(self, db: sqlite3.Connection, now: Snapshot) -> None:
        """Count the devices of classes that go over as a whole, without those that were looked at or are excepted."""
        for row in now.excepted_rows().values():
            if row.profile in self._whole and row.id not in self._apart:
                self._apart[row.id] = row.profile
                self.excepted[row.id] = self._whole[row.profile]
        sizes = Counter(profile_store.sizes(db, self._platform))
        sizes.subtract(self._apart.values())
        for number, case in self._whole.items():
            if sizes[number]:
                self.sizes[case] += sizes[number]

    def first(self, db: sqlite3.Connection, cases: Collection[Case], excepted: Iterable[str]) -> tuple[str, ...]:
        """The first 50 by id: of the devices of these cases that no exception names, and of those `excepted`."""
        whole = {case.before for case in cases if self._whole.get(case.before) == case}
        lists = [self._named[case] for case in cases if case in self._named]
        if whole:
            few = sum(self.sizes[self._whole[number]] for number in whole) <= FEW
            apart = [device for device, number in self._apart.items() if number in whole]
            rows = device_store.find(db, self._platform, DeviceFilter(), whole, few, "", MOST_NAMED, apart)
            lists.append([row.id for row in rows])
        return tuple(islice(merge(*lists, sorted(excepted)), MOST_NAMED))
