"""Forecast: the releases a device can reach from today, how, by when, and where it ends.

In: a platform, the device's view, decisions, exceptions, a day. Out: how each later release is reached, and
two lines of moves with the runway of each: technical (exceptions granted) and approved (exceptions as they are).

A line is a chain of moves (`chain`) over places. A place is a release, reached by one way (`reach`), with the facts
that the fixes made so far have given. One may stop over on a release that is out of servicing; its days do not count.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from msgspec import Struct, field

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.days import DAY, Span, meet
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.forecast.chain import Place, best_chain
from doorstone.core.forecast.reach import Answers, Given, ReachableRelease, Way, in_force_spans, own_answers, ways_to
from doorstone.core.platforms.platform import Fix, Platform, Release, Route, Sort
from doorstone.core.sorting.assessment import Decision, Finding

LAST_RELEASE = "last-release"
"""The kind of an end that is the end of the sheet, no fault of the device."""


class PlannedMove(Struct, frozen=True):
    """A move to `release`, possible from `first`; after `latest` days go by without servicing. `steps` are fixes."""

    release: str
    first: date
    latest: date
    way: Way
    by_hand: bool
    fixes: tuple[str, ...]
    overrides: tuple[str, ...]
    exceptions: tuple[str, ...]
    route: Route = Route.OFFERED
    steps: tuple[Fix, ...] = ()
    warnings: tuple[str, ...] = ()


class UpgradePath(Struct, frozen=True):
    """A chain of moves. `runway` is its last serviced day, None if no day is serviced; `gaps` lie inside it."""

    moves: tuple[PlannedMove, ...]
    runway: date | None
    gaps: tuple[Span, ...]
    ended_by: str
    ended_kind: str


class Forecast(Struct, frozen=True):
    """What lies ahead of a device. `unread` says why nothing does: without its edition no day of servicing is known."""

    release: str
    serviced_through: date | None
    gap_so_far: Span | None
    reaches: tuple[ReachableRelease, ...]
    technical: UpgradePath
    approved: UpgradePath
    unread: str = ""


def forecast(
    platform: Platform,
    device: str,
    view: View,
    decisions: Sequence[Decision] = (),
    exceptions: Sequence[ExceptionTerms] = (),
    answers: Answers | None = None,
    experience: OverrideResults = NONE,
) -> Forecast:
    """Forecast a device from the release that it runs (`os.release`) on the view's day, with its own `exceptions`.

    `answers` are those of a forecaster that has looked at other devices before, in place of `experience`. Raises
    `KeyError` if that release is not in the sheet.
    """
    today = view.as_of
    current = platform.release(view.text("os.release"))
    edition = edition_of(platform, view)
    asked = answers or own_answers(platform, device, view, decisions, experience)
    inputs = _Inputs(platform, view, edition, current, asked, tuple(exceptions))
    reaches = _reaches(inputs)
    if unread := _edition_unread(platform, edition):
        nothing = UpgradePath((), None, (), unread, Way.UNKNOWN.value)
        return Forecast(current.id, None, None, reaches, nothing, nothing, unread)
    ends = current.servicing_ends.get(edition)
    so_far = Span(ends + DAY, today - DAY) if ends and ends + DAY < today else None
    return Forecast(current.id, ends, so_far, reaches, _line(inputs, False), _line(inputs, True))


def edition_of(platform: Platform, view: View) -> str:
    """The edition of a device: the only one there is, or the one that was read, in small letters or large."""
    if len(platform.editions) == 1:
        return platform.editions[0]
    read = view.text("os.edition")
    return next((known for known in platform.editions if known.casefold() == read.casefold()), read)


def _edition_unread(platform: Platform, edition: str) -> str:
    if edition in platform.editions:
        return ""
    return f"The edition {edition} is not in the sheet" if edition else "The edition is unread"


class _Inputs(Struct, frozen=True):
    """One device's question, with what has been found out about it so far."""

    platform: Platform
    view: View
    edition: str
    current: Release
    answers: Answers
    exceptions: tuple[ExceptionTerms, ...]
    known: dict[tuple[str, Given], tuple[ReachableRelease, ...]] = field(default_factory=dict)

    def ways(self, release: str, given: Given) -> tuple[ReachableRelease, ...]:
        key = (release, given)
        if key not in self.known:
            self.known[key] = ways_to(self.platform, self.view, self.answers, release, given, self.exceptions)
        return self.known[key]

    def ends(self, release: str) -> date | None:
        return self.platform.release(release).servicing_ends.get(self.edition)


