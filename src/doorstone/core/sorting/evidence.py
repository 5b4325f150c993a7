"""Evidence: what attempts without a requirement came to, model by model, and where it contradicts the sort."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from msgspec import Struct

from doorstone.core.errors import InvalidInputError
from doorstone.core.platforms.platform import Sort

EVIDENCE = ("vendor-statement", "trial", "attempt", "report")
"""Kinds of evidence that a decision may rest on."""


class Trial(Struct, frozen=True):
    """One attempt, as evidence: the `unmet` requirements of its device, and those that set-up refused it by."""

    device: str
    model: str
    outcome: str
    unmet: Collection[str]
    refused_by: Collection[str]


class Tally(Struct, frozen=True):
    """On how many devices of a model a release ran, was refused, failed to start with a requirement unmet."""

    model: str
    ran: int
    refused: int
    failed_to_start: int


def tallies(trials: Iterable[Trial], requirement: str) -> tuple[Tally, ...]:
    """Per machine model, each device counted once for each thing that happened to it."""
    found: dict[str, dict[str, set[str]]] = {}
    for trial in trials:
        outcomes = found.setdefault(trial.model or "unread", {})
        if requirement in trial.unmet and trial.outcome in ("completed", "failed-to-start"):
            outcomes.setdefault(trial.outcome, set()).add(trial.device)
        if requirement in trial.refused_by:
            outcomes.setdefault("refused", set()).add(trial.device)
    return tuple(
        Tally(model, *(len(outcomes.get(word, ())) for word in ("completed", "refused", "failed-to-start")))
        for model, outcomes in sorted(found.items())
        if outcomes
    )


def contradiction(release: str, tally: Tally, sort: Sort) -> str:
    """How a tally contradicts a sort; empty if it does not."""
    if sort is Sort.FLOOR and tally.ran:
        run = "runs" if tally.ran == 1 else "run"
        return f"a floor for {tally.model}, yet {_devices(tally.ran)} without it {run} {release}"
    if sort is Sort.CHECK and tally.failed_to_start:
        return f"an installer check for {tally.model}, yet {_devices(tally.failed_to_start)} failed to start"
    return ""


def check_evidence(evidence: str, note: str, link: str) -> None:
    """Raises `InvalidInputError` unless a decision says what it rests on."""
    if evidence not in EVIDENCE:
        raise InvalidInputError(f"{evidence!r} is not a kind of evidence", f"Use one of {', '.join(EVIDENCE)}")
    if link.strip() and not link.strip().startswith(("https://", "http://")):
        raise InvalidInputError(f"{link!r} is not a link", "Write it with https:// in front, or leave it out")
    if len(note.strip()) < 5:
        raise InvalidInputError("A decision carries a note", "Say in a sentence what the evidence shows")


def _devices(count: int) -> str:
    return f"{count} device{'' if count == 1 else 's'}"
