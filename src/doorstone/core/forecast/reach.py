"""How a device gets to one release: offered, by exception, after a fix, by a clean install; or why it does not.

In: a platform, the device's view, the facts that earlier fixes have given, exceptions. Out: the ways, in place before
clean. The first is the way that a kit would take: what an exception names is excepted, whatever else has a fix is
fixed first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.conditions import Outcome
from doorstone.core.days import Span, meet, union
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import FactValue, View
from doorstone.core.kits.overrides import Choice, LeftOutReason, choose
from doorstone.core.platforms.platform import Fix, Platform, Route, Sort
from doorstone.core.sorting.assessment import Assessment, Decision, RequirementFinding, State, assess
from doorstone.core.sorting.fix_search import cheapest

Given = tuple[tuple[str, FactValue], ...]
"""Facts that fixes have given, by name: what a fix gives at one move is so at all later ones."""


SET_UP_ANEW = ("cpu.arch", "os.arch")
"""Facts that a clean install goes by as they are: the system gets the word size of the processor."""


class Way(StrEnum):
    """How a release is reached. `clean` is a clean install where nothing else stands in the way: data is lost."""

    OFFERED = "offered"
    CLEAN = "clean"
    BY_EXCEPTION = "by-exception"
    AFTER_FIX = "after-fix"
    NO_OVERRIDE = "no-override"
    FLOORED = "floored"
    UNKNOWN = "unknown"


POSSIBLE = frozenset({Way.OFFERED, Way.CLEAN, Way.BY_EXCEPTION, Way.AFTER_FIX})


class ReachableRelease(Struct, frozen=True):
    """How one release is reached. `checks` need an exception, `fixes` (requirement ids) are made first, by `steps`.

    `missing` are checks that no exception of the device names, `approved` the days on which every exception that the
    way takes is in force and a kit could be had. Where those are none although exceptions name every check,
    `not_approved` says why. `warnings` tell what attempts have shown of the overrides. `given` are the facts once the
    steps are made.
    """

    release: str
    way: Way
    state: State
    route: Route
    checks: tuple[str, ...] = ()
    fixes: tuple[str, ...] = ()
    overrides: tuple[str, ...] = ()
    exceptions: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    why: str = ""
    approved: tuple[Span, ...] = ()
    not_approved: str = ""
    warnings: tuple[str, ...] = ()
    steps: tuple[Fix, ...] = ()
    given: Given = ()

    @property
    def possible(self) -> bool:
        return self.way in POSSIBLE

    @property
    def by_hand(self) -> bool:
        return self.way is not Way.OFFERED

    @property
    def data_lost(self) -> bool:
        """Whether the device is wiped on the way."""
        return self.possible and self.route is Route.CLEAN


class Answers(Struct, frozen=True):
    """What a forecast asks about a device: its assessment against a release, and the overrides that would carry it.

    `assess` takes a release and the facts that fixes have given; `choose` takes release, route, the device's values,
    the checks to cover and the requirements that are excepted.
    """

    assess: Callable[[str, Given], Assessment]
    choose: Callable[[str, Route, Mapping[str, FactValue], Sequence[str], set[str]], Choice]


def own_answers(
    platform: Platform, device: str, view: View, decisions: Sequence[Decision], experience: OverrideResults = NONE
) -> Answers:
    """The answers for one device by itself."""

    def assessed(release: str, given: Given) -> Assessment:
        return assess(platform, release, given_view(platform, view, given), decisions, device)

    def chosen(
        release: str, route: Route, values: Mapping[str, FactValue], checks: Sequence[str], excepted: set[str]
    ) -> Choice:
        known = experience.at(release)
        return choose(platform, release, route, values, view.as_of, checks, excepted, alternatives=0, known=known)

    return Answers(assessed, chosen)


def given_view(platform: Platform, view: View, given: Given) -> View:
    """The view once fixes have given these facts: older verdicts on what looks at them fall away."""
    if not given:
        return view
    names = {name for name, _ in given}
    over = {r.id for r in platform.requirements if names & r.condition.facts()}
    after = view.with_values(dict(given))
    kept = tuple(verdict for verdict in view.verdicts if verdict.requirement not in over)
    return replace(after, verdicts=kept, decided={n: r for n, r in view.decided.items() if n not in over})


def ways_to(
    platform: Platform,
    view: View,
    answers: Answers,
    release: str,
    given: Given,
    exceptions: Sequence[ExceptionTerms],
) -> tuple[ReachableRelease, ...]:
    """The ways of this device to a release, the one that a kit would take first; at least one, possible or not."""
    assessment = answers.assess(release, given)
    if assessment.state in (State.UNSETTLED, State.FLOORED):
        return (_closed(assessment, given),)
    standing = [
        e for e in exceptions if e.reaches(platform, release) and e.stands and e.in_force(max(view.as_of, e.start))
    ]
    named = {name for e in standing for name in e.requirements}
    fixable = [f for f in assessment.unmet() if f.fixes]
    excepted = {f.requirement.id for f in fixable if f.sort is Sort.CHECK and f.requirement.id in named}
    found = _ways(platform, view, answers, assessment, given, exceptions, excepted)
    if excepted:
        found += _ways(platform, view, answers, assessment, given, exceptions, set())
        found.sort(key=lambda reach: not reach.possible)
    return tuple(found)


def _closed(assessment: Assessment, given: Given) -> ReachableRelease:
    """A release that the device cannot reach at present."""
    release, state = assessment.release, assessment.state
    if state is State.UNSETTLED:
        return ReachableRelease(release, Way.UNKNOWN, state, Route.IN_PLACE, why=_open_words(assessment), given=given)
    why = "; ".join(f"floor at {release}: {f.requirement.title}" for f in assessment.unmet("floor"))
    return ReachableRelease(release, Way.FLOORED, state, Route.IN_PLACE, why=why, given=given)


def _ways(
    platform: Platform,
    view: View,
    answers: Answers,
    before: Assessment,
    given: Given,
    exceptions: Sequence[ExceptionTerms],
    excepted: set[str],
) -> list[ReachableRelease]:
    """The ways on which `excepted` is not fixed although it could be, and everything else that has a fix is: in place,
    then by a clean install. One that is not possible, if none is.
    """
    release, state = before.release, before.state
    now, steps, fixed, made = before, list[Fix](), list[str](), dict(given)
    seen = {given}
    lacking = now.unmet()
    while now.state not in (State.UNSETTLED, State.FLOORED):
        to_fix = [f.requirement for f in lacking if f.fixes and f.requirement.id not in excepted]
        if not to_fix:
            break
        unmet = [f.requirement for f in lacking if not f.against]
        values = {**view.values(), **made}
        found = cheapest(to_fix, unmet, values, view.as_of)
        then = {**made, **{name: value for fix in found.fixes for name, value in fix.gives.items()}}
        reached: Given = tuple(sorted(then.items()))
        if reached in seen:
            break  # the fixes that are left undo one another
        seen.add(reached)
        made = then
        steps += found.fixes
        fixed += [r.id for r in to_fix if r.id not in fixed]
        now = answers.assess(release, reached)
        lacking = now.unmet()
    after: Given = tuple(sorted(made.items()))
    if now.state in (State.UNSETTLED, State.FLOORED):
        return [replace(_closed(now, given), state=state)]
    values = {**view.values(), **made}
    plain = ReachableRelease(
        release, Way.OFFERED, state, Route.OFFERED, (), tuple(fixed), steps=tuple(steps), given=after
    )
    undone = [f for f in lacking if f.fixes and f.requirement.id not in excepted]
    if any(f.sort is not Sort.CHECK for f in undone):
        why = f"the fixes of {' and '.join(f.requirement.title for f in undone)} undo one another at {release}"
        return [ReachableRelease(release, Way.FLOORED, state, Route.IN_PLACE, why=why, given=given)]
    checks = tuple([f.requirement.id for f in lacking])
    routes = [route for route in (Route.IN_PLACE, Route.CLEAN) if _open(platform, route, values, view)]
    if not routes:
        why = f"no route to {release} is open to this device"
        return [replace(plain, way=Way.NO_OVERRIDE, route=Route.IN_PLACE, checks=checks, why=why, steps=())]
    if checks:
        return _by_exception(platform, view, answers, now, plain, checks, exceptions, routes)
    return [
        replace(plain, way=Way.AFTER_FIX if steps else Way.OFFERED)
        if route is Route.IN_PLACE
        else _clean(replace(plain, way=Way.AFTER_FIX if steps else Way.CLEAN), values)
        for route in routes
    ]


def _clean(reach: ReachableRelease, values: Mapping[str, FactValue]) -> ReachableRelease:
    """The same way by a clean install."""
    return replace(reach, route=Route.CLEAN, given=_set_up_anew(reach.given, values))


def _set_up_anew(given: Given, values: Mapping[str, FactValue]) -> Given:
    """What a clean install gives: a system of the processor's word size, so that the next one fits in place."""
    arch = values.get("cpu.arch")
    return (
        tuple(sorted({**dict(given), "os.arch": arch}.items())) if arch is not None and "os.arch" in values else given
    )


