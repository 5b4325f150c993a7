"""Sorting: each requirement's finding on a device, the sort of each unmet one, and the device's state.

In: a platform, a release, a settled view of the device, the decisions taken. Out: an `Assessment`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.conditions import LeafReport, Outcome
from doorstone.core.facts import DisputeDecision, Verdict, View
from doorstone.core.platforms.platform import Fix, Platform, Requirement, Sort
from doorstone.core.sorting.fix_search import fixes_for, openers


class Finding(StrEnum):
    MET = "met"
    UNMET = "unmet"
    UNREAD = "unread"
    DISPUTED = "disputed"


class State(StrEnum):
    """How a device stands at a release, the best first. `excepted`: exceptions in force name all that is unmet."""

    CLEAR = "clear"
    FIXABLE = "fixable"
    EXCEPTED = "excepted"
    NEEDS_EXCEPTION = "needs-exception"
    FLOORED = "floored"
    UNSETTLED = "unsettled"


_LEVEL = {State.CLEAR: 0, State.FIXABLE: 1, State.NEEDS_EXCEPTION: 2, State.FLOORED: 3}
_BY_LEVEL = {level: state for state, level in _LEVEL.items()}


class Scope(StrEnum):
    """What a decision is for, the narrowest first."""

    DEVICE = "device"
    MODEL = "model"
    RELEASE = "release"


class Decision(Struct, frozen=True):
    """An administrator's word on a requirement's sort. `target` is a device id, a model, or nothing for a release."""

    id: str
    requirement: str
    release: str
    scope: Scope
    target: str
    sort: Sort
    evidence: str
    note: str
    by: str
    at: datetime


class Rival(Struct, frozen=True):
    """One side of a dispute: the value a source reports and the outcome that value gives."""

    fact: str
    value: str
    source: str
    taken_at: datetime
    outcome: Outcome


class SortWord(Struct, frozen=True):
    """One word in the order of precedence: who speaks (device, model, release, sheet), what it says, by which id."""

    level: str
    sort: Sort | None
    decision: str = ""


class RequirementFinding(Struct, frozen=True):
    """One requirement on one device. `sort` stands only where it matters: on anything not met."""

    requirement: Requirement
    finding: Finding
    sort: Sort | None
    sorted_by: str
    leaves: tuple[LeafReport, ...]
    fixes: tuple[Fix, ...] = ()
    rivals: tuple[Rival, ...] = ()
    against: tuple[Verdict, ...] = ()
    decides: bool = True
    dispute_decisions: tuple[DisputeDecision, ...] = ()
    words: tuple[SortWord, ...] = ()

    @property
    def mark(self) -> str:
        """The mark people see: met, fixable, installer-check, floor, unsorted, unread or disputed."""
        if self.finding is not Finding.UNMET:
            return self.finding.value
        if self.fixes:
            return "fixable"
        return (self.sort or Sort.UNSORTED).value

    @property
    def minutes(self) -> int:
        return sum(fix.minutes for fix in self.fixes)

    @property
    def cost(self) -> Decimal:
        return sum((fix.cost for fix in self.fixes), Decimal(0))


class Assessment(Struct, frozen=True):
    """A device against a release: its state and every finding, in the sheet's order."""

    release: str
    state: State
    findings: tuple[RequirementFinding, ...]

    def of(self, requirement: str) -> RequirementFinding | None:
        return next((f for f in self.findings if f.requirement.id == requirement), None)

    def unmet(self, *marks: str) -> tuple[RequirementFinding, ...]:
        return tuple(f for f in self.findings if f.finding is Finding.UNMET and (not marks or f.mark in marks))

    @property
    def marks(self) -> dict[str, str]:
        """Requirement -> the mark of its finding."""
        return {finding.requirement.id: finding.mark for finding in self.findings}

    @property
    def unknown(self) -> tuple[RequirementFinding, ...]:
        """Unread and disputed findings: nobody approves what nobody has measured."""
        return tuple(f for f in self.findings if f.finding in (Finding.UNREAD, Finding.DISPUTED))


def assess(
    platform: Platform, release: str, view: View, decisions: Iterable[Decision] = (), device: str = ""
) -> Assessment:
    """Every requirement of `release` on the device that `view` shows, and the device's state.

    Raises `KeyError` if the platform has no such release.
    """
    known = tuple(decisions)
    findings = [finding_of(platform, r, release, view, known, device) for r in platform.requirements_at(release)]
    return assessed(release, findings)


