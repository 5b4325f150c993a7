"""Which overrides to use: the set that covers every excepted check exactly, minimally, and says why.

In: a platform, release, route, the device's values, the checks to cover and the requirements that exceptions
name. Out: a `Choice`, proved optimal by a complete branch-and-bound search, with alternatives, and a reason for
every override left out.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import date
from enum import StrEnum
from itertools import combinations
from math import ceil

from msgspec import Struct

from doorstone.core.attempts.override_results import AtRelease
from doorstone.core.conditions import Outcome
from doorstone.core.facts import FactValue
from doorstone.core.platforms.platform import Origin, Override, Platform, Route

NOTHING = AtRelease()

Cost = tuple[int, int, int, int, int, tuple[str, ...]]


class OverrideSet(Struct, frozen=True):
    """A set that covers. `excess` are requirements switched off that no exception names.

    `warnings` say which member was refused on this device before, or seldom works on its model.
    """

    overrides: tuple[Override, ...]
    covers: tuple[str, ...]
    excess: tuple[str, ...]
    warnings: tuple[str, ...] = ()

    @property
    def ids(self) -> tuple[str, ...]:
        return tuple(override.id for override in self.overrides)

    @property
    def cost(self) -> Cost:
        """Excess, field-origin members, own-origin members, weight, members, ids: less is better, left to right."""
        return _cost(self.overrides, len(self.excess))


class LeftOutReason(StrEnum):
    NOT_YET = "not-yet"
    ENDED = "ended"
    OTHER_ROUTE = "other-route"
    NEEDS_UNMET = "needs-unmet"
    COVERS_NOTHING = "covers-nothing"
    WARNED = "warned"
    NOT_CHOSEN = "not-chosen"


class LeftOut(Struct, frozen=True):
    """An override that the choice does not use: why, as a value to decide on and in words."""

    override: Override
    reason: LeftOutReason
    why: str


class Choice(Struct, frozen=True):
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
    known: AtRelease = NOTHING,
) -> Choice:
    """Choose the overrides for `checks` (requirement ids) on this device, release and route.

    A set with a member that was refused on the device stands behind every set without one, then one with a member
    that seldom works on its model: what is `known` at the release counts before everything else.
    """
    wanted = frozenset(checks)
    asked_here = frozenset(r.id for r in platform.requirements_at(release))
    reasons: dict[str, tuple[LeftOutReason, str]] = {}
    usable: list[Override] = []
    for override in sorted(platform.overrides, key=lambda o: o.id):
        why = _why_not(platform, override, release, route, values, as_of)
        if why is None and not override.covers & wanted:
            why = LeftOutReason.COVERS_NOTHING, "covers nothing this device needs"
        if why is None:
            usable.append(override)
        else:
            reasons[override.id] = why
    search = _Search(usable, wanted, asked_here - frozenset(excepted), keep=1 + alternatives, known=known)
    found = [_as_set(chosen, asked_here, frozenset(excepted), known) for chosen in search.run()]
    best = found[0] if found else None
    for override in usable:
        if best is None or override.id not in best.ids:
            warnings = "; ".join(known.warnings([override.id]))
            reason = LeftOutReason.WARNED if warnings else LeftOutReason.NOT_CHOSEN
            reasons[override.id] = reason, warnings or _why_unused(override, best, wanted)
    return Choice(
        best,
        tuple(found[1:]),
        tuple(LeftOut(o, *reasons[o.id]) for o in platform.overrides if o.id in reasons),
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
) -> tuple[LeftOutReason, str] | None:
    at = platform.index(release)
    if at < platform.index(override.since):
        return LeftOutReason.NOT_YET, f"works only from release {override.since} on"
    if override.until is not None and at >= platform.index(override.until):
        return LeftOutReason.ENDED, f"ended at release {override.until}"
    if route not in override.routes:
        return LeftOutReason.OTHER_ROUTE, f"not for the {route} route; only {', '.join(sorted(override.routes))}"
    outcome = override.needs.outcome(values, as_of)
    if outcome is not Outcome.MET:
        return LeftOutReason.NEEDS_UNMET, f"needs {override.needs}, which is {outcome} here"
    return None


def _as_set(
    chosen: Sequence[Override], checks: frozenset[str], excepted: frozenset[str], known: AtRelease
) -> OverrideSet:
    ordered = tuple(sorted(chosen, key=lambda o: o.id))
    off = frozenset().union(*(o.covers for o in ordered)) & checks
    warnings = known.warnings(o.id for o in ordered)
    return OverrideSet(ordered, tuple(sorted(off)), tuple(sorted(off - excepted)), warnings)


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
    """Branch and bound over the check with the fewest coverers left; cut when no completion can be among the best.

    Checks, requirements and conflicts are bits of integers; field members, own members, weight and number are packed
    into one price, so that less price is better in that order. Two bounds say what every completion costs at least:
    for excess, the open check whose cheapest coverer adds the most; for the price, the sum over the open checks of
    each one's cheapest share (a coverer's price spread over the open checks that it covers). Both are never too high,
    so what is cut cannot be better than what is kept, and what is kept at the end is the optimum.
    """

    def __init__(
        self,
        usable: Sequence[Override],
        wanted: frozenset[str],
        excess: frozenset[str],
        keep: int,
        known: AtRelease = NOTHING,
    ) -> None:
        self.usable = usable
        self.keep = keep
        self.kept: list[tuple[Cost, tuple[Override, ...]]] = []
        self.worst: tuple[int, int] | None = None  # excess and price of the last one kept, once there are enough
        checks = {name: 1 << at for at, name in enumerate(sorted(wanted))}
        others = {name: 1 << at for at, name in enumerate(sorted(excess))}
        self.all = (1 << len(checks)) - 1
        self.covers = [sum(checks[name] for name in o.covers if name in checks) for o in usable]
        self.off = [sum(others[name] for name in o.covers if name in others) for o in usable]
        self._doubt(known, len(others))
        self.prices = _prices(usable)
        self.clashes = [sum(1 << at for at, other in enumerate(usable) if _clash(o, other)) for o in usable]
        self.coverers = [
            [at for at, mask in enumerate(self.covers) if mask >> check & 1] for check in range(len(checks))
        ]

    def _doubt(self, known: AtRelease, others: int) -> None:
        """Let a doubtful override switch off more than all others together, a refused one more than all of those."""
        poor = [at for at, o in enumerate(self.usable) if o.id in known.poor]
        refused = [at for at, o in enumerate(self.usable) if o.id in known.refused]
        free, size = others, others + 1
        for members in (poor, refused):
            for at in members:
                self.off[at] |= ((1 << size) - 1) << free
                free += size
            size *= len(members) + 1

    def run(self) -> list[tuple[Override, ...]]:
        self._go((), 0, 0, 0, 0)
        return [chosen for _, chosen in self.kept]

    def _go(self, chosen: tuple[int, ...], covered: int, off: int, banned: int, price: int) -> None:
        """`banned` are overrides that were tried before in this place or clash with a chosen one."""
        open_ = self.all & ~covered
        if not open_:
            self._keep(chosen, off)
            return
        found = self._narrowest(open_, off, banned, price)
        if found is None:
            return
        more_excess, more_price, coverers = found
        if self._hopeless(off, price + more_price, more_excess):
            return
        for at in coverers:
            if not self._hopeless(off | self.off[at], price + self.prices[at]):
                self._go(
                    (*chosen, at),
                    covered | self.covers[at],
                    off | self.off[at],
                    banned | self.clashes[at],
                    price + self.prices[at],
                )
            banned |= 1 << at

    def _narrowest(self, open_: int, off: int, banned: int, price: int) -> tuple[int, int, list[int]] | None:
        """Bounds on what a completion adds to excess and price, and the coverers of the check that has the fewest.

        None if some check has no coverer left that is not hopeless. The most promising coverer comes first.
        """
        best: list[int] | None = None
        most_excess, shares = 0, 0.0
        rest = open_
        while rest:
            bit = rest & -rest
            rest ^= bit
            left = [at for at in self.coverers[bit.bit_length() - 1] if not banned >> at & 1]
            if self.worst is not None:
                left = [at for at in left if not self._hopeless(off | self.off[at], price + self.prices[at])]
            if not left:
                return None
            most_excess = max(most_excess, min((self.off[at] & ~off).bit_count() for at in left))
            shares += min(self.prices[at] / (self.covers[at] & open_).bit_count() for at in left)
            if best is None or len(left) < len(best):
                best = left
        assert best is not None
        best.sort(
            key=lambda at: ((self.off[at] & ~off).bit_count(), self.prices[at] / (self.covers[at] & open_).bit_count())
        )
        return most_excess, ceil(shares - 1e-6), best

    def _hopeless(self, off: int, price: int, more_excess: int = 0) -> bool:
        """Whether nothing that costs at least this much can be among the best."""
        return self.worst is not None and (off.bit_count() + more_excess, price) > self.worst

    def _keep(self, chosen: tuple[int, ...], off: int) -> None:
        for member in chosen:
            rest = 0
            for other in chosen:
                if other != member:
                    rest |= self.covers[other]
            if rest == self.all:
                return  # a member too many: the set without it is found elsewhere
        overrides = tuple(self.usable[at] for at in chosen)
        self.kept.append((_cost(overrides, off.bit_count()), overrides))
        self.kept.sort(key=lambda entry: entry[0])
        del self.kept[self.keep :]
        if len(self.kept) == self.keep:
            excess, field, own, weight, members, _ = self.kept[-1][0]
            self.worst = (excess, _pack(len(self.usable), field, own, weight, members))


def _pack(count: int, field: int, own: int, weight: int, members: int) -> int:
    """Field members, own members, weight and members as one number; it adds up, and less of an earlier one is less."""
    return ((field * (count + 1) + own) * (9 * count + 1) + weight) * (count + 1) + members


def _prices(usable: Sequence[Override]) -> list[int]:
    count = len(usable)
    return [_pack(count, int(o.origin is Origin.FIELD), int(o.origin is Origin.OWN), o.weight, 1) for o in usable]


def _cost(chosen: Sequence[Override], excess: int) -> Cost:
    return (
        excess,
        sum(o.origin is Origin.FIELD for o in chosen),
        sum(o.origin is Origin.OWN for o in chosen),
        sum(o.weight for o in chosen),
        len(chosen),
        tuple(sorted(o.id for o in chosen)),
    )


def _smallest_uncovered(usable: Sequence[Override], wanted: frozenset[str]) -> tuple[str, ...]:
    """The smallest set of checks that no set of overrides without conflicts covers, first in order of ids."""
    for size in range(1, len(wanted) + 1):
        for checks in combinations(sorted(wanted), size):
            if not _Search(usable, frozenset(checks), frozenset(), keep=1).run():
                return checks
    return ()
