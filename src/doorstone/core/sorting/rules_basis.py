"""What sorting at a release rests on, as a digest, and whether it depends on the day."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from datetime import date
from typing import Any

from doorstone.core.facts import FactSpec, FactValue, dump
from doorstone.core.platforms.platform import Platform


def rules_basis(platform: Platform, release: str, as_of: date) -> str:
    """Return a digest of everything that sorts a device at a release, except decisions: conditions, lists, fixes, and
    how the facts are settled (unit, tolerance, lasting or passing).

    A date in a condition makes the answer one of the day, so the day is part of it then.
    """
    rules: list[Any] = []
    dated = False
    for r in platform.requirements_at(release):
        conditions = [r.condition, *(fix.when for fix in r.fixes)]
        leaves = [leaf for condition in conditions for leaf in condition.leaves()]
        dated = dated or any(leaf.op == "within_days" for leaf in leaves)
        listed = [sorted(leaf.operand) for leaf in leaves if leaf.op == "listed_in"]
        fixes = [[f.title, f.when.data(), _dumped(f.gives), f.minutes, str(f.cost)] for f in r.fixes]
        looked_at = sorted({name for condition in conditions for name in condition.facts()})
        settled = [_settled_by(platform.specs[name]) for name in looked_at]
        rules.append([r.id, r.condition.data(), listed, platform.sheet_sort(r, release), fixes, settled])
    text = json.dumps([rules, as_of.isoformat() if dated else ""], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def looks_at_days(platform: Platform, release: str) -> bool:
    """Whether what a release asks depends on the day: then a device's findings may change overnight by themselves."""
    conditions = [
        condition
        for r in platform.requirements_at(release)
        for condition in (r.condition, *(fix.when for fix in r.fixes))
    ]
    return any(leaf.op == "within_days" for condition in conditions for leaf in condition.leaves())


def _settled_by(spec: FactSpec) -> list[Any]:
    return [spec.name, spec.type.value, spec.unit, spec.lasting, spec.tolerance]


def _dumped(values: Mapping[str, FactValue]) -> dict[str, Any]:
    return {name: dump(value) for name, value in values.items()}
