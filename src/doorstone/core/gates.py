"""Gates: what must hold before a kit may be used. In: a platform, route, view. Out: one result per gate."""

from __future__ import annotations

from dataclasses import dataclass

from doorstone.core.conditions import LeafReport, Outcome
from doorstone.core.facts import View
from doorstone.core.platforms import Gate, Platform, Route


@dataclass(frozen=True, slots=True)
class GateResult:
    """`result` is holds, warns, stops or unread; an unread stop gate stops a kit too."""

    gate: Gate
    result: str
    leaves: tuple[LeafReport, ...]

    @property
    def blocks(self) -> bool:
        return self.gate.severity == "stop" and self.result != "holds"

    @property
    def measured(self) -> str:
        return "; ".join(f"{leaf.fact} {leaf.measured or leaf.note or 'unread'}" for leaf in self.leaves)


def check_gates(platform: Platform, route: Route, view: View) -> tuple[GateResult, ...]:
    """Every gate of the route, in the sheet's order."""
    results = []
    values = view.values()
    for gate in platform.gates:
        if route not in gate.routes:
            continue
        outcome = gate.condition.outcome(values, view.as_of)
        word = {Outcome.MET: "holds", Outcome.UNREAD: "unread"}.get(outcome, "")
        word = word or ("stops" if gate.severity == "stop" else "warns")
        results.append(GateResult(gate, word, tuple(leaf.explain(view) for leaf in gate.condition.leaves())))
    return tuple(results)