def findings_of(
    platform: Platform,
    release: str,
    view: View,
    decisions: Iterable[Decision],
    device: str,
    requirements: Collection[str],
) -> list[RequirementFinding]:
    """Only these requirements of `release` on a device; those that the release does not have are left out."""
    known = tuple(decisions)
    asked = [r for r in platform.requirements_at(release) if r.id in requirements]
    return [finding_of(platform, r, release, view, known, device) for r in asked]


def assessed(release: str, findings: Sequence[RequirementFinding]) -> Assessment:
    """The findings of every requirement of a release as an assessment: the state, and which of them decide it."""
    base = max([_level(finding) for finding in findings], default=0)
    worst = {at: _worst(finding) for at, finding in enumerate(findings) if _open(finding)}
    state = state_of(base, max(worst.values(), default=0))
    settled = {at for at, level in worst.items() if level <= base}
    return Assessment(
        release, state, tuple([_not_deciding(f) if at in settled else f for at, f in enumerate(findings)])
    )


def state_of(base: int, worst: int) -> State:
    """The state for the worst level found, and the worst that an open finding could still bring."""
    return State.UNSETTLED if worst > base else _BY_LEVEL[base]


def with_exceptions(state: str, marks: Mapping[str, str], excepted: Collection[str]) -> State:
    """The state of a device on which the `excepted` requirements are named by exceptions in force.

    `state` and `marks` are those without any exception. A device whose checks are all named is fixable while something
    that no exception names can be fixed, and excepted once nothing is left.
    """
    if not excepted or state not in (State.FIXABLE, State.NEEDS_EXCEPTION):
        return State(state)
    checks = {name for name, mark in marks.items() if mark == "installer-check"}
    fixable = {name for name, mark in marks.items() if mark == "fixable"}
    if not checks <= set(excepted):
        return State(state)
    return State.FIXABLE if fixable - set(excepted) else State.EXCEPTED


def reach(finding: RequirementFinding) -> tuple[int, int]:
    """How bad a finding is, and how bad it could still prove to be if it is open, else 0."""
    return _level(finding), _worst(finding) if _open(finding) else 0


def _base(findings: Sequence[RequirementFinding]) -> int:
    return max((_level(finding) for finding in findings), default=0)


def sort_words(
    platform: Platform, requirement: Requirement, release: str, decisions: Sequence[Decision], device: str, model: str
) -> tuple[SortWord, ...]:
    """Every word on the sort, the narrowest first; the first that says anything counts."""
    words = []
    mine = [d for d in decisions if d.requirement == requirement.id and d.release == release]
    for scope, target in ((Scope.DEVICE, device), (Scope.MODEL, model), (Scope.RELEASE, "")):
        fitting = [d for d in mine if d.scope == scope and d.target == target]
        last = max(fitting, key=lambda d: (d.at, d.id), default=None)
        words.append(SortWord(scope.value, last.sort if last else None, last.id if last else ""))
    return (*words, SortWord("sheet", platform.sheet_sort(requirement, release)))


def effective_sort(
    platform: Platform, requirement: Requirement, release: str, decisions: Sequence[Decision], device: str, model: str
) -> tuple[Sort, str]:
    """The sort that counts and where it comes from: a decision for the device, its model, the release, the sheet."""
    return _counting(sort_words(platform, requirement, release, decisions, device, model))


def _counting(words: Sequence[SortWord]) -> tuple[Sort, str]:
    counts = next(word for word in words if word.sort is not None)
    sort = counts.sort or Sort.UNSORTED
    if counts.decision:
        return sort, f"decision {counts.decision} for this {counts.level}"
    return sort, "the sheet" if sort is not Sort.UNSORTED else "nobody has sorted it"