def _reaches(inputs: _Inputs) -> tuple[ReachableRelease, ...]:
    """How each later release is reached: in place if a chain of upgrades leads there, else by a clean install."""
    platform = inputs.platform
    linked = {inputs.current.id}
    reaches = []
    for release in platform.releases[platform.index(inputs.current.id) + 1 :]:
        ways = inputs.ways(release.id, ())
        if linked & set(release.upgrade_from):
            reaches.append(ways[0])
            if any(reach.possible and not reach.data_lost for reach in ways):
                linked.add(release.id)
        else:
            reaches.append(next((reach for reach in ways if reach.data_lost), ways[0]))
            if reaches[-1].data_lost:
                linked.add(release.id)
    return tuple(reaches)


class _Node(Struct, frozen=True):
    """A place with what it is: `reach` is None on the release that the device runs today."""

    release: str
    reach: ReachableRelease | None
    given: Given
    place: Place


def _line(inputs: _Inputs, approved_only: bool) -> UpgradePath:
    nodes, moves = _places(inputs, approved_only)
    found = best_chain([node.place for node in nodes], moves, inputs.view.as_of)
    taken = [nodes[at] for at in found.places]
    planned = tuple(
        _planned(node.reach, window) for node, window in zip(taken[1:], found.windows, strict=True) if node.reach
    )
    kind, words = _ended_by(inputs, taken[-1], found.runway, approved_only)
    return UpgradePath(planned, found.runway, found.gaps, words, kind)


def _planned(reach: ReachableRelease, window: Span) -> PlannedMove:
    return PlannedMove(
        reach.release,
        window.first,
        window.last,
        reach.way,
        reach.by_hand,
        reach.fixes,
        reach.overrides,
        reach.exceptions,
        reach.route,
        reach.steps,
        reach.warnings,
    )


def _places(inputs: _Inputs, approved_only: bool) -> tuple[list[_Node], dict[int, list[int]]]:
    """Every place that can be reached from today's release, in the order of the sheet, and the moves between them."""
    platform = inputs.platform
    start = _Node(
        inputs.current.id, None, (), Place(platform.index(inputs.current.id), (), _here(inputs, approved_only))
    )
    nodes: list[_Node] = [start]
    numbers: dict[object, int] = {}
    came: list[tuple[int, int]] = []
    by_release: dict[str, list[int]] = {inputs.current.id: [0]}
    for release in platform.releases[platform.index(inputs.current.id) + 1 :]:
        for before in platform.releases[platform.index(inputs.current.id) : platform.index(release.id)]:
            for here in by_release.get(before.id, []):
                for reach in inputs.ways(release.id, nodes[here].given):
                    place = _place(inputs, reach, release, approved_only)
                    if place is None or not (before.id in release.upgrade_from or reach.route is Route.CLEAN):
                        continue
                    key = (release.id, reach.way, reach.route, reach.checks, reach.fixes, reach.given)
                    if key not in numbers:
                        numbers[key] = len(nodes)
                        nodes.append(_Node(release.id, reach, reach.given, place))
                        by_release.setdefault(release.id, []).append(numbers[key])
                    came.append((here, numbers[key]))
    moves: dict[int, list[int]] = {}
    for here, there in came:
        moves.setdefault(here, []).append(there)
    return nodes, moves


def _here(inputs: _Inputs, approved_only: bool) -> tuple[Span, ...]:
    """The stretches on which today's release counts as serviced."""
    today, current = inputs.view.as_of, inputs.current
    ends = inputs.ends(current.id)
    if ends is None or ends < today:
        return ()
    spans = [Span(today, ends)]
    needed = _needed_here(inputs)
    if approved_only and needed:
        fitting = [e for e in inputs.exceptions if e.reaches(inputs.platform, current.id) and e.stands]
        spans = meet(spans, in_force_spans(needed, fitting))
    return tuple(spans)


def _needed_here(inputs: _Inputs) -> list[str]:
    """The checks for which today's release takes an exception. A check that is unread or disputed may be unmet."""
    findings = inputs.answers.assess(inputs.current.id, ()).findings
    return [f.requirement.id for f in findings if f.sort is Sort.CHECK and f.finding is not Finding.MET and not f.fixes]


