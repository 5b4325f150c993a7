"""Settling: each device settled and put in the class of those that give the same answers.

Whatever writes about a device places it anew in the same transaction; a new day places those whose readings aged out.
"""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from datetime import date, datetime
from operator import itemgetter
from typing import Any, NamedTuple

from msgspec.structs import replace

from doorstone.core.devices.life import Life
from doorstone.core.devices.names import name_key
from doorstone.core.devices.profiles import profile_content
from doorstone.core.facts import FIX, DisputeDecision, FactValue, Reading, View
from doorstone.core.platforms.platform import Sort
from doorstone.core.readings.settle import settle, source_of, spans, stands_until
from doorstone.core.readings.source_content import ContentByTime, current_texts
from doorstone.core.sorting.assessment import Decision, Scope, since_fixes
from doorstone.store import sorting as decision_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes, excepted_changes
from doorstone.store.devices import names as name_store
from doorstone.store.devices import profiles as store
from doorstone.store.devices.devices import ReadRow, Record
from doorstone.store.readings.contents import Content, numbers_in
from doorstone.store.sorting import DecisionRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.class_cases import ClassCases, IngestCache, Place, PlainCase, Standing
from doorstone.work.snapshot.contents import (
    MOST_DECODED,
    MOST_VALUES,
    ContentCache,
    CurrentContents,
    NewReading,
    NewReadings,
    apply_readings,
    batches,
    bounded,
    contents_in,
    contents_text,
    current_contents,
    held_of,
    is_new_to,
    keep,
    sole_word,
    without_guarded,
    without_older,
    word_text,
)
from doorstone.work.snapshot.settling_rules import SettlingRules, settling_rules
from doorstone.work.snapshot.sheets import Sheet, plain_text

FEW_DEVICES = 10  # of which several sources speak: to settle so few takes less than to tell their cases


class Counts(NamedTuple):
    """How many devices were spoken of; of these how many are new, and how many this import had not spoken of before."""

    devices: int
    added: int
    first: int


