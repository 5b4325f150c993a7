"""Forecast: the releases a device can reach from today, how, by when, and where it ends.

In: a platform, the device's view, decisions, exceptions, a day. Out: how each later release is reached, and
two lines of moves with the runway of each: technical (exceptions granted) and approved (exceptions as they are).

A line is searched over stays. A stay is a stretch of days on which the device may be on a release and counts as
serviced there; moving to it is possible from its first day on. Along a line stays are entered in order, so a day
counts as serviced when any stay of the line holds it. The line taken is the least of (last serviced day, latest
first; days without servicing; moves by hand; moves; releases, earliest first).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from doorstone.core.exceptions import ExceptionTerms
from doorstone.core.facts import FactValue, View
from doorstone.core.overrides import Choice, choose
from doorstone.core.platforms import Platform, Release, Route, Sort
from doorstone.core.sorting import Assessment, Decision, State, assess, fixed_view

DAY = timedelta(days=1)


class Way(StrEnum):
    """How a release is reached."""

    OFFERED = "offered"
    BY_EXCEPTION = "by-exception"
    AFTER_FIX = "after-fix"
    NO_OVERRIDE = "no-override"
    FLOORED = "floored"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Span:
    """Days from `first` through `last`."""

    first: date
    last: date

    @property
    def days(self) -> int:
        return (self.last - self.first).days + 1


@dataclass(frozen=True, slots=True)
class Reach:
    """How one release is reached. `checks` need an exception, `fixes` (requirement ids) are made first."""

    release: str
    way: Way
    state: State
    route: Route
    checks: tuple[str, ...] = ()
    fixes: tuple[str, ...] = ()
    overrides: tuple[str, ...] = ()
    exceptions: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()  # checks that no exception of this device names
    why: str = ""
    approved: tuple[Span, ...] = ()  # days on which every exception it needs is in force

    @property
    def possible(self) -> bool:
        return self.way in (Way.OFFERED, Way.BY_EXCEPTION, Way.AFTER_FIX)


@dataclass(frozen=True, slots=True)
class PlannedMove:
    """A move to `release`, possible from `first`; after `latest` days go by without servicing."""

    release: str
    first: date
    latest: date
    way: Way
    by_hand: bool
    fixes: tuple[str, ...]
    overrides: tuple[str, ...]
    exceptions: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Line:
    """A chain of moves. `runway` is its last serviced day, None if no day is serviced; `gaps` lie inside it."""

    moves: tuple[PlannedMove, ...]
    runway: date | None
    gaps: tuple[Span, ...]
    ended_by: str
    ended_kind: str


@dataclass(frozen=True, slots=True)
class Forecast:
    release: str
    serviced_through: date | None
    gap_so_far: Span | None
    reaches: tuple[Reach, ...]
    technical: Line
    approved: Line


@dataclass(frozen=True, slots=True)
class _Stay:
    reach: Reach | None  # None on the release that the device runs today
    release: str
    span: Span


@dataclass(frozen=True, slots=True)
class Answers:
    """What a forecast asks about a device: its assessment against a release, and the overrides that would carry it.

    `choose` takes release, route, the device's values, the checks to cover and the requirements that are excepted.
    """

    assess: Callable[[str], Assessment]
    choose: Callable[[str, Route, Mapping[str, FactValue], Sequence[str], set[str]], Choice]


_Rank = tuple[int, int, int, int, tuple[int, ...]]


def forecast(
    platform: Platform,
    device: str,
    view: View,
    decisions: Sequence[Decision] = (),
    exceptions: Sequence[ExceptionTerms] = (),
    answers: Answers | None = None,
) -> Forecast:
    """Forecast a device from the release that it runs (`os.release`) on the view's day, with its own `exceptions`.

    `answers` are those of a forecaster that has looked at other devices before. Raises `KeyError` if that release is
    not in the sheet.
    """
    today = view.as_of
    current = platform.release(view.text("os.release"))
    edition = view.text("os.edition", platform.editions[0])
    own = list(exceptions)
    later = platform.releases[platform.index(current.id) + 1 :]
    answers = answers or _answers(platform, device, view, decisions)
    reaches = tuple(_reach(platform, view, answers, release.id, own) for release in later)
    here = answers.assess(current.id)
    needed = [f.requirement.id for f in here.unmet() if f.sort is Sort.CHECK and not f.fixes]
    ends = current.servicing_ends.get(edition)
    so_far = Span(ends + DAY, today - DAY) if ends and ends + DAY < today else None

    def line(approved_only: bool) -> Line:
        start = _spans_here(platform, current, ends, today, needed, own if approved_only else None)
        stays = {r.release: _stays(platform, r, edition, today, approved_only) for r in reaches}
        return _best_line(platform, current, edition, start, stays, reaches, today, own if approved_only else None)

    return Forecast(current.id, ends, so_far, reaches, line(False), line(True))


def _answers(platform: Platform, device: str, view: View, decisions: Sequence[Decision]) -> Answers:
    def chosen(
        release: str, route: Route, values: Mapping[str, FactValue], checks: Sequence[str], excepted: set[str]
    ) -> Choice:
        return choose(platform, release, route, values, view.as_of, checks, excepted, alternatives=0)

    return Answers(lambda release: assess(platform, release, view, decisions, device), chosen)


def _reach(
    platform: Platform, view: View, answers: Answers, release: str, exceptions: Sequence[ExceptionTerms]
) -> Reach:
    """How this device gets to one release, in-place before clean."""
    assessment = answers.assess(release)
    state = assessment.state
    if state is State.CLEAR:
        return Reach(release, Way.OFFERED, state, Route.OFFERED)
    if state is State.UNSETTLED:
        return Reach(release, Way.UNKNOWN, state, Route.IN_PLACE, why=_open_words(assessment))
    if state is State.FLOORED:
        floors = assessment.unmet("floor")
        why = "; ".join(f"floor at {release}: {f.requirement.title}" for f in floors)
        return Reach(release, Way.FLOORED, state, Route.IN_PLACE, why=why)
    fixes = tuple(f.requirement.id for f in assessment.unmet("fixable"))
    if state is State.FIXABLE:
        return Reach(release, Way.AFTER_FIX, state, Route.OFFERED, fixes=fixes)
    return _by_exception(platform, view, answers, assessment, fixes, exceptions)


def _by_exception(
    platform: Platform,
    view: View,
    answers: Answers,
    assessment: Assessment,
    fixes: tuple[str, ...],
    exceptions: Sequence[ExceptionTerms],
) -> Reach:
    release, state = assessment.release, assessment.state
    checks = tuple(f.requirement.id for f in assessment.unmet("installer-check"))
    values = fixed_view(view, assessment.unmet("fixable")).values()
    fitting = [
        e
        for e in exceptions
        if e.reaches(platform, release) and e.requirements & set(checks) and e.in_force(max(view.as_of, e.start))
    ]
    named = {name for e in fitting for name in e.requirements}
    for route in (Route.IN_PLACE, Route.CLEAN):
        choice = answers.choose(release, route, values, checks, named | set(checks))
        if choice.best is not None:
            return Reach(
                release,
                Way.BY_EXCEPTION,
                state,
                route,
                checks,
                fixes,
                choice.best.ids,
                tuple(sorted(e.id for e in fitting)),
                tuple(c for c in checks if c not in named),
                approved=_in_force_spans(checks, fitting),
            )
        if route is Route.IN_PLACE:
            first = choice
    return Reach(
        release, Way.NO_OVERRIDE, state, Route.IN_PLACE, checks, fixes, why=_uncovered_words(platform, release, first)
    )


def _uncovered_words(platform: Platform, release: str, choice: Choice) -> str:
    checks = set(choice.uncovered)
    ended = [
        f"{left.override.id} {left.why}"
        for left in choice.left_out
        if left.override.covers & checks and left.why.startswith("ended")
    ]
    titles = ", ".join(platform.requirement(name).title for name in choice.uncovered)
    return f"no override covers {titles} at {release}" + (f" ({'; '.join(ended)})" if ended else "")


def _open_words(assessment: Assessment) -> str:
    parts = []
    for finding in assessment.findings:
        if finding.deciding and finding.mark in ("unread", "disputed", "unsorted"):
            parts.append(f"{finding.requirement.title} is {finding.mark}")
    return "; ".join(parts)


def _in_force_spans(checks: Iterable[str], exceptions: Sequence[ExceptionTerms]) -> tuple[Span, ...]:
    """The stretches of days on which every check is named by some exception in force."""
    spans: list[Span] | None = None
    for check in checks:
        own = [Span(e.start, e.expiry) for e in exceptions if check in e.requirements and e.in_force(e.start)]
        merged = _union(own)
        spans = merged if spans is None else _meet(spans, merged)
    return tuple(spans or ())


def _union(spans: Iterable[Span]) -> list[Span]:
    merged: list[Span] = []
    for span in sorted(spans, key=lambda s: (s.first, s.last)):
        if merged and span.first <= merged[-1].last + DAY:
            merged[-1] = Span(merged[-1].first, max(merged[-1].last, span.last))
        else:
            merged.append(span)
    return merged


def _meet(one: Iterable[Span], other: Sequence[Span]) -> list[Span]:
    pairs = ((a, b) for a in one for b in other)
    return [
        Span(max(a.first, b.first), min(a.last, b.last))
        for a, b in pairs
        if max(a.first, b.first) <= min(a.last, b.last)
    ]


def _spans_here(
    platform: Platform,
    current: Release,
    ends: date | None,
    today: date,
    needed: Sequence[str],
    exceptions: Sequence[ExceptionTerms] | None,
) -> tuple[_Stay, ...]:
    """The stretches on which today's release counts as serviced; `exceptions` None means granted."""
    if ends is None or ends < today:
        return ()
    spans = [Span(today, ends)]
    if exceptions is not None and needed:
        fitting = [e for e in exceptions if e.reaches(platform, current.id)]
        spans = _meet(spans, _in_force_spans(needed, fitting))
    return tuple(_Stay(None, current.id, span) for span in spans)