def finding_of(
    platform: Platform,
    requirement: Requirement,
    release: str,
    view: View,
    decisions: Sequence[Decision],
    device: str,
) -> RequirementFinding:
    """One requirement on the device that `view` shows."""
    condition = requirement.condition
    finding, rivals = _outcome(requirement, view)
    dispute_decision = view.decided.get(requirement.id)
    against = tuple(
        v
        for v in view.verdicts
        if v.requirement == requirement.id
        and finding in (Finding.MET, Finding.UNMET)
        and v.passed != (finding is Finding.MET)
    )
    if against:
        finding = (Finding.MET if dispute_decision.value else Finding.UNMET) if dispute_decision else Finding.DISPUTED
    leaves = tuple([leaf.explain(view) for leaf in condition.leaves()])
    settled = [view.facts[name].dispute_decision for name in sorted(condition.facts()) if name in view.facts]
    dispute_decisions = tuple(found for found in [dispute_decision if against else None, *settled] if found is not None)
    if finding is Finding.MET:
        return RequirementFinding(
            requirement, finding, None, "", leaves, against=against, dispute_decisions=dispute_decisions
        )
    words = sort_words(platform, requirement, release, decisions, device, view.text("machine.model"))
    sort, sorted_by = _counting(words)
    fixes: tuple[Fix, ...] = ()
    if finding is Finding.UNMET and not against and requirement.fixes:
        others = openers(requirement, platform.requirements_at(release))
        unmet = [other for other in others if _is_unmet(other, view)]
        fixes = fixes_for(requirement, unmet, view.values(), view.as_of)
    return RequirementFinding(
        requirement,
        finding,
        sort,
        sorted_by,
        leaves,
        fixes,
        rivals,
        against,
        dispute_decisions=dispute_decisions,
        words=words,
    )


def _outcome(requirement: Requirement, view: View) -> tuple[Finding, tuple[Rival, ...]]:
    """The outcome under every candidate value: if all agree it stands, else it is disputed."""
    condition = requirement.condition
    worlds = view.worlds(condition.facts())
    if worlds is not None:
        outcomes = {condition.outcome(values, view.as_of) for values in worlds}
        if len(outcomes) == 1:
            return Finding(outcomes.pop().value), ()
    return Finding.DISPUTED, tuple(_rivals(requirement, view))


def _is_unmet(requirement: Requirement, view: View) -> bool:
    """Whether the finding is unmet beyond doubt."""
    finding, _ = _outcome(requirement, view)
    return finding is Finding.UNMET and not any(v.passed for v in view.verdicts if v.requirement == requirement.id)


def _rivals(requirement: Requirement, view: View) -> Iterable[Rival]:
    specs = {leaf.fact: leaf.spec for leaf in requirement.condition.leaves()}
    base = view.values()
    for name in sorted(requirement.condition.facts()):
        settled = view.facts.get(name)
        if settled and settled.rivals and name in specs:
            for candidate in (settled.believed, *settled.rivals):
                outcome = requirement.condition.outcome({**base, name: candidate.value}, view.as_of)
                shown = specs[name].show(candidate.value)
                yield Rival(name, shown, candidate.source, candidate.taken_at, outcome)


def fixed_view(view: View, findings: Iterable[RequirementFinding]) -> View:
    """The view after every applicable fix of these findings has been made."""
    given = {name: value for finding in findings for fix in finding.fixes for name, value in fix.gives.items()}
    return view.with_values(given) if given else view


def since_fixes(platform: Platform, view: View) -> View:
    """The view without verdicts, and words on them, that are older than a fix of something that they judge."""
    if not view.fixed or not (view.verdicts or view.decided):
        return view
    done: dict[str, datetime] = {}
    for requirement in platform.requirements:
        times = [view.fixed[name].taken_at for name in requirement.condition.facts() if name in view.fixed]
        if times:
            done[requirement.id] = max([*times, done.get(requirement.id, times[0])])
    return replace(
        view,
        verdicts=tuple(v for v in view.verdicts if v.requirement not in done or v.taken_at > done[v.requirement]),
        decided={name: r for name, r in view.decided.items() if name not in done or r.at > done[name]},
    )


def _level(finding: RequirementFinding) -> int:
    if finding.finding is not Finding.UNMET or (finding.sort is Sort.UNSORTED and not finding.fixes):
        return 0
    if finding.fixes:
        return _LEVEL[State.FIXABLE]
    return _LEVEL[State.FLOORED if finding.sort is Sort.FLOOR else State.NEEDS_EXCEPTION]


def _open(finding: RequirementFinding) -> bool:
    if finding.finding is Finding.UNMET:
        return finding.sort is Sort.UNSORTED and not finding.fixes
    return finding.finding is not Finding.MET


def _worst(finding: RequirementFinding) -> int:
    """The worst level that an open finding could still bring the device to."""
    return _LEVEL[State.NEEDS_EXCEPTION if finding.sort is Sort.CHECK else State.FLOORED]


def _not_deciding(finding: RequirementFinding) -> RequirementFinding:
    return replace(finding, decides=False)
