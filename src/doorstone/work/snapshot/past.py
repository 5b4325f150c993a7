"""How devices stood in the past, from the history that is kept: readings, revisions of sheets, decisions, exceptions.

A device of which one reading alone decided its class is looked up by its class; others are settled again on each day
on which something changed, the latest first, until a day on which they were covered.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date, datetime, time, timedelta
from typing import NamedTuple

from msgspec import Struct

from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import view_of
from doorstone.core.exceptions.conditions import by_facts
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, shown, stale_because
from doorstone.core.exceptions.run import DAY, Began, PastState, Permission, Run, present_run
from doorstone.core.facts import Reading, View
from doorstone.core.platforms.platform import Platform, Sort
from doorstone.core.readings.history import PastReading
from doorstone.core.readings.settle import settle, source_of
from doorstone.core.sorting.assessment import Decision, assess, findings_of, since_fixes
from doorstone.store import ledger as ledger_store
from doorstone.store import platforms as sheet_store
from doorstone.store import sorting as decision_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.readings import history as history_store
from doorstone.store.sorting import DecisionRow
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.contents import batches
from doorstone.work.snapshot.settling import Settler, decision_of
from doorstone.work.snapshot.sheets import parsed
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.staleness import conditions_of, stale_reasons

LONG_AGO = date(1900, 1, 1)


class Asked(NamedTuple):
    """A device that runs a release with checks unmet today; `added` is the day on which it was first on record."""

    device: str
    profile: int
    release: str
    checks: frozenset[str]
    added: date
    held: tuple[ExceptionTerms, ...] = ()


class _Rules(Struct, frozen=True):
    """What sorted devices from a day on: the sheet as it was, and the decisions in force."""

    since: date
    platform: Platform
    decisions: tuple[Decision, ...]
    by: Began


class PastOf:
    """The past of the devices of one platform."""

    def __init__(self, db: sqlite3.Connection, now: Snapshot, platform: Platform) -> None:
        self._db, self._now, self._platform = db, now, platform
        self._rules = list(self._every_rule())
        self._names = Classifier(platform, now.today).names
        self._settler = Settler(now.context, db, by=now.rules)
        self._by_class: dict[tuple[int, str], list[PastState] | None] = {}
        self._ends: dict[int, tuple[date, date, Began] | None] = {}

    def runs(self, asked: Iterable[Asked]) -> Iterator[tuple[Asked, Run | None]]:
        """The present run without permission of each device; None for one that is covered."""
        for part in batches(asked, 1_000):
            first = history_store.first_changes(self._db, [one.device for one in part])
            by_class = {one.device for one in part if self._by_one_reading(one, first.get(one.device))}
            by_class -= self._otherwise_than_approved([one for one in part if one.device in by_class])
            others = [one.device for one in part if one.device not in by_class]
            past = history_store.readings(self._db, others) if others else {}
            for one in part:
                states, whole = None, True
                if one.device in by_class:
                    read = date.fromisoformat(first[one.device].day)
                    whole = read <= one.added
                    states = self._states_of_class(one.profile, one.release, read)
                    if states is not None:
                        yield one, present_run(states, self._permissions(one, ()), self._now.today, whole=whole)
                        continue
                    past |= history_store.readings(self._db, [one.device])
                yield one, self._run_of_device(one, past.get(one.device, []))

    def _by_one_reading(self, one: Asked, first: history_store.FirstChange | None) -> bool:
        """Whether the class of a device was decided by one reading, and nothing of it is in doubt."""
        return first is not None and first.readings == 1 and not any(e.doubt for e in one.held)

    def _otherwise_than_approved(self, asked: Sequence[Asked]) -> set[str]:
        """The devices that are not what an exception that ended was approved for.

        It may have gone stale before it ended, by a reading that moved no answer.
        """
        ended: dict[str, tuple[ExceptionTerms, list[str]]] = {}
        for one in asked:
            for terms in one.held:
                if not terms.in_force(self._now.today) and self._days_of(terms) is not None:
                    ended.setdefault(terms.id, (terms, []))[1].append(one.device)
        found: set[str] = set()
        for name, (terms, devices) in ended.items():
            number = number_of("EX", name)
            approved = exception_store.shown_of(self._db, number, devices)
            conditions = exception_store.fact_conditions(self._db, [number]).get(number, [])
            asked_for = sorted(terms.requirements)
            found |= stale_reasons(self._now, terms.platform, terms.release, asked_for, conditions, approved).keys()
        return found

    # ------------------------------------------------------------------ rules

    def _every_rule(self) -> Iterator[_Rules]:
        """The rules from each day on which the sheet or a decision changed, the earliest first."""
        rows = decision_store.every(self._db, self._platform.id)
        sheets = [
            (_day(row.loaded_at), parsed(row.text, tuple(sorted(row.lists.items())), row.platform))
            for row in sheet_store.revisions(self._db, self._platform.id)
        ]
        loaded = {day for day, _ in sheets[1:]}
        decided = {_day(at) for row in rows for at in (row.at, row.withdrawn_at) if at}
        for day in sorted({LONG_AGO, *loaded, *decided}):
            fitting = [platform for at, platform in sheets if at <= day] or [sheets[0][1]]
            platform = self._platform if fitting[-1] is sheets[-1][1] else fitting[-1]
            in_force = tuple(decision_of(row) for row in rows if _in_force(row, day))
            yield _Rules(day, platform, in_force, Began.SHEET if day in loaded else Began.DECISION)

    def _rules_on(self, day: date) -> _Rules:
        return next(rules for rules in reversed(self._rules) if rules.since <= day)

    # ------------------------------------------------------------------ by class

    def _states_of_class(self, profile: int, release: str, read: date) -> list[PastState] | None:
        """The states of a device of a class since its reading; None if an earlier sheet looks at other facts."""
        key = profile, release
        if key not in self._by_class:
            self._by_class[key] = self._by_rules(profile, release)
        states = self._by_class[key]
        if states is None:
            return None
        later = [state for state in states if state.since > read]
        earlier = [state for state in states if state.since <= read]
        checks = earlier[-1].checks if earlier else frozenset[str]()
        return [PastState(read, release, checks, Began.READING), *later]

    def _by_rules(self, profile: int, release: str) -> list[PastState] | None:
        content = profile_store.contents(self._db, [profile])[profile]
        found = []
        for rules in self._rules:
            if not (Classifier(rules.platform, self._now.today).names <= self._names):
                return None
            specs = {**self._now.specs, **rules.platform.specs}
            view = view_of(content, specs, max(rules.since, LONG_AGO))
            found.append(_state(rules, view, release, str(content["own"]), rules.by, rules.since))
        return found

    # ----------------------------------------------------------------- by device

    def _run_of_device(self, one: Asked, past: Sequence[PastReading]) -> Run | None:
        """The run of a device, settled again on each day of a change until one on which it was covered."""
        days = self._change_days(past)
        if not days:
            state = PastState(one.added, one.release, one.checks, Began.READING)
            return present_run([state], self._permissions(one, past), self._now.today, whole=False)
        whole, permissions = days[0] <= one.added, self._permissions(one, past)
        states: list[PastState] = []
        for at, day in reversed(list(enumerate(days))):
            before = self._state_on(one.device, past, days[at - 1]) if at else None
            states.insert(0, self._state_on(one.device, past, day, before))
            if at == len(days) - 1:  # today's answer is known
                states[0] = PastState(day, one.release, one.checks, states[0].by)
            run = present_run(states, permissions, self._now.today, whole=at > 0 or whole)
            if run is None or run.since > day:
                return run
        return run

    def _change_days(self, past: Sequence[PastReading]) -> list[date]:
        """The days on which the state of a device may have changed, the earliest first."""
        if not past:
            return []
        read = sorted({(reading.source, _day(reading.taken_at)) for reading in past})
        days = {_day(reading.taken_at) for reading in past if reading.changed}
        first = min(day for _, day in read)
        days |= {first, *(rules.since for rules in self._rules if rules.since > first)}
        for source, day in read:  # a passing fact no longer counts once nothing newer was read
            span = source_of(self._now.rules.sources, source).passing_days
            if span is not None and not any(s == source and day < d <= day + timedelta(span + 1) for s, d in read):
                days.add(day + timedelta(days=span + 1))
        return sorted(day for day in days if day <= self._now.today)

    def _view_on(self, device: str, past: Sequence[PastReading], day: date) -> View:
        """The device as its readings of the time until a day settle."""
        newest: dict[tuple[str, int], str] = {}
        for reading in past:
            if _day(reading.taken_at) <= day:
                key = reading.source, reading.content
                newest[key] = max(newest.get(key, ""), reading.taken_at)
        kept = self._settler.known.contents.kept(self._db, {number for _, number in newest})
        readings: list[Reading] = [
            self._settler._reading(source, at, number, kept[number]) for (source, number), at in newest.items()
        ]
        end = datetime.combine(day, time.max)
        decided = [one for one in self._settler.dispute_decisions(device) if one.at <= end]
        view = settle(readings, self._now.rules.sources, self._now.specs, day, decided)
        return since_fixes(self._rules_on(day).platform, view)

    def _state_on(
        self, device: str, past: Sequence[PastReading], day: date, before: PastState | None = None
    ) -> PastState:
        rules, view = self._rules_on(day), self._view_on(device, past, day)
        runs = view.text("os.release")
        by = Began.READING
        if before is not None and before.release != runs:
            by = Began.UPGRADE
        elif rules.since == day and not any(r.changed and _day(r.taken_at) == day for r in past):
            by = rules.by
        return _state(rules, view, runs, device, by, day)

    # ---------------------------------------------------------------- permissions

    def _permissions(self, one: Asked, past: Sequence[PastReading]) -> list[Permission]:
        """The days on which the exceptions of a device permitted something."""
        found = []
        for terms in one.held:
            days = self._days_of(terms)
            if days is None:
                continue
            first, last, by = days
            releases = frozenset(r.id for r in self._platform.releases if terms.reaches(self._platform, r.id))
            stale = None
            if terms.in_force(self._now.today) and terms.doubt:
                stale = self.stale_since(one.device, terms, past)
            elif terms.in_force(self._now.today) and one.release not in releases:
                until = self._last_day_on(releases, one.device, past)
                stale = self.stale_since(one.device, terms, past, until) if until else None
            elif last < self._now.today:
                stale = self.stale_since(one.device, terms, past, last)
            if stale is not None:
                last, by = stale - DAY, Began.STALE
            if first <= last:
                found.append(Permission(terms.id, terms.requirements, releases, first, last, by))
        return found

    def _last_day_on(self, releases: Collection[str], device: str, past: Sequence[PastReading]) -> date | None:
        """The last day on which a device ran one of these releases; None if it never did."""
        days = self._change_days(past)
        for at in reversed(range(len(days))):
            if self._view_on(device, past, days[at]).text("os.release") in releases:
                return days[at + 1] - DAY if at + 1 < len(days) else self._now.today
        return None

    def _days_of(self, terms: ExceptionTerms) -> tuple[date, date, Began] | None:
        """The first and the last day of an exception that was approved once, and how it ended or will end."""
        number = number_of("EX", terms.id)
        if number not in self._ends:
            self._ends[number] = self._read_days(number, terms)
        return self._ends[number]

    def _read_days(self, number: int, terms: ExceptionTerms) -> tuple[date, date, Began] | None:
        approved = exception_store.approved_on(self._db, number)
        if approved is None or terms.state in (
            ExceptionState.REQUESTED,
            ExceptionState.DECLINED,
            ExceptionState.WITHDRAWN,
        ):
            return None
        last, by = terms.expiry, Began.LAPSED
        ended = exception_store.ended(self._db, [number]).get(number)
        if ended is not None and ended <= last and terms.state in (ExceptionState.REVOKED, ExceptionState.CLOSED):
            last = ended - DAY
            by = Began.REVOKED if terms.state is ExceptionState.REVOKED else Began.CLOSED
        return max(terms.start, approved), last, by

    def stale_since(
        self, device: str, terms: ExceptionTerms, past: Sequence[PastReading], until: date | None = None
    ) -> date | None:
        """The first day of the time, lasting until today or another day, in which an approval does not apply to a
        device; None if it applied on that day.
        """
        until, number = until or self._now.today, number_of("EX", terms.id)
        approved = exception_store.shown_of(self._db, number, [device]).get(device, {})
        wanted = {name: part for name, part in approved.items() if name in terms.requirements}
        rows = exception_store.fact_conditions(self._db, [number]).get(number, [])
        kept = [conditions_of(row, self._platform) for row in rows]
        shown_on = _day(ledger_store.last_action(self._db, "exception", terms.id, CONFIRMED) or "")
        days = sorted(
            {shown_on, *(_day(r.taken_at) for r in past), *self._change_days(past)} - {LONG_AGO}, reverse=True
        )
        since = until if until == self._now.today else None
        if since is None and not any(shown_on < day <= until for day in days):
            return None
        for day in (day for day in days if shown_on <= day <= until):
            view, rules = self._view_on(device, past, day), self._rules_on(day)
            if not rules.platform.has(terms.release):
                since = day
                continue
            findings = findings_of(
                rules.platform, terms.release, view, rules.decisions, device, sorted(terms.requirements)
            )
            seen = shown(findings, view.values(), {**self._now.specs, **rules.platform.specs})
            if not stale_because(wanted, seen, self._now.specs) and all(by_facts(one, view).holds for one in kept):
                break
            since = day
        return since


CONFIRMED = ("exception approved", "exception confirmed")


def stale_days(db: sqlite3.Connection, now: Snapshot, exception: int, devices: Iterable[str]) -> dict[str, date]:
    """Device -> the first day of the present time in which the approval of an exception does not apply to it."""
    terms = now.exception(id_of("EX", exception))
    sheet = now.sheets.get(terms.platform)
    if sheet is None:
        return dict.fromkeys(devices, now.today)
    past = PastOf(db, now, sheet.platform)
    named = sorted(devices)
    read = history_store.readings(db, named)
    return {device: past.stale_since(device, terms, read.get(device, [])) or now.today for device in named}


def _state(rules: _Rules, view: View, release: str, device: str, by: Began, since: date) -> PastState:
    if not rules.platform.has(release):
        return PastState(since, release, frozenset(), by)
    unmet = assess(rules.platform, release, view, rules.decisions, device).unmet()
    return PastState(since, release, frozenset(f.requirement.id for f in unmet if f.sort is Sort.CHECK), by)


def _in_force(row: DecisionRow, day: date) -> bool:
    return _day(row.at) <= day and (row.withdrawn_at is None or _day(row.withdrawn_at) > day)


def _day(at: str) -> date:
    return date.fromisoformat(at[:10]) if at else LONG_AGO