def contents(context: Context) -> ContentCache:
    """The contents that all readers share. A transaction that writes has its own."""
    return context.cached(("contents",), None, ContentCache, stable=True)


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
        known = known or IngestCache(contents(context), basis=self.by.basis)
        if known.basis != self.by.basis:
            known = replace(known, outcomes={}, picks={}, places={}, sights={}, until={}, basis=self.by.basis)
        self.known = known
        self._numbers: dict[str, int] = {}
        self._cases = ClassCases(db, self.by, known)

    def readings(self, device: str) -> list[Reading]:
        """What every source says of the device now, failure messages turned into verdicts where they are matched."""
        record = device_store.records(self.db, [device]).get(device)
        return self._readings(current_contents(record)) if record else []

    def _readings(self, current: CurrentContents) -> list[Reading]:
        kept = self.known.contents.kept(self.db, [number for _, _, number in current])
        found = [self._reading(source, at, number, kept[number]) for source, at, number in current]
        sheet = self.by.sheets.get(_newest_text(found, "os.platform"))
        if sheet is None or not (sheet.reported or any(content.more for content in kept.values())):
            return found
        return found + self._verdicts_of_messages(self.known.contents.by_source(self.db, current), sheet)

    def _reading(self, source: str, at: str, number: int, content: Content) -> Reading:
        verdicts = self.known.contents.decoded(self.db, number).verdicts if content.more else {}
        return Reading(source, datetime.fromisoformat(at), self._facts(number, content), verdicts)

    def _facts(self, number: int, content: Content) -> Mapping[str, FactValue]:
        """The facts of a content. Facts that no spec describes any more are left out."""
        facts = self.by.facts.get(number)
        if facts is None:
            names = self.known.contents.shape(self.db, content.shape)
            codes = {code: name for name, code in zip(names, numbers_in(content.codes), strict=True)}
            values, missing = held_of(self.by.values, codes)
            parsed = {
                code: self.by.reader.parse(codes[code], raw)
                for code, raw in self.known.contents.values(self.db, missing).items()
                if codes[code] in self.by.specs
            }
            bounded(self.by.values, MOST_VALUES).update(parsed)
            values |= parsed
            facts = {name: values[code] for code, name in codes.items() if code in values}
            bounded(self.by.facts, MOST_DECODED)[number] = facts
        return facts

    def _verdicts_of_messages(self, by_source: Mapping[str, ContentByTime], sheet: Sheet) -> list[Reading]:
        failing: dict[str, list[tuple[str, datetime]]] = {}
        for source, held in by_source.items():
            for text, taken_at in current_texts(held):
                key, at = plain_text(text), datetime.fromisoformat(taken_at)
                requirement = self.by.matches.get((sheet.platform.id, key)) or sheet.requirement_by_message.get(key)
                if requirement and self._fresh(source, at):
                    failing.setdefault(requirement, []).append((source, at))
        verdicts = []
        for name, reported_by in failing.items():
            fact = {f"reported.{name}": True} if name in sheet.reported else {}
            verdicts += [Reading(source, at, dict(fact), {name: False}) for source, at in reported_by]
        newest = max((datetime.fromisoformat(at) for times in by_source.values() for at in times), default=datetime.min)
        quiet = {f"reported.{name}": False for name in sheet.reported if name not in failing}
        return [*verdicts, Reading("nobody", newest, dict(quiet))] if quiet else verdicts

    def _fresh(self, source: str, at: datetime) -> bool:
        return source_of(self.by.sources, source).fresh(at.date(), self.by.today, lasting=False)

    def view(self, device: str, record: Record | None = None) -> View:
        """One device settled; `record` is its row, if the caller has read it."""
        readings = self._readings(current_contents(record)) if record else self.readings(device)
        view = settle(readings, self.by.sources, self.by.specs, self.by.today, self.dispute_decisions(device))
        return self._since_fixes(view)

    def _since_fixes(self, view: View) -> View:
        sheet = self.by.sheets.get(view.text("os.platform")) if view.fixed else None
        return since_fixes(sheet.platform, view) if sheet else view

    def plain_values(self, records: Sequence[Record], names: Collection[str]) -> dict[str, Mapping[str, FactValue]]:
        """Those of these devices of which one source alone speaks, with facts only: what they are believed to have.

        Only of the facts of these names; what no longer counts is left out, as settling does.
        """
        alone = disputes.devices(self.db, [record.id for record in records]) | self.by.own
        held, single = self.known.contents, {}
        for record in records:
            current = current_contents(record)
            if len(current) == 1 and current[0][0] != FIX and record.id not in alone:
                single[record.id] = current[0]
        kept = held.kept(self.db, {number for _, _, number in single.values()})
        codes: dict[str, list[tuple[str, int]]] = {}
        for device, (source, at, number) in single.items():
            content = kept[number]
            if not content.more:
                ages = self.by.ages(source, at[:10])
                numbers = numbers_in(content.codes)
                codes[device] = [
                    (name, numbers[i])
                    for i, name in enumerate(held.shape(self.db, content.shape))
                    if name in names and self.by.counts(name, ages)
                ]
        values = held.values(self.db, {code for mine in codes.values() for _, code in mine})
        return {
            device: {name: self.by.reader.parse(name, values[code]) for name, code in mine}
            for device, mine in codes.items()
        }

    def dispute_decisions(self, device: str) -> list[DisputeDecision]:
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
            excepted_changes.note(self.db, held)

    def ingest(
        self, readings: Sequence[NewReading], number: int | None = None, *, obeyed: bool = True, changing: str = ""
    ) -> Counts:
        """As `ingest_all`, of some readings."""
        return self.ingest_all(self.known.contents.columns(self.db, readings), number, obeyed=obeyed, changing=changing)

    def ingest_all(
        self, readings: NewReadings, number: int | None = None, *, obeyed: bool = True, changing: str = ""
    ) -> Counts:
        """Take readings in and place their devices anew; `number` is the import that they come with.

        Unless it is `obeyed`, attributes that rules rest on stay as they are on devices that were known before. A fact
        named in `changing` was changed when they were taken: no earlier word of any source on it counts any more.
        """
        readings = self._named_as_on_record(readings)
        held = device_store.records(self.db, dict.fromkeys(readings.devices))
        before = dict(held) if changing else held
        for device, taken_at in zip(readings.devices, readings.times, strict=True) if changing else ():
            if row := before.get(device):
                before[device] = without_older(self.db, self.known.contents, row, changing, taken_at)
        replaced = self._replaced(before, readings, number, obeyed)
        now, merging = replaced.unsettled, {new.device for new in replaced.others} & held.keys()
        now.update({name: (before[name], current_contents(before[name])) for name in merging})
        self.known.contents.kept(self.db, {number for _, current in now.values() for _, _, number in current})
        reporting = apply_readings(self.db, self.known.contents, replaced.others, now, self.at, number, obeyed)
        rows = replaced.settled + self._rows(held, list(now.values()))
        unaffected = self._unaffected(before, replaced.read) if not changing else set[str]()
        changed = device_store.put(self.db, held, rows, replaced.read, unaffected)
        keep(self.db, self.known.contents, readings, now, reporting, number, changed, held)
        devices = len(rows) + len(replaced.read)
        again = sum([row.last_import_id == number for row in held.values()])
        return Counts(devices, devices - len(held), devices - again)

    def _named_as_on_record(self, readings: NewReadings) -> NewReadings:
        """The readings with the ids on record: another spelling of an id names the device that had it first."""
        known = name_store.ids_of(self.db, list(dict.fromkeys(readings.devices)))
        first: dict[str, str] = {}
        for name, device in known.items():
            if name == device:
                first.setdefault(name_key(name), name)
        names = {name: device if name != device else first[name_key(name)] for name, device in known.items()}
        if all(name == device for name, device in names.items()):
            return readings
        return replace(readings, devices=[names[name] for name in readings.devices])

    def _replaced(
        self, held: Mapping[str, Record], readings: NewReadings, number: int | None, obeyed: bool
    ) -> _Replaced:
        """Finds the devices whose current contents one reading replaces: it holds facts only, and every one known."""
        found = _Replaced([], [], {}, [])
        alone = disputes.devices(self.db, held) | self.by.own
        often = Counter(readings.devices) if len(set(readings.devices)) < len(readings.devices) else {}
        abouts = {id(about): about for about in readings.abouts}
        free = abouts if obeyed else {key: without_guarded(about) for key, about in abouts.items()}
        rows = zip(
            readings.devices, readings.sources, readings.times, readings.numbers, readings.contents, readings.codes,
            readings.abouts, strict=True,
        )  # fmt: skip
        for device, source, taken_at, content_number, content, codes, about in rows:
            record = held.get(device)
            if (
                content.more
                or often.get(device, 1) > 1
                or not (record is None or self._replaces(record, source, taken_at, content))
            ):
                found.others.append(NewReading(device, source, taken_at, content_number, about))
                continue
            standing = None
            if device not in alone:
                standing = self._standing_by_case(device, source, taken_at, content_number, content, codes)
            word, last = word_text(source, content_number, content.shape), taken_at
            if record is not None and record.last_read_at > taken_at:
                last = record.last_read_at
                word = contents_text([(source, taken_at, content_number)], last)
            own = about if is_new_to(record, number) else free[id(about)]
            if record is not None and standing is not None and _stays(record, standing.place, own):
                found.read.append((device, standing.until, word, number or record.last_import_id, last))
                continue
            row = _read_row(record or device_store.new_record(device, self.at), own, standing, word, number, last)
            if standing is not None:
                found.settled.append(row)
            else:
                found.unsettled[device] = row, [(source, taken_at, content_number)]
        return found

    def _replaces(self, record: Record, source: str, taken_at: str, content: Content) -> bool:
        """Whether a reading of facts only replaces the one word on a device: of its source, and no fact is lost."""
        word = sole_word(record)
        if word is None or word.source != source or word.taken_at > taken_at:
            return False
        if word.shape == content.shape:
            return True
        contents = self.known.contents
        return contents.covers_content(self.db, content, contents.kept(self.db, [word.content])[word.content])

    def _standing_by_case(
        self, device: str, source: str, taken_at: str, number: int, content: Content, codes: Sequence[int]
    ) -> Standing | None:
        """How a device stands of which a reading alone speaks, by its case; None if it has none."""
        found = self._cases.find_case(source, taken_at[:10], content.shape, codes)
        if found is None:
            return None
        standings, case = found
        standing = standings.get(case)
        if standing is None:
            standing = self._standing(device, [(source, taken_at, number)], [content])
            bounded(standings)[case] = standing
        return standing

    def _unaffected(self, held: Mapping[str, Record], read: Sequence[ReadRow]) -> set[str]:
        """The devices among these on which nothing changed that an exception rests on.

        Each reading replaced the one reading of its device, which stays in its class and place. An exception rests on
        the class, on the values that tests look at, and on whether they still count; with a condition on facts, on
        every fact.
        """
        rests_on_facts = excepted_changes.named(self.db, [row[0] for row in read])
        found = {row[0] for row in read}.difference(rests_on_facts)
        for device, _, word, _, last in read:
            if rests_on_facts.get(device, True):
                continue
            words = [*current_contents(held[device]), *contents_in(word, last)]
            kept = self.known.contents.kept(self.db, [number for _, _, number in words])
            tested = {self._cases.tested_values(kept[number]) for _, _, number in words}
            ages = {self.by.ages(source, at[:10]) for source, at, _ in words}
            if len(tested) == len(ages) == 1:
                found.add(device)
        return found

    def _rows(self, held: Mapping[str, Record], now: Sequence[tuple[Record, CurrentContents]]) -> list[Record]:
        """Rows settled anew, each device in its profile."""
        alone = disputes.devices(self.db, held) | self.by.own
        kept = self.known.contents.kept(self.db, {number for _, current in now for _, _, number in current})
        rows = []
        for row, current in now:
            contents = [kept[number] for _, _, number in current]
            if row.id in alone or (len(current) > 1 and len(now) < FEW_DEVICES):
                place = self._place(row.id, current, self.dispute_decisions(row.id) if row.id in alone else [])
                until = self._until(place.platform, current, contents)
            else:
                place, until = self._standing(row.id, current, contents)
            if row.life != Life.IN_SERVICE:  # only what is in service has a class, and so counts
                place = place._replace(profile=None)
            rows.append(Record(*row[:6], *place, until, *row[12:]))
        return rows

    def _standing(self, device: str, current: CurrentContents, contents: Sequence[Content]) -> Standing:
        """How a device stands about which nothing was decided, by its case if it has one."""
        place = self._place_of_case(device, current, contents) or self._place(device, current, [])
        return Standing(place, self._until(place.platform, current, contents))

    def _place_of_case(self, device: str, current: CurrentContents, contents: Sequence[Content]) -> Place | None:
        """The place of a device that has a case; each case is placed once. None for a device without a case."""
        if not _facts_only(current, contents):
            return None
        plain = self._cases.plain(current, contents[0]) if len(current) == 1 else None
        several = self._cases.several(current, contents) if len(current) > 1 else None
        case = plain.case if plain is not None else several
        if case is None:
            return None
        place = self.known.places.get(case)
        if place is None:
            key = self._cases.class_key(plain, contents[0].shape) if plain is not None else None
            key = self._cases.class_key_of_several(several) if several is not None else key
            place = self._known_class(case.platform, key)
            if place is None and key is not None and plain is not None:
                place = self._new_class(plain, contents[0].shape, *key)
            place = place or self._place(device, current, [])
            bounded(self.known.places)[case] = place
        return place

    def _known_class(self, platform: str, found: tuple[str, Mapping[str, Any]] | None) -> Place | None:
        """The place of devices of a known class, by its key and words. None if only settling tells."""
        if found is None:
            return None
        key, values = found
        number = self._numbers.get(key) or store.find(self.db, key)
        return None if number is None else Place(platform, *_words_of(values), number)

    def _new_class(self, plain: PlainCase, shape: int, key: str, values: Mapping[str, Any]) -> Place:
        """Make a new class by its key and words. Its first device stands for it."""
        platform, (model, runs, edition) = plain.case.platform, _words_of(values)
        content = self._cases.class_content(plain, shape)
        number = store.number_of(self.db, key, platform, model, runs, "", content)
        self._numbers[key] = number
        return Place(platform, model, runs, edition, number)

    def cases(self, records: Sequence[Record]) -> dict[str, Hashable]:
        """The case of each of these devices that has one. Devices of the same case are of one class."""
        alone = disputes.devices(self.db, [record.id for record in records]) | self.by.own
        every = {record.id: current_contents(record) for record in records if record.id not in alone}
        kept = self.known.contents.kept(self.db, {number for mine in every.values() for _, _, number in mine})
        found: dict[str, Hashable] = {}
        for device, current in every.items():
            contents = [kept[number] for _, _, number in current]
            if _facts_only(current, contents):
                plain = self._cases.plain(current, contents[0]) if len(current) == 1 else None
                case = plain.case if plain is not None else self._cases.several(current, contents)
                if case is not None:
                    found[device] = case
        return found

    def _until(self, platform: str, current: CurrentContents, contents: Sequence[Content]) -> str | None:
        """The last day on which nothing that counts has aged out since."""
        words = zip(current, contents, strict=True)
        found = [self._last_day(platform, source, at[:10], content) for (source, at, _), content in words]
        return min((day for day in found if day is not None), default=None)

    def _last_day(self, platform: str, source: str, day: str, content: Content) -> str | None:
        """The last day on which nothing that a source read on a day has aged out since."""
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

    def _place(self, device: str, current: CurrentContents, dispute_decisions: Iterable[DisputeDecision]) -> Place:
        view = settle(self._readings(current), self.by.sources, self.by.specs, self.by.today, dispute_decisions)
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


