"""Contents of profiles: what the tests of a sheet see of one device of a class, as JSON.

Devices of one class have the same answers (see `classes`), so one of them stands for all. Its values are its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime
from typing import Any

from doorstone.core.facts import Candidate, DisputeDecision, FactReader, FactSpec, SettledFact, Verdict, View, dump


def profile_content(platform: str, names: frozenset[str], view: View, own: str = "") -> dict[str, Any]:
    """What the tests of a sheet see of a device, as JSON: values without times and sources.

    `names` are those of the classifier; `own` keeps a device apart whose decisions are its own.
    """
    facts = {
        name: [dump(view.facts[name].believed.value), *(dump(c.value) for c in view.facts[name].rivals)]
        for name in sorted(names)
        if name in view.facts
    }
    content = content_of_facts(platform, facts)
    content["verdicts"] = [[v.requirement, v.passed] for v in view.verdicts]
    content["ruled"] = {name: bool(dispute_decision.value) for name, dispute_decision in sorted(view.decided.items())}
    return {**content, "own": own}


def content_of_facts(platform: str, facts: Mapping[str, list[Any]]) -> dict[str, Any]:
    """The same of a device of which nothing is known but facts, and about which nothing was decided."""
    ordered = {name: facts[name] for name in sorted(facts)}
    return {"platform": platform, "facts": ordered, "verdicts": [], "ruled": {}, "own": ""}


_NO_TIME = datetime(1, 1, 1)


def view_of(
    content: Mapping[str, Any], specs: Mapping[str, FactSpec], as_of: date, reader: FactReader | None = None
) -> View:
    """The view of the device whose content stands for a class, without times and sources.

    A `reader` of these specs that is kept for many contents parses the same value once.
    """

    def candidate(name: str, value: Any) -> Candidate:
        return Candidate(reader.parse(name, value) if reader else specs[name].parse(value), "", _NO_TIME)

    facts = {
        name: SettledFact(candidate(name, values[0]), tuple(candidate(name, value) for value in values[1:]))
        for name, values in content["facts"].items()
        if name in specs
    }
    verdicts = tuple(Verdict(requirement, passed, "", _NO_TIME) for requirement, passed in content["verdicts"])
    decided = {
        name: DisputeDecision("", name, passed, _NO_TIME, "", "", _NO_TIME) for name, passed in content["ruled"].items()
    }
    return View(as_of, facts, {}, verdicts, decided)
