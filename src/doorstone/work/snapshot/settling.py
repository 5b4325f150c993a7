"""Profiles: each device settled and put with those that share its facts; each profile sorted once per release.

Whatever writes a word about a device places it anew in the same transaction; a new day places those whose words aged.
"""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any, NamedTuple

from doorstone.core.devices.classes import WORDS, Classifier
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
from doorstone.store.readings.contents import Content, numbers_in
from doorstone.store.sorting import DecisionRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.contents import (
    MOST_VALUES,
    ContentCache,
    Heard,
    NewReading,
    apply_readings,
    batches,
    bounded,
    current_contents,
    guarded,
    keep,
    one_content,
    without_older,
)
from doorstone.work.snapshot.sheets import Sheet, all_sheets, plain_text


class Place(NamedTuple):
    """Where a device belongs: its platform and what it is there; no profile without a sheet."""

    platform: str
    model: str
    running_release: str
    edition: str
    profile: int | None


class Counts(NamedTuple):
    """How many devices were spoken of; of these how many are new, and how many this import had not spoken of before."""

    devices: int
    added: int
    first: int


@dataclass(frozen=True, slots=True)
class _Picks:
    """Where in the codes of a shape the values stand that make a class; -1 where the shape has none of a fact."""

    tested: tuple[int, ...]
    others: tuple[int, ...]