class _Replaced(NamedTuple):
    """What readings made of devices of which they say everything that is known.

    `read`: those that stay in their class and place; `settled`: rows of others that are settled by the outcomes of
    their tests; `unsettled`: rows of those that are still to be settled. `others`: readings that replace nothing.
    """

    read: list[ReadRow]
    settled: list[Record]
    unsettled: dict[str, tuple[Record, CurrentContents]]
    others: list[NewReading]


_IN_PLACE = itemgetter(*map(Record._fields.index, Place._fields))


def _stays(row: Record, place: Place, own: Mapping[str, Any]) -> bool:
    """Whether a device in service is of this place already, and says of itself what it said."""
    if _IN_PLACE(row) != place or row.life != Life.IN_SERVICE:
        return False
    return all(getattr(row, name) == value for name, value in own.items())


def _read_row(
    row: Record, own: Mapping[str, Any], standing: Standing | None, word: str, number: int | None, last: str
) -> Record:
    """The row of a device once a reading alone speaks of it. `own` is what it says of the device itself."""
    device, name, site, role, critical, added_at, *_ = row
    place, until = standing or (Place(*_IN_PLACE(row)), row.stands_until)
    if row.life != Life.IN_SERVICE:
        place = place._replace(profile=None)
    if own:
        name, site = own.get("name", name), own.get("site", site)
        role, critical = own.get("role", role), own.get("critical", critical)
    last_import_id = number or row.last_import_id
    return Record(device, name, site, role, critical, added_at, *place, until, word, last_import_id, last, row.life)


def _words_of(values: Mapping[str, Any]) -> tuple[str, str, str]:
    """Model, release and edition of a class."""
    model, runs, edition = (str(values.get(name, "")) for name in ("machine.model", "os.release", "os.edition"))
    return model, runs, edition


def _facts_only(current: CurrentContents, contents: Iterable[Content]) -> bool:
    """Whether sources report facts only and no fix was recorded: then the device's case tells its class."""
    return not any(content.more for content in contents) and all(source != FIX for source, _, _ in current)


def _newest_text(readings: Iterable[Reading], name: str) -> str:
    naming = [r for r in readings if name in r.facts]
    return str(max(naming, key=lambda r: r.taken_at).facts[name]) if naming else ""


def place(context: Context, db: sqlite3.Connection, devices: Iterable[str]) -> None:
    """Place devices anew: their readings, decisions or sheet have changed."""
    Settler(context, db).place(devices)


def roll(context: Context) -> None:
    """Bring every device to the context's day: place anew those with a word that has aged out.

    A caller that only reads sees the day before, until a writer or the next round has done it.
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