def _place(inputs: _Inputs, reach: ReachableRelease, release: Release, approved_only: bool) -> Place | None:
    """The place that a way leads to; None if it cannot be taken, or if the edition has no days of servicing there."""
    ends = inputs.ends(release.id)
    if not reach.possible or ends is None:
        return None
    entry = [Span(max(inputs.view.as_of, release.published), date.max)]
    serviced = [Span(max(inputs.view.as_of, release.published), ends)] if ends >= release.published else []
    if approved_only and reach.way is Way.BY_EXCEPTION:
        entry, serviced = meet(entry, reach.approved), meet(serviced, reach.approved)
        if not entry:
            return None
    serviced = [span for span in serviced if span.first <= span.last]
    return Place(inputs.platform.index(release.id), tuple(entry), tuple(serviced), reach.by_hand, reach.data_lost)


def _ended_by(inputs: _Inputs, last: _Node, runway: date | None, approved_only: bool) -> tuple[str, str]:
    """What ends the line: the lapse of an exception, else the first release that would carry it further and why not."""
    ends = inputs.ends(last.release)
    if approved_only and runway is not None and ends is not None and runway < ends:
        needed = set(last.reach.checks) if last.reach else set(_needed_here(inputs))
        lapsing = sorted(
            e.id
            for e in inputs.exceptions
            if e.expiry == runway and e.requirements & needed and e.reaches(inputs.platform, last.release)
        )
        return "lapse", f"exception {' and '.join(lapsing) or 'cover'} lapses on {runway}"
    platform = inputs.platform
    beyond = runway or inputs.view.as_of - DAY
    for release in platform.releases[platform.index(inputs.current.id) + 1 :]:
        further = inputs.ends(release.id)
        if further is None or further < release.published or further <= beyond:
            continue
        if release.id == last.release:
            continue
        return _why_not_further(inputs, last, release, runway, approved_only)
    if runway is None and ends is not None and ends < inputs.view.as_of:
        return LAST_RELEASE, f"servicing of {last.release} ended on {ends}, and no later release is serviced"
    if approved_only and runway is None and (unnamed := _needed_here(inputs)):
        titles = ", ".join(platform.requirement(name).title for name in unnamed)
        return "not-approved", f"{inputs.current.id} needs an exception in force for {titles}"
    serviced = [known.id for known in platform.releases if known.servicing_ends]
    return LAST_RELEASE, f"{serviced[-1] if serviced else last.release} is the last release of the sheet"


def _why_not_further(
    inputs: _Inputs, last: _Node, release: Release, runway: date | None, approved_only: bool
) -> tuple[str, str]:
    """Why a release that is serviced longer does not carry the line on."""
    reach = inputs.ways(release.id, last.given)[0]
    if not reach.possible:
        return reach.way.value, reach.why
    if approved_only and (words := _not_approved(inputs, reach, runway)):
        return "not-approved", words
    between = [
        inputs.platform.release(name)
        for name in release.upgrade_from
        if inputs.platform.index(name) > inputs.platform.index(inputs.current.id) and name != last.release
    ]
    for stop in reversed(between):
        way = inputs.ways(stop.id, last.given)[0]
        if approved_only and way.possible and (words := _not_approved(inputs, way, None)):
            return "not-approved", f"{release.id} is reached from {stop.id}, and {words}"
        if not way.possible:
            return "no-path", f"no upgrade path from {last.release} to {release.id}: {way.why}"
    return "no-path", f"no upgrade path from {last.release} to {release.id}"


def _not_approved(inputs: _Inputs, reach: ReachableRelease, runway: date | None) -> str:
    """Why no approval carries the device to a release after `runway`. Empty if one does."""
    if reach.way is not Way.BY_EXCEPTION:
        return ""
    if reach.not_approved:
        return f"{reach.release}: {reach.not_approved}"
    if any(span.last >= max(inputs.view.as_of, runway or inputs.view.as_of) for span in reach.approved):
        return ""
    names = [inputs.platform.requirement(name).title for name in reach.missing or reach.checks]
    after = f" after {runway}" if runway is not None and not reach.missing and reach.approved else ""
    return f"{reach.release} needs an exception in force for {', '.join(names)}{after}"
