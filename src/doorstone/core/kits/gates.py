"""Gates: what must hold before a kit may be used. In: a platform, route, view. Out: one result per gate.

A stop that does not hold allows no kit. A warning that does not hold allows one only if somebody waives it with a
reason. A stop is never waived: on a route that destroys what is there, its backup is a stop.
"""

from __future__ import annotations

from msgspec import Struct

from doorstone.core.conditions import LeafReport, Outcome
from doorstone.core.facts import View
from doorstone.core.platforms.platform import Gate, Platform, Route


class GateResult(Struct, frozen=True):
    """`result` is holds, warns, stops or unread; an unread stop gate stops a kit too."""

    gate: Gate
    result: str
    leaves: tuple[LeafReport, ...]
    device: str = ""

    @property
    def blocks(self) -> bool:
        return self.gate.severity == "stop" and self.result != "holds"

    @property
    def waivable(self) -> bool:
        """Whether a kit may be had all the same, if somebody says why."""
        return self.gate.severity == "warn" and self.result != "holds"

    @property
    def measured(self) -> str:
        return "; ".join(f"{leaf.fact} {leaf.measured or leaf.note or 'unread'}" for leaf in self.leaves)


def check_gates(
    platform: Platform, route: Route, view: View, device: str = "", *, critical: bool = False
) -> tuple[GateResult, ...]:
    """Every gate of the route, in the sheet's order; the stricter ones for a critical device."""
    results = []
    values = view.values()
    for known in platform.gates:
        if route not in known.routes:
            continue
        gate = known.for_device(critical=critical)
        outcome = gate.condition.outcome(values, view.as_of)
        word = {Outcome.MET: "holds", Outcome.UNREAD: "unread"}.get(outcome, "")
        word = word or ("stops" if gate.severity == "stop" else "warns")
        results.append(GateResult(gate, word, tuple(leaf.explain(view) for leaf in gate.condition.leaves()), device))
    return tuple(results)
