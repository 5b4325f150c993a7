"""Profiles: each device settled and put with those that share its facts; each profile sorted once per release.

Whatever writes a word about a device places it anew in the same transaction; a new day places those whose words aged.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from operator import itemgetter
from typing import Any, NamedTuple

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import profile_content
from doorstone.core.facts import (
    BUILT_IN,
    DisputeDecision,
    FactReader,
    FactSpec,
    FactValue,
    Reading,
    Source,
    View,
    settle,
    source_of,
    spans,
    stands_until,
)
from doorstone.core.platforms.platform import Sort
from doorstone.core.readings.source_content import ContentByTime, current_texts
from doorstone.core.sorting.assessment import Decision, Scope, since_fixes
from doorstone.store import sorting as decision_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes
from doorstone.store.devices import profiles as store
from doorstone.store.devices.devices import Record
from doorstone.store.readings import failure_messages
from doorstone.store.sorting import DecisionRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.contents import (
    ContentCache,
    Heard,
    NewReading,
    apply_readings,
    batches,
    bounded,
    current_contents,
    keep,
    without_older,
)
from doorstone.work.snapshot.sheets import Sheet, all_sheets, plain_text

Place = tuple[str, str, str, str, int | None]
"""Platform, model, release and edition, and the profile."""
Settled = tuple[str, str, str, str, int | None, str | None]
"""The same, and the last day on which it is so."""
_DEVICE = itemgetter(0)
_NOTHING: Mapping[str, Any] = {}


class Counts(NamedTuple):
    """How many devices were spoken of; of these how many are new, and how many this import had not spoken of before."""

    devices: int
    added: int
    first: int


@dataclass(slots=True)
class IngestCache:
    """What one piece of work has found out and may use again: contents, and where each case was placed.

    `places` holds only while `basis` is the same: the sheets, the matched texts, the day.
    """

    contents: ContentCache = field(default_factory=ContentCache)
    places: dict[tuple[Any, ...], Place] = field(default_factory=dict)
    settled: dict[tuple[str, str, int], Settled] = field(default_factory=dict)
    spans: dict[tuple[str, str, int], frozenset[int]] = field(default_factory=dict)
    basis: Any = None


@dataclass(slots=True)
class SettlingRules:
    """What settling goes by on one day: trust, the facts that there are, matched texts, devices with own decisions."""

    today: date
    sources: Mapping[str, Source]
    sheets: Mapping[str, Sheet]
    specs: Mapping[str, FactSpec]
    reader: FactReader
    matches: Mapping[tuple[str, str], str]
    own: frozenset[str]
    facts: dict[int, Mapping[str, FactValue]] = field(default_factory=dict)
    classifiers: dict[str, Classifier] = field(default_factory=dict)
    fresh_on: dict[tuple[str, str], tuple[bool, bool]] = field(default_factory=dict)
    last_days: dict[tuple[str, frozenset[int]], str | None] = field(default_factory=dict)

    def classifier(self, platform: str) -> Classifier:
        """What tells the devices of a platform apart."""
        if platform not in self.classifiers:
            self.classifiers[platform] = Classifier(self.sheets[platform].platform, self.today)
        return self.classifiers[platform]

    @property
    def basis(self) -> Any:
        """What a device is placed by, apart from what is said of it."""
        return {name: (s.sha256, s.reported) for name, s in self.sheets.items()}, self.matches, self.today


def settling_rules(context: Context, db: sqlite3.Connection) -> SettlingRules:
    """The rules of the context's day, made anew once anything was written."""

    def make() -> SettlingRules:
        sheets = all_sheets(context)
        specs = all_specs(sheets)
        own = frozenset(row.target for row in decision_store.in_force(db) if row.scope == Scope.DEVICE)
        matched = {(p, plain_text(t)): r for (p, t), r in failure_messages.matches(db).items()}
        return SettlingRules(context.today(), context.policy.sources, sheets, specs, FactReader(specs), matched, own)

    stamp = context.stamp()
    return context.cached(("settling rules",), (stamp.ledger, stamp.devices, context.today()), make)


