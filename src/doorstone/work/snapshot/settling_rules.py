"""The rules of settling: by what readings become what a device is believed to be, and which class that is."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from datetime import date
from typing import Any

from msgspec import Struct, field

from doorstone.core.devices.classes import Classifier
from doorstone.core.facts import BUILT_IN, FactReader, FactSpec, FactValue, Source
from doorstone.core.readings.settle import source_of
from doorstone.core.sorting.assessment import Scope
from doorstone.store import sorting as decision_store
from doorstone.store.readings import failure_messages
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import Sheet, all_sheets, plain_text


class SettlingRules(Struct):
    """What settling goes by on one day: trust, the facts that there are, matched texts, devices with own decisions.

    `facts` are those of contents, `values` those of numbers, as they are asked for.
    """

    today: date
    sources: Mapping[str, Source]
    sheets: Mapping[str, Sheet]
    specs: Mapping[str, FactSpec]
    reader: FactReader
    matches: Mapping[tuple[str, str], str]
    own: frozenset[str]
    facts: dict[int, Mapping[str, FactValue]] = field(default_factory=dict)
    values: dict[int, FactValue] = field(default_factory=dict)
    classifiers: dict[str, Classifier] = field(default_factory=dict)
    fresh_on: dict[tuple[str, str], tuple[bool, bool]] = field(default_factory=dict)

    def classifier(self, platform: str) -> Classifier:
        """What tells the devices of a platform apart."""
        if platform not in self.classifiers:
            self.classifiers[platform] = Classifier(self.sheets[platform].platform, self.today)
        return self.classifiers[platform]

    def ages(self, source: str, day: str) -> tuple[bool, bool]:
        """Whether lasting and passing facts that a source read on a day still count."""
        found = self.fresh_on.get((source, day))
        if found is None:
            known, read = source_of(self.sources, source), date.fromisoformat(day)
            found = self.fresh_on[source, day] = (
                known.fresh(read, self.today, lasting=True), known.fresh(read, self.today, lasting=False)
            )  # fmt: skip
        return found

    def counts(self, name: str, ages: tuple[bool, bool]) -> bool:
        """Whether a fact still counts, given whether lasting and passing facts of its source do."""
        spec = self.specs.get(name)
        return spec is not None and ages[0 if spec.lasting else 1]

    @property
    def basis(self) -> Any:
        """Everything that places a device, apart from its readings."""
        return {name: (s.sha256, s.reported) for name, s in self.sheets.items()}, self.matches, self.today


def settling_rules(context: Context, db: sqlite3.Connection) -> SettlingRules:
    """The rules of the context's day, made anew once anything was written."""

    def make() -> SettlingRules:
        sheets = all_sheets(context)
        rules = rules_by(context, db, sheets)
        every = tuple(sheets.values())  # whatever else was written, these classify and parse as they did
        rules.classifiers = context.cache.get(("classifiers",), (context.today(), every), dict, wait=False)
        rules.facts, rules.values = context.cached(("parsed",), every, lambda: ({}, {}), stable=True)
        return rules

    stamp = context.stamp()
    return context.cached(("settling rules",), (stamp.ledger, stamp.devices, context.today()), make)


def rules_by(context: Context, db: sqlite3.Connection, sheets: Mapping[str, Sheet]) -> SettlingRules:
    """The rules of the context's day if these were the sheets."""
    specs = all_specs(sheets)
    own = frozenset(row.target for row in decision_store.in_force(db) if row.scope == Scope.DEVICE)
    matched = {(p, plain_text(t)): r for (p, t), r in failure_messages.matches(db).items()}
    return SettlingRules(context.today(), context.policy.sources, sheets, specs, FactReader(specs), matched, own)


def all_specs(sheets: Mapping[str, Sheet]) -> dict[str, FactSpec]:
    """The built-in facts and those that any sheet declares."""
    specs = dict(BUILT_IN)
    for sheet in sheets.values():
        specs.update(sheet.platform.specs)
    return specs
