"""Settling: how the readings of several sources become one view of a device.

In: readings, the trust and freshness of their sources, decisions on disputes, a day. Out: a `View` with contested facts
marked.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date, datetime, timedelta
from itertools import combinations
from operator import itemgetter

from doorstone.core.facts import (
    FIX,
    Candidate,
    DisputeDecision,
    FactSpec,
    Reading,
    SettledFact,
    Source,
    Verdict,
    View,
    dump,
)


def settle(
    readings: Iterable[Reading],
    sources: Mapping[str, Source],
    specs: Mapping[str, FactSpec],
    as_of: date,
    dispute_decisions: Iterable[DisputeDecision] = (),
) -> View:
    """Settle readings into one view: per fact each source's newest, fresh ones only, by trust and then time.

    The order of `readings` does not matter. Facts without a spec are left out. Of several dispute decisions on
    one subject the last counts.
    """
    readings, dispute_decisions = list(readings), list(dispute_decisions)
    if len(readings) == 1 and readings[0].source != FIX and not readings[0].verdicts and not dispute_decisions:
        return _alone(readings[0], sources, specs, as_of)
    newest: dict[tuple[str, str], Candidate] = {}
    verdicts: dict[tuple[str, str], Verdict] = {}
    for reading in readings:
        source, taken_at = reading.source, reading.taken_at
        for name, value in reading.facts.items():
            if name in specs:
                held = newest.get((name, source))
                new = Candidate(value, source, taken_at)
                if held is None or _later(new, held):
                    newest[name, source] = new
        for requirement, passed in reading.verdicts.items():
            known = verdicts.get((requirement, reading.source))
            if known is None or (reading.taken_at, not passed) > (known.taken_at, not known.passed):
                verdicts[requirement, reading.source] = Verdict(requirement, passed, reading.source, reading.taken_at)
    last = {one.subject: one for one in sorted(dispute_decisions, key=lambda one: (one.at, one.id))}
    fixed = {name: candidate for (name, source), candidate in newest.items() if source == FIX}
    if fixed:
        newest = _since_fixes(newest, fixed)
    return _pick(newest, verdicts.values(), sources, specs, as_of, last, fixed)


def _alone(reading: Reading, sources: Mapping[str, Source], specs: Mapping[str, FactSpec], as_of: date) -> View:
    """Settle one reading that holds facts only: no other source contradicts it."""
    source, read_on = source_of(sources, reading.source), reading.taken_at.date()
    counts = {lasting: source.fresh(read_on, as_of, lasting=lasting) for lasting in (True, False)}
    facts, aged = dict[str, SettledFact](), dict[str, Candidate]()
    for name, value in sorted(reading.facts.items(), key=itemgetter(0)):
        if spec := specs.get(name):
            word = Candidate(value, reading.source, reading.taken_at)
            if counts[spec.lasting]:
                facts[name] = SettledFact(word)
            else:
                aged[name] = word
    return View(as_of, facts, aged)


def _since_fixes(
    newest: Mapping[tuple[str, str], Candidate], fixed: Mapping[str, Candidate]
) -> dict[tuple[str, str], Candidate]:
    """The words without those that a fix has made old; the word of the fix itself goes once something newer is read."""
    read = {name for (name, _), c in newest.items() if name in fixed and c.taken_at > fixed[name].taken_at}
    return {
        (name, source): candidate
        for (name, source), candidate in newest.items()
        if name not in fixed or candidate.taken_at > fixed[name].taken_at or (source == FIX and name not in read)
    }


def _later(new: Candidate, held: Candidate) -> bool:
    return (new.taken_at, repr(dump(new.value))) > (held.taken_at, repr(dump(held.value)))


def source_of(sources: Mapping[str, Source], name: str) -> Source:
    """The source of this name; one that is not configured is trusted least, and passing facts of it count 30 days."""
    return sources.get(name) or Source(name, 0)


def _pick(
    newest: Mapping[tuple[str, str], Candidate],
    verdicts: Iterable[Verdict],
    sources: Mapping[str, Source],
    specs: Mapping[str, FactSpec],
    as_of: date,
    dispute_decisions: Mapping[str, DisputeDecision],
    fixed: Mapping[str, Candidate],
) -> View:
    by_fact: dict[str, list[Candidate]] = {}
    aged: dict[str, Candidate] = {}
    fresh: dict[tuple[str, bool, datetime], bool] = {}
    for (name, source_name), candidate in newest.items():
        lasting = specs[name].lasting
        key = source_name, lasting, candidate.taken_at
        if key not in fresh:
            source = source_of(sources, source_name)
            fresh[key] = source.fresh(candidate.taken_at.date(), as_of, lasting=lasting)
        if fresh[key]:
            by_fact.setdefault(name, []).append(candidate)
        elif name not in aged or _later(candidate, aged[name]):
            aged[name] = candidate
    facts: dict[str, SettledFact] = {}
    for name in sorted(by_fact):
        candidates = by_fact[name]
        if len(candidates) == 1 and name not in dispute_decisions:
            facts[name] = SettledFact(candidates[0])  # nobody says otherwise
            continue
        ranked = sorted(
            candidates, key=lambda c: (source_of(sources, c.source).trust, c.taken_at, c.source), reverse=True
        )
        facts[name] = _settle_fact(specs[name], ranked, dispute_decisions.get(name))
    current = sorted(
        (v for v in verdicts if source_of(sources, v.source).fresh(v.taken_at.date(), as_of, lasting=False)),
        key=lambda v: (v.requirement, v.source),
    )
    times: dict[str, list[datetime]] = {}
    for verdict in current:
        times.setdefault(verdict.requirement, []).append(verdict.taken_at)
    decided = {name: r for name, r in dispute_decisions.items() if name in times and r.holds(times[name])}
    return View(as_of, facts, {n: c for n, c in aged.items() if n not in facts}, tuple(current), decided, fixed)


def _settle_fact(spec: FactSpec, ranked: list[Candidate], dispute_decision: DisputeDecision | None) -> SettledFact:
    """The most trusted word is believed, unless a dispute decision names another and nothing newer has been read since.

    Contested is what any two disagree about: of three sources two may each be close to the third.
    """
    apart = any(not spec.close(one.value, other.value) for one, other in combinations(ranked, 2))
    if dispute_decision is None or not dispute_decision.holds(c.taken_at for c in ranked):
        return SettledFact(ranked[0], tuple(ranked[1:]) if apart else ())
    agreeing = [c for c in ranked if spec.close(c.value, dispute_decision.value)]
    if not apart and agreeing:
        return SettledFact(ranked[0])
    chosen = next((c for c in agreeing if c.value == dispute_decision.value), agreeing[0] if agreeing else None)
    chosen = chosen or Candidate(dispute_decision.value, dispute_decision.by, dispute_decision.at)
    return SettledFact(chosen, (), dispute_decision, tuple(c for c in ranked if not spec.close(c.value, chosen.value)))


def spans(
    reading: Reading, sources: Mapping[str, Source], specs: Mapping[str, FactSpec], names: frozenset[str]
) -> frozenset[int]:
    """After how many days something of the reading ages out: a fact of `names`, or a verdict."""
    source = source_of(sources, reading.source)
    days = {source.lasting_days if specs[n].lasting else source.passing_days for n in reading.facts if n in names}
    if reading.verdicts:
        days.add(source.passing_days)
    return frozenset(span for span in days if span is not None)


def expired_on(sources: Mapping[str, Source], specs: Mapping[str, FactSpec], name: str, aged: Candidate) -> date | None:
    """The first day on which a value of the fact `name` no longer counted; None if it does not age."""
    source = source_of(sources, aged.source)
    days = source.lasting_days if specs[name].lasting else source.passing_days
    return None if days is None else aged.taken_at.date() + timedelta(days=days + 1)


def stands_until(words: Iterable[tuple[date, frozenset[int]]], as_of: date) -> date | None:
    """The last day on which none of the words has aged out, given as day of reading and `spans`; None if none does."""
    last = [read + timedelta(days=span) for read, days in words for span in days]
    return min((day for day in last if day >= as_of), default=None)