def _open(platform: Platform, route: Route, values: Mapping[str, FactValue], view: View) -> bool:
    return all(gate.condition.outcome(values, view.as_of) is not Outcome.UNMET for gate in platform.path_gates(route))


def _by_exception(
    platform: Platform,
    view: View,
    answers: Answers,
    now: Assessment,
    plain: ReachableRelease,
    checks: tuple[str, ...],
    exceptions: Sequence[ExceptionTerms],
    routes: Sequence[Route],
) -> list[ReachableRelease]:
    """The ways by exception, one for each open route on which overrides cover every check."""
    release = now.release
    values = {**view.values(), **dict(plain.given)}
    fitting = [
        e
        for e in exceptions
        if e.reaches(platform, release) and e.requirements & set(checks) and e.in_force(max(view.as_of, e.start))
    ]
    named = {name for e in fitting for name in e.requirements}
    choices = {route: answers.choose(release, route, values, checks, named | set(checks)) for route in routes}
    if all(choice.best is None for choice in choices.values()):
        why = _uncovered_words(platform, release, choices[routes[0]])
        return [replace(plain, way=Way.NO_OVERRIDE, route=Route.IN_PLACE, checks=checks, why=why, steps=())]
    approved, why_not = _approved(checks, fitting, now.unknown)
    permitted = replace(
        plain,
        way=Way.BY_EXCEPTION,
        route=Route.IN_PLACE,
        checks=checks,
        exceptions=tuple(sorted(e.id for e in fitting)),
        missing=tuple(c for c in checks if c not in named),
        approved=approved,
        not_approved=why_not,
    )
    found = []
    for route, choice in choices.items():
        if choice.best is not None:
            reach = replace(permitted, overrides=choice.best.ids, warnings=choice.best.warnings)
            found.append(_clean(reach, values) if route is Route.CLEAN else reach)
    return found