def contents(context: Context) -> ContentCache:
    """The contents that all who only read share; one of its own for a transaction that writes."""
    return context.cached(("contents",), None, ContentCache)


class Settler:
    """Settles devices as of the context's day, from what the database holds."""

    def __init__(
        self,
        context: Context,
        db: sqlite3.Connection,
        known: IngestCache | None = None,
        by: SettlingRules | None = None,
    ) -> None:
        self.db = db
        self.at = context.now()
        self.by = by or settling_rules(context, db)
        self.known = known or IngestCache(contents(context))
        basis = self.by.basis
        if self.known.basis != basis:
            self.known.places.clear()
            self.known.settled.clear()
            self.known.spans.clear()
            self.known.basis = basis
        self._numbers: dict[str, int] = {}

    def readings(self, device: str) -> list[Reading]:
        """What every source says of the device now, failure messages turned into verdicts where they are matched."""
        record = device_store.records(self.db, [device]).get(device)
        return self._readings(current_contents(record)) if record else []

    def _readings(self, heard: Heard) -> list[Reading]:
        words = self.known.contents.words(self.db, heard)
        found = [self._reading(source, at, number) for source, at, number in heard]
        sheet = self.by.sheets.get(_newest_text(found, "os.platform"))
        return found + (self._told(words, sheet) if sheet is not None else [])

    def _reading(self, source: str, at: str, number: int) -> Reading:
        verdicts = self.known.contents.said(self.db, number).verdicts
        return Reading(source, datetime.fromisoformat(at), self._facts(number), verdicts)

    def _facts(self, number: int) -> Mapping[str, FactValue]:
        """The facts of a content. Facts that no spec describes any more are left out."""
        facts = self.by.facts.get(number)
        if facts is None:
            said = self.known.contents.said(self.db, number).facts
            facts = {name: self.by.reader.parse(name, value) for name, value in said.items() if name in self.by.specs}
            bounded(self.by.facts)[number] = facts
        return facts

    def _told(self, words: Mapping[str, ContentByTime], sheet: Sheet) -> list[Reading]:
        failing: dict[str, list[tuple[str, datetime]]] = {}
        for source, said in words.items():
            for text, taken_at in current_texts(said):
                key, at = plain_text(text), datetime.fromisoformat(taken_at)
                requirement = self.by.matches.get((sheet.platform.id, key)) or sheet.told_by_text.get(key)
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
        return source_of(self.by.sources, source).fresh(at.date(), self.by.today, lasting=False)

    def view(self, device: str, record: Record | None = None) -> View:
        """One device settled; `record` is its row, if the caller has read it."""
        readings = self._readings(current_contents(record)) if record else self.readings(device)
        view = settle(readings, self.by.sources, self.by.specs, self.by.today, self.rulings(device))
        return self._since_fixes(view)

    def _since_fixes(self, view: View) -> View:
        sheet = self.by.sheets.get(view.text("os.platform")) if view.fixed else None
        return since_fixes(sheet.platform, view) if sheet else view

    def rulings(self, device: str) -> list[DisputeDecision]:
        found = []
        for row in disputes.of_device(self.db, device):
            if row.kind == "fact" and row.subject not in self.by.specs:
                continue
            value = self.by.specs[row.subject].parse(row.value) if row.kind == "fact" else bool(row.value)
            seen, at = datetime.fromisoformat(row.seen_until), datetime.fromisoformat(row.at)
            found.append(DisputeDecision(id_of("ST", row.id), row.subject, value, seen, row.reason, row.by, at))
        return found

    def place(self, devices: Iterable[str]) -> None:
        """Settle devices and put each in its profile."""
        for part in batches(devices, 1_000):
            held = device_store.records(self.db, part)
            device_store.put(self.db, held, self._rows(held, [(row, current_contents(row)) for row in held.values()]))

    def hear(self, readings: Sequence[NewReading], number: int | None = None, *, obeyed: bool = True) -> Counts:
        """Take readings in and place their devices anew; `number` is the import that they come with.

        Unless it is `obeyed`, what it says of attributes that rules rest on changes no device that was known before.
        """
        held = device_store.records(self.db, {reading[0] for reading in readings})
        often = Counter(map(_DEVICE, readings))
        quiet = self.known.contents.quiet(self.db, {reading[3] for reading in readings})
        firsts: list[NewReading] = []
        others: list[NewReading] = []
        for new in readings:
            plain = often[new[0]] == 1 and new[0] not in held and new[3] in quiet
            (firsts if plain else others).append(new)
        now = {name: (row, current_contents(row)) for name, row in held.items()}
        told = apply_readings(self.db, self.known.contents, others, now, self.at, number, obeyed)
        rows = [*self._first_rows(firsts, number), *self._rows(held, list(now.values()))]
        device_store.put(self.db, held, rows)
        keep(self.db, self.known.contents, readings, now, told, number)
        again = sum(row.last_import_id == number for row in held.values())
        return Counts(len(rows), len(rows) - len(held), len(rows) - again)

    def _first_rows(self, readings: Iterable[NewReading], number: int | None) -> Iterator[Record]:
        """The rows of devices of which nothing was known, each spoken of once and without failure messages."""
        settled, own, at = self.known.settled, self.by.own, self.at
        for device, source, taken_at, said, about in readings:
            found = settled.get((source, taken_at[:10], said))
            if found is None or device in own:
                found = self._settled(device, [(source, taken_at, said)], device in own)
            words = f'[["{source}","{taken_at}",{said}]]'
            mine = (about or _NOTHING).get
            yield Record._make(
                (device, mine("name", ""), mine("site", ""), mine("role", ""), mine("critical", 0), at, *found, words,
                 number, taken_at)
            )  # fmt: skip

    def drop_older(self, device: str, fact: str, before: str) -> None:
        """Forget every source's word on a fact from before a time: something has changed it since."""
        held = device_store.records(self.db, [device])
        rows = [without_older(self.db, self.known.contents, row, fact, before) for row in held.values()]
        device_store.put(self.db, held, self._rows(held, [(row, current_contents(row)) for row in rows]))

    def _rows(self, held: Mapping[str, Record], now: Sequence[tuple[Record, Heard]]) -> list[Record]:
        """Rows settled anew, each device in its profile."""
        alone = disputes.devices(self.db, held) | self.by.own
        settled = self.known.settled
        rows = []
        for row, heard in now:
            found = settled.get((heard[0][0], heard[0][1][:10], heard[0][2])) if len(heard) == 1 else None
            if found is None or row.id in alone:
                found = self._settled(row.id, heard, row.id in alone)
            rows.append(Record(*row[:6], *found, *row[12:]))
        return rows

    def _settled(self, device: str, heard: Heard, alone: bool) -> Settled:
        """Where a device belongs. What was found for another of which the same was said holds, unless it is `alone`."""
        if alone:
            place = self._place(device, heard, self.rulings(device))
        else:
            case = self._case(heard)
            known = self.known.places.get(case)
            if known is None:
                known = bounded(self.known.places)[case] = self._place(device, heard, [])
            place = known
        found = (*place, self._until(place[0], heard))
        if not alone and len(heard) == 1:
            ((source, at, number),) = heard
            bounded(self.known.settled)[source, at[:10], number] = found
        return found

    def _case(self, heard: Heard) -> tuple[Any, ...]:
        """What settling can see of what was said: sources, contents, what is still fresh, the order of the times."""
        if len(heard) == 1:
            ((source, at, number),) = heard
            return source, self._ages(source, at[:10]), number
        times = sorted({at for _, at, _ in heard})
        return tuple((s, self._ages(s, at[:10]), times.index(at), number) for s, at, number in heard)

    def _ages(self, source: str, day: str) -> tuple[bool, bool]:
        """Whether lasting and passing facts that a source read on a day still count."""
        found = self.by.fresh_on.get((source, day))
        if found is None:
            known, read = source_of(self.by.sources, source), date.fromisoformat(day)
            found = self.by.fresh_on[source, day] = (
                known.fresh(read, self.by.today, lasting=True), known.fresh(read, self.by.today, lasting=False)
            )  # fmt: skip
        return found

    def _until(self, platform: str, heard: Heard) -> str | None:
        """The last day on which nothing that counts has aged out since."""
        found = (self._last_day(at[:10], self._spans(platform, source, number)) for source, at, number in heard)
        return min((day for day in found if day is not None), default=None)

    def _last_day(self, day: str, spans_: frozenset[int]) -> str | None:
        """The last day on which nothing that was read on a day, and lasts so many days, has aged out since."""
        if (day, spans_) not in self.by.last_days:
            until = stands_until([(date.fromisoformat(day), spans_)], self.by.today)
            self.by.last_days[day, spans_] = until.isoformat() if until else None
        return self.by.last_days[day, spans_]

    def _spans(self, platform: str, source: str, number: int) -> frozenset[int]:
        key = (platform, source, number)
        if key not in self.known.spans:
            said = self.known.contents.said(self.db, number)
            verdicts = {**said.verdicts, **dict.fromkeys(said.texts or (), False)}
            facts: dict[str, FactValue] = {name: True for name in said.facts if name in self.by.specs}
            reading = Reading(source, datetime.min, facts, verdicts)
            names = self._names(platform) | {"os.platform"}
            bounded(self.known.spans)[key] = spans(reading, self.by.sources, self.by.specs, names)
        return self.known.spans[key]

    def _names(self, platform: str) -> frozenset[str]:
        return self.by.classifier(platform).names if platform in self.by.sheets else frozenset()

    def _place(self, device: str, heard: Heard, rulings: Iterable[DisputeDecision]) -> Place:
        view = settle(self._readings(heard), self.by.sources, self.by.specs, self.by.today, rulings)
        view = self._since_fixes(view)
        platform, model, runs, edition = (
            view.text(name) for name in ("os.platform", "machine.model", "os.release", "os.edition")
        )
        profile = self._profile(platform, device, view, model, runs) if platform in self.by.sheets else None
        return platform, model, runs, edition, profile

    def _profile(self, platform: str, device: str, view: View, model: str, runs: str) -> int:
        own = device if device in self.by.own else ""
        classifier = self.by.classifier(platform)
        content = profile_content(platform, classifier.names, view, own)
        key = classifier.of(content)
        if key not in self._numbers:
            self._numbers[key] = store.number_of(self.db, key, platform, model, runs, own, content)
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


def place(context: Context, db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Place devices anew: their words, decisions or sheet have changed."""
    Settler(context, db).place(devices)


def roll(context: Context) -> None:
    """Bring every device to the context's day: those on which a word has aged out since are placed anew.

    Whoever only reads sees the day before until somebody who may write, or the next round, has done it.
    """
    today = context.today().isoformat()
    if (
        context.stamp().day == today
        or context.database.reads_only
        or (context.database.busy and not context.database.writing)
    ):
        return
    with context.database.write() as db:
        if (before := store.stamp(db).day) != today:
            place(context, db, store.fallen(db, today) if before < today else device_store.ids(db))
            store.keep_settled_day(db, today)


def decisions_of(context: Context, db: sqlite3.Connection, platform: str) -> list[Decision]:
    """The decisions on a platform that stand, oldest first; read anew once the ledger has grown."""

    def read() -> list[Decision]:
        return [decision_of(row) for row in decision_store.in_force(db) if row.platform == platform]

    return context.cached(("decisions", platform), context.stamp().ledger, read)


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