def _stays(platform: Platform, reach: Reach, edition: str, today: date, approved_only: bool) -> tuple[_Stay, ...]:
    release = platform.release(reach.release)
    ends = release.servicing_ends.get(edition)
    if not reach.possible or ends is None:
        return ()
    first = max(today, release.published)
    if ends < first:
        return ()
    spans = [Span(first, ends)]
    if approved_only and reach.way is Way.BY_EXCEPTION:
        spans = _meet(spans, reach.approved)
    return tuple(_Stay(reach, reach.release, span) for span in spans)


def _best_line(
    platform: Platform,
    current: Release,
    edition: str,
    start: tuple[_Stay, ...],
    stays: Mapping[str, tuple[_Stay, ...]],
    reaches: Sequence[Reach],
    today: date,
    exceptions: Sequence[ExceptionTerms] | None,
) -> Line:
    best: tuple[_Rank, tuple[_Stay, ...]] | None = None

    def go(chain: tuple[_Stay, ...], release: str, arrived: date) -> None:
        nonlocal best
        rank = _rank(platform, chain, today)
        if best is None or rank < best[0]:
            best = rank, chain
        for name, options in stays.items():
            if name == release:
                continue
            if release not in platform.release(name).upgrade_from:
                continue
            for stay in options:
                if stay.span.last >= arrived:
                    go((*chain, stay), name, max(arrived, stay.span.first))

    go(start, current.id, today)
    assert best is not None
    chain = best[1]
    moves = _moves(chain, today)
    serviced = _union(s.span for s in chain)
    runway = serviced[-1].last if serviced else None
    kind, words = _ended_by(platform, edition, chain, current.id, runway, stays, reaches, exceptions)
    return Line(moves, runway, _gaps(serviced, today), words, kind)