def _uncovered_words(platform: Platform, release: str, choice: Choice) -> str:
    checks = set(choice.uncovered)
    ended = [
        f"{left.override.id} {left.why}"
        for left in choice.left_out
        if left.override.covers & checks and left.reason is LeftOutReason.ENDED
    ]
    titles = ", ".join(platform.requirement(name).title for name in choice.uncovered)
    return f"no override covers {titles} at {release}" + (f" ({'; '.join(ended)})" if ended else "")


def _open_words(assessment: Assessment) -> str:
    parts = []
    for finding in assessment.findings:
        if finding.decides and finding.mark in ("unread", "disputed", "unsorted"):
            parts.append(f"{finding.requirement.title} is {finding.mark}")
    return "; ".join(parts)


def _approved(
    checks: Iterable[str], fitting: Sequence[ExceptionTerms], unknown: Sequence[RequirementFinding]
) -> tuple[tuple[Span, ...], str]:
    """The days on which a kit could be had, by the exceptions as they are; and why on none, if something bars it."""
    if unknown:
        return (), "; ".join(f"{f.requirement.title} is {f.finding}" for f in unknown) + ": no kit is made"
    standing = [e for e in fitting if e.stands]
    spans = in_force_spans(checks, standing)
    if not spans and in_force_spans(checks, fitting):
        return (), "; ".join(f"{e.id} is stale: {e.doubt}" for e in fitting if not e.stands)
    return spans, ""


def in_force_spans(checks: Iterable[str], exceptions: Sequence[ExceptionTerms]) -> tuple[Span, ...]:
    """The stretches of days on which every check is named by some exception in force."""
    spans: list[Span] | None = None
    for check in checks:
        own = [Span(e.start, e.expiry) for e in exceptions if check in e.requirements and e.in_force(e.start)]
        merged = union(own)
        spans = merged if spans is None else meet(spans, merged)
    return tuple(spans or ())
