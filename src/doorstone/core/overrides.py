"""Which overrides to use: the set that covers every excepted check exactly, minimally, and says why.

In: a platform, release, route, the device's values, the checks to cover and the requirements that exceptions
name. Out: a `Choice`, proved optimal by a complete branch-and-bound search, with alternatives, and a reason for
every override left out.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from itertools import combinations

from doorstone.core.conditions import Outcome
from doorstone.core.facts import FactValue
from doorstone.core.platforms import Origin, Override, Platform, Route

Cost = tuple[int, int, int, int, int, tuple[str, ...]]


@dataclass(frozen=True, slots=True)
class OverrideSet:
    """A set that covers. `excess` are requirements switched off that no exception names."""

    overrides: tuple[Override, ...]
    covers: tuple[str, ...]
    excess: tuple[str, ...]

    @property
    def ids(self) -> tuple[str, ...]:
        return tuple(override.id for override in self.overrides)

    @property
    def cost(self) -> Cost:
        """Excess, field-origin members, own-origin members, weight, members, ids: less is better, left to right."""
        return (
            len(self.excess),
            sum(o.origin is Origin.FIELD for o in self.overrides),
            sum(o.origin is Origin.OWN for o in self.overrides),
            sum(o.weight for o in self.overrides),
            len(self.overrides),
            self.ids,
        )


@dataclass(frozen=True, slots=True)
class LeftOut:
    override: Override
    why: str


@dataclass(frozen=True, slots=True)
class Choice:
    """The answer. `best` is None if no set covers; then `uncovered` is the smallest set of checks at fault."""

    best: OverrideSet | None
    alternatives: tuple[OverrideSet, ...]
    left_out: tuple[LeftOut, ...]
    uncovered: tuple[str, ...]
    partial: tuple[tuple[str, tuple[str, ...]], ...]  # override id -> the checks it would cover


def choose(
    platform: Platform,
    release: str,
    route: Route,
    values: Mapping[str, FactValue],
    as_of: date,
    checks: Collection[str],
    excepted: Collection[str],
    alternatives: int = 3,
) -> Choice:
    """Choose the overrides for `checks` (requirement ids) on this device, release and route."""
    wanted = frozenset(checks)
    asked_here = frozenset(r.id for r in platform.requirements_at(release))
    reasons: dict[str, str] = {}
    usable: list[Override] = []
    for override in sorted(platform.overrides, key=lambda o: o.id):
        why = _why_not(platform, override, release, route, values, as_of)
        if why is None and not override.covers & wanted:
            why = "covers nothing this device needs"
        if why is None:
            usable.append(override)
        else:
            reasons[override.id] = why
    search = _Search(usable, wanted, asked_here - frozenset(excepted), keep=1 + alternatives)
    found = [_as_set(chosen, asked_here, frozenset(excepted)) for chosen in search.run()]
    best = found[0] if found else None
    for override in usable:
        if best is None or override.id not in best.ids:
            reasons[override.id] = _why_unused(override, best, wanted)
    return Choice(
        best,
        tuple(found[1:]),
        tuple(LeftOut(o, reasons[o.id]) for o in platform.overrides if o.id in reasons),
        () if best else _smallest_uncovered(usable, wanted),
        tuple((o.id, tuple(sorted(o.covers & wanted))) for o in usable),
    )


def _why_not(
    platform: Platform,
    override: Override,
    release: str,
    route: Route,
    values: Mapping[str, FactValue],
    as_of: date,
) -> str | None:
    at = platform.index(release)
    if at < platform.index(override.since):
        return f"works only from release {override.since} on"
    if override.until is not None and at >= platform.index(override.until):
        return f"ended at release {override.until}"
    if route not in override.routes:
        return f"not for the {route} route; only {', '.join(sorted(override.routes))}"
    outcome = override.needs.outcome(values, as_of)
    if outcome is not Outcome.MET:
        return f"needs {override.needs}, which is {outcome} here"
    return None


def _as_set(chosen: Sequence[Override], asked: frozenset[str], excepted: frozenset[str]) -> OverrideSet:
    ordered = tuple(sorted(chosen, key=lambda o: o.id))
    off = frozenset().union(*(o.covers for o in ordered)) & asked
    return OverrideSet(ordered, tuple(sorted(off)), tuple(sorted(off - excepted)))


def _why_unused(override: Override, best: OverrideSet | None, wanted: frozenset[str]) -> str:
    covered = ", ".join(sorted(override.covers & wanted))
    if best is None:
        return f"covers {covered} only, and nothing covers the rest"
    for chosen in best.overrides:
        if _clash(chosen, override):
            return f"in conflict with {chosen.id}"
    rivals = [o.id for o in best.overrides if o.covers & override.covers & wanted]
    return f"dominated: {' and '.join(rivals)} cover{'s' if len(rivals) == 1 else ''} {covered} at less cost"


def _clash(one: Override, other: Override) -> bool:
    return other.id in one.conflicts or one.id in other.conflicts


class _Search:
    """Depth-first over the check with the fewest coverers left; cut when no completion can be among the best.

    Every component of a partial cost but the ids can only grow, so a partial worse than the worst kept set
    in those components is cut for good. What remains at the end is therefore the optimum.
    """

    def __init__(self, usable: Sequence[Override], wanted: frozenset[str], excess: frozenset[str], keep: int) -> None:
        self.usable = usable
        self.wanted = wanted
        self.excess = excess
        self.keep = keep
        self.kept: list[tuple[Cost, tuple[Override, ...]]] = []
        self.coverers = {check: [o for o in usable if check in o.covers] for check in wanted}

    def run(self) -> list[tuple[Override, ...]]:
        self._go((), frozenset(), frozenset(), frozenset())
        return [chosen for _, chosen in self.kept]

    def _go(
        self,
        chosen: tuple[Override, ...],
        covered: frozenset[str],
        off: frozenset[str],
        banned: frozenset[str],
    ) -> None:
        cost = self._cost(chosen, off)
        if len(self.kept) == self.keep and cost[:5] > self.kept[-1][0][:5]:
            return
        open_checks = self.wanted - covered
        if not open_checks:
            self._keep(cost, chosen)
            return
        check = min(open_checks, key=lambda c: (sum(o.id not in banned for o in self.coverers[c]), c))
        tried: set[str] = set()
        for override in self.coverers[check]:
            if override.id in banned or any(_clash(override, other) for other in chosen):
                continue
            self._go((*chosen, override), covered | override.covers, off | override.covers, banned | tried)
            tried.add(override.id)

    def _cost(self, chosen: Sequence[Override], off: frozenset[str]) -> Cost:
        return (
            len(off & self.excess),
            sum(o.origin is Origin.FIELD for o in chosen),
            sum(o.origin is Origin.OWN for o in chosen),
            sum(o.weight for o in chosen),
            len(chosen),
            tuple(sorted(o.id for o in chosen)),
        )

    def _keep(self, cost: Cost, chosen: tuple[Override, ...]) -> None:
        for member in chosen:
            rest = frozenset().union(*(o.covers for o in chosen if o is not member))
            if self.wanted <= rest:
                return  # a member too many: the set without it is found elsewhere
        self.kept.append((cost, chosen))
        self.kept.sort(key=lambda entry: entry[0])
        del self.kept[self.keep :]


def _smallest_uncovered(usable: Sequence[Override], wanted: frozenset[str]) -> tuple[str, ...]:
    """The smallest set of checks that no set of overrides without conflicts covers, first in order of ids."""
    for size in range(1, len(wanted) + 1):
        for checks in combinations(sorted(wanted), size):
            if not _Search(usable, frozenset(checks), frozenset(), keep=1).run():
                return checks
    return ()