def _rank(platform: Platform, chain: Sequence[_Stay], today: date) -> _Rank:
    serviced = _union(stay.span for stay in chain)
    runway = serviced[-1].last.toordinal() if serviced else 0
    gap = sum(span.days for span in _gaps(serviced, today))
    moves = _moves(chain, today)
    order = tuple(platform.index(move.release) for move in moves)
    return (-runway, gap, sum(move.by_hand for move in moves), len(moves), order)


def _gaps(serviced: Sequence[Span], today: date) -> tuple[Span, ...]:
    """The stretches from today to the last serviced day on which no stay holds."""
    gaps = []
    free = today
    for span in serviced:
        if span.first > free:
            gaps.append(Span(free, span.first - DAY))
        free = max(free, span.last + DAY)
    return tuple(gaps)


def _moves(chain: Sequence[_Stay], today: date) -> tuple[PlannedMove, ...]:
    """The moves along a chain. A fix made for one move stays made, so a later move with it is not by hand."""
    moves = []
    arrived, latest_before, fixed = today, today, frozenset[str]()
    for stay in chain:
        first = max(arrived, stay.span.first)
        if stay.reach is not None:
            fixes = tuple(name for name in stay.reach.fixes if name not in fixed)
            fixed |= set(fixes)
            way = stay.reach.way
            if way is Way.AFTER_FIX and not fixes:
                way = Way.OFFERED
            moves.append(
                PlannedMove(
                    stay.release,
                    first,
                    max(first, min(latest_before, stay.span.last)),
                    way,
                    way is not Way.OFFERED,
                    fixes,
                    stay.reach.overrides,
                    stay.reach.exceptions,
                )
            )
        arrived = first
        latest_before = stay.span.last
    return tuple(moves)


def _ended_by(
    platform: Platform,
    edition: str,
    chain: Sequence[_Stay],
    current: str,
    runway: date | None,
    stays: Mapping[str, tuple[_Stay, ...]],
    reaches: Sequence[Reach],
    exceptions: Sequence[ExceptionTerms] | None,
) -> tuple[str, str]:
    """What ends the line: the lapse of an exception, else the first release that would carry it further and why not."""
    last = chain[-1] if chain else None
    release = last.release if last else current
    ends = platform.release(release).servicing_ends.get(edition)
    if exceptions is not None and runway is not None and ends is not None and runway < ends:
        lapsing = sorted(e.id for e in exceptions if e.expiry == runway and e.in_force(runway))
        return "lapse", f"exception {' and '.join(lapsing) or 'cover'} lapses on {runway}"
    for reach in reaches:
        further = platform.release(reach.release).servicing_ends.get(edition)
        if further is None or (runway is not None and further <= runway):
            continue
        if not reach.possible:
            return reach.way.value, reach.why
        if not stays[reach.release]:
            names = [platform.requirement(name).title for name in reach.missing or reach.checks]
            return "not-approved", f"{reach.release} needs an exception in force for {', '.join(names)}"
        return "no-path", f"no upgrade path from {release} to {reach.release}"
    serviced = [known.id for known in platform.releases if known.servicing_ends]
    return "last-release", f"{serviced[-1] if serviced else release} is the last release of the sheet"