@dataclass(slots=True)
class IngestCache:
    """What one piece of work has found out and may use again: contents, and where each class is placed.

    What is found out of classes holds only under the rules of `basis`.
    """

    contents: ContentCache = field(default_factory=ContentCache)
    outcomes: dict[tuple[str, int], str] = field(default_factory=dict)
    picks: dict[tuple[str, int], _Picks] = field(default_factory=dict)
    places: dict[tuple[Any, ...], Place] = field(default_factory=dict)
    until: dict[tuple[Any, ...], str | None] = field(default_factory=dict)
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
        known = known or IngestCache(contents(context))
        if known.basis != self.by.basis:
            known = replace(known, outcomes={}, picks={}, places={}, until={}, basis=self.by.basis)
        self.known = known
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
        replacing = self._replacing(held, readings)
        now: dict[str, tuple[Record, Heard]] = {}
        others: list[NewReading] = []
        for new in readings:
            if new.device in replacing:
                heard = [(new.source, new.taken_at, new.content)]
                now[new.device] = self._replaced(held.get(new.device), new, number, obeyed), heard
            else:
                others.append(new)
        merging = {new.device for new in others} & held.keys()
        now.update({name: (held[name], current_contents(held[name])) for name in merging})
        told = apply_readings(self.db, self.known.contents, others, now, self.at, number, obeyed)
        rows = self._rows(held, list(now.values()))
        device_store.put(self.db, held, rows)
        keep(self.db, self.known.contents, readings, now, told, number)
        again = sum(row.last_import_id == number for row in held.values())
        return Counts(len(rows), len(rows) - len(held), len(rows) - again)

    def _replacing(self, held: Mapping[str, Record], readings: Sequence[NewReading]) -> set[str]:
        """The devices of which one reading is all that is said once it is applied: facts only, and every fact anew."""
        often = Counter(reading.device for reading in readings)
        new = {r.device: r for r in readings if often[r.device] == 1}
        before: dict[str, tuple[str, str, int]] = {}
        for device, record in held.items():
            heard = current_contents(record)
            if device in new and len(heard) == 1 and heard[0][0] == new[device].source:
                before[device] = heard[0]
        numbers = {r.content for r in new.values()} | {number for _, _, number in before.values()}
        kept = self.known.contents.kept(self.db, numbers)
        return {
            device
            for device, r in new.items()
            if not kept[r.content].more
            and (device not in held or (device in before and self._covers(kept, r, before[device])))
        }

    def _covers(self, kept: Mapping[int, Content], new: NewReading, before: tuple[str, str, int]) -> bool:
        """Whether a reading says anew all that its source said before."""
        _, at, number = before
        old, mine = kept[number], kept[new.content]
        if old.more or at > new.taken_at:
            return False
        shape = self.known.contents.shape
        return old.shape == mine.shape or set(shape(self.db, old.shape)) <= set(shape(self.db, mine.shape))

    def _replaced(self, record: Record | None, new: NewReading, number: int | None, obeyed: bool) -> Record:
        device, source, taken_at, content, about = new
        row = record or device_store.new_record(device, self.at)
        words, last = one_content(source, taken_at, content), max(row.last_read_at, taken_at)
        if not about:
            return Record(*row[:12], words, number or row.last_import_id, last)
        own = guarded(about, record, number, obeyed=obeyed).get
        return Record(
            device, own("name", row[1]), own("site", row[2]), own("role", row[3]), own("critical", row[4]), *row[5:12],
            words, number or row.last_import_id, last,
        )  # fmt: skip

    def drop_older(self, device: str, fact: str, before: str) -> None:
        """Forget every source's word on a fact from before a time: something has changed it since."""
        held = device_store.records(self.db, [device])
        rows = [without_older(self.db, self.known.contents, row, fact, before) for row in held.values()]
        device_store.put(self.db, held, self._rows(held, [(row, current_contents(row)) for row in rows]))

    def _rows(self, held: Mapping[str, Record], now: Sequence[tuple[Record, Heard]]) -> list[Record]:
        """Rows settled anew, each device in its profile."""
        alone = disputes.devices(self.db, held) | self.by.own
        kept = self.known.contents.kept(self.db, {heard[0][2] for _, heard in now if len(heard) == 1})
        rows = []
        for row, heard in now:
            content = kept[heard[0][2]] if len(heard) == 1 and row.id not in alone else None
            place = self._class_place(row.id, heard, content) if content is not None and not content.more else None
            place = place or self._place(row.id, heard, self.rulings(row.id) if row.id in alone else [])
            rows.append(Record(*row[:6], *place, self._until(place.platform, heard), *row[12:]))
        return rows

    def _class_place(self, device: str, heard: Heard, content: Content) -> Place | None:
        """Where a device belongs of which one source alone speaks, with facts only; None if no sheet describes it.

        Told by the numbers of its values: each value's outcomes are worked out once, and each class is placed once.
        """
        ((source, at, _),) = heard
        codes, shape = numbers_in(content.codes), content.shape
        platform = self._platform(shape, codes)
        if platform is None:
            return None
        picks = self.known.picks.get((platform, shape)) or self._picks(platform, shape)
        outcomes = self.known.outcomes
        try:
            told = tuple([outcomes[platform, codes[i]] if i >= 0 else "" for i in picks.tested])
        except KeyError:
            told = self._outcomes(platform, picks, codes)
        others = tuple([codes[i] if i >= 0 else 0 for i in picks.others])
        case = (platform, self._ages(source, at[:10]), told, others)
        place = self.known.places.get(case)
        if place is None:
            place = bounded(self.known.places)[case] = self._place(device, heard, [])
        return place

    def _platform(self, shape: int, codes: Sequence[int]) -> str | None:
        facts = self.known.contents.shape(self.db, shape)
        if "os.platform" not in facts:
            return None
        platform = str(self.known.contents.value(self.db, codes[facts.index("os.platform")]))
        return platform if platform in self.by.sheets else None

    def _picks(self, platform: str, shape: int) -> _Picks:
        facts, classifier = self.known.contents.shape(self.db, shape), self.by.classifier(platform)
        at = {name: i for i, name in enumerate(facts)}
        others = sorted(classifier.names - set(classifier.tested) | set(WORDS))
        found = _Picks(
            tuple(at.get(name, -1) for name in classifier.tested), tuple(at.get(name, -1) for name in others)
        )
        return bounded(self.known.picks).setdefault((platform, shape), found)

    def _outcomes(self, platform: str, picks: _Picks, codes: Sequence[int]) -> tuple[str, ...]:
        """The outcomes of the tested facts, those not known yet worked out."""
        classifier, known = self.by.classifier(platform), self.known.outcomes
        found = []
        for name, i in zip(classifier.tested, picks.tested, strict=True):
            if i >= 0 and (platform, codes[i]) not in known:
                value = self.known.contents.value(self.db, codes[i])
                bounded(known, MOST_VALUES)[platform, codes[i]] = classifier.outcome(name, [value])
            found.append(known[platform, codes[i]] if i >= 0 else "")
        return tuple(found)

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
        found = [self._last_day(platform, source, at[:10], number) for source, at, number in heard]
        return min((day for day in found if day is not None), default=None)

    def _last_day(self, platform: str, source: str, day: str, number: int) -> str | None:
        """The last day on which nothing that a source read on a day has aged out since."""
        content = self.known.contents.kept(self.db, [number])[number]
        key = (platform, source, day, content.shape, content.more)
        if key not in self.known.until:
            facts: dict[str, FactValue] = {
                name: True for name in self.known.contents.shape(self.db, content.shape) if name in self.by.specs
            }
            more = json.loads(content.more) if content.more else {}
            verdicts = {**more.get("verdicts", {}), **dict.fromkeys(more.get("texts") or (), False)}
            reading = Reading(source, datetime.min, facts, verdicts)
            names = self._names(platform) | {"os.platform"}
            days = spans(reading, self.by.sources, self.by.specs, names)
            until = stands_until([(date.fromisoformat(day), days)], self.by.today)
            bounded(self.known.until)[key] = until.isoformat() if until else None
        return self.known.until[key]

    def _names(self, platform: str) -> frozenset[str]:
        return self.by.classifier(platform).names if platform in self.by.sheets else frozenset()

    def _place(self, device: str, heard: Heard, rulings: Iterable[DisputeDecision]) -> Place:
        view = settle(self._readings(heard), self.by.sources, self.by.specs, self.by.today, rulings)
        view = self._since_fixes(view)
        platform, model, runs, edition = (
            view.text(name) for name in ("os.platform", "machine.model", "os.release", "os.edition")
        )
        profile = self._profile(platform, device, view, model, runs) if platform in self.by.sheets else None
        return Place(platform, model, runs, edition, profile)

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
