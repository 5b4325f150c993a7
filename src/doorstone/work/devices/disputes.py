"""Disputes: what sources disagree about, side by side, and an operator's word that settles it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from msgspec import Struct

from doorstone.core.conditions import Outcome
from doorstone.core.facts import Candidate, DisputeDecision, FactError, View, dump
from doorstone.core.platforms.platform import target_release
from doorstone.core.sorting.assessment import Finding, RequirementFinding
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.settling import place
from doorstone.work.snapshot.sheets import get_sheet, need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.standings import standings


class Side(Struct, frozen=True):
    """One side of a dispute: what a source says, when it said so, and the outcome that this gives."""

    value: str
    source: str
    trust: int
    taken_at: datetime
    outcome: str
    believed: bool


class Dispute(Struct, frozen=True):
    """A disagreement that changes an outcome. `kind` is fact, or requirement where a verdict speaks against facts."""

    device: str
    name: str
    site: str
    kind: str
    subject: str
    title: str
    requirements: tuple[str, ...]
    sides: tuple[Side, ...]


class Settlement(Struct, frozen=True):
    """An operator's word. `stands` is false once something newer has been read of the subject."""

    id: str
    device: str
    kind: str
    subject: str
    value: str
    reason: str
    by: str
    at: str
    stands: bool


def list_disputes(context: Context, platform_id: str, release: str = "", device: str = "") -> list[Dispute]:
    """What is disputed against a release, by device. Contested facts that change nothing are left out."""
    platform = get_sheet(context, platform_id).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    now = snapshot(context)
    if device:
        of = now.device(device).platform
        if of != platform.id:
            hint = f"Ask for the disputes of {of}" if of else "Import a reading that names its platform"
            raise BadInputError(f"{device} is a device of {of or 'no platform'}, not of {platform.id}", hint)
        return _of_device(now, device, release)
    found: list[Dispute] = []
    with context.database.read() as db:
        stand = standings(context, platform, release).of
        profiles = {number for number, one in stand.items() if "disputed" in one.marks.values()}
        rows = sorted(device_store.of_profiles(db, profiles), key=lambda row: row.id)
    for row in rows:
        found += _of_device(now, row.id, release)
    return found


def _of_device(now: Snapshot, device: str, release: str) -> list[Dispute]:
    row = now.device(device)
    disputes: dict[tuple[str, str], Dispute] = {}
    for finding in now.assessment(device, release).findings:
        if finding.finding is not Finding.DISPUTED:
            continue
        requirement = finding.requirement
        for subject in dict.fromkeys(rival.fact for rival in finding.rivals):
            before = disputes.get(("fact", subject))
            ids = (*(before.requirements if before else ()), requirement.id)
            sides = before.sides if before else _sides(now, finding, subject)
            title = now.specs[subject].title or subject
            disputes["fact", subject] = Dispute(device, row.name, row.site, "fact", subject, title, ids, sides)
        if finding.against:
            sides = _verdict_sides(now, finding, now.view(device))
            disputes["requirement", requirement.id] = Dispute(
                device, row.name, row.site, "requirement", requirement.id, requirement.title, (requirement.id,), sides
            )
    return list(disputes.values())


def _sides(now: Snapshot, finding: RequirementFinding, subject: str) -> tuple[Side, ...]:
    rivals = [rival for rival in finding.rivals if rival.fact == subject]
    return tuple(
        Side(r.value, r.source, _trust(now, r.source), r.taken_at, r.outcome.value, at == 0)
        for at, r in enumerate(rivals)
    )


def _verdict_sides(now: Snapshot, finding: RequirementFinding, view: View) -> tuple[Side, ...]:
    outcome = finding.requirement.condition.outcome(view.values(), view.as_of)
    measured = [leaf for leaf in finding.leaves if leaf.measured is not None and leaf.taken_at is not None]
    facts = Side(
        ", ".join(f"{leaf.fact} {leaf.measured}" for leaf in measured),
        ", ".join(sorted({leaf.source or "" for leaf in measured})),
        max((_trust(now, leaf.source or "") for leaf in measured), default=0),
        max((leaf.taken_at for leaf in measured if leaf.taken_at), default=datetime.min),
        outcome.value,
        True,
    )
    verdicts = [
        Side(
            f"its verdict: {'pass' if v.passed else 'fail'}",
            v.source,
            _trust(now, v.source),
            v.taken_at,
            (Outcome.MET if v.passed else Outcome.UNMET).value,
            False,
        )
        for v in finding.against
    ]
    return (facts, *verdicts)


def _trust(now: Snapshot, source: str) -> int:
    known = now.context.policy.sources.get(source)
    return known.trust if known else 0


def settle_dispute(
    context: Context, actor: Actor, device: str, kind: str, subject: str, value: Any, reason: str
) -> Settlement:
    """Name the value to believe, and why. It holds until a newer reading of the subject.

    `kind` fact: `value` is what one of the sources says. `kind` requirement: `value` is met or unmet. Raises
    `MissingError` where there is nothing contested, `BadInputError` where the value is nobody's.
    """
    if len(reason.strip()) < 5:
        raise BadInputError("A dispute is settled with a reason", "Say in a sentence why this value is right")
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_settlement(context, before)
        now = snapshot(context)
        now.device(device)
        view = now.view(device)
        chosen, seen = _fact(now, view, subject, value) if kind == "fact" else _requirement(now, device, subject, value)
        number = store.add(
            db, device, kind, subject, chosen, seen.isoformat(), reason.strip(), actor.name, context.now()
        )
        place(context, db, [device])
        name = id_of("ST", number)
        body = {"device": device, kind: subject, "value": chosen, "seen_until": seen.isoformat()}
        body["reason"] = reason.strip()
        record(context, db, actor, "dispute settled", "settlement", name, body, creates=True)
    return get_settlement(context, name)


def _fact(now: Snapshot, view: View, subject: str, value: Any) -> tuple[Any, datetime]:
    settled = view.facts.get(subject)
    words: tuple[Candidate, ...] = ()
    if settled is not None:
        words = (settled.believed, *settled.rivals, *settled.overruled)
    if len(words) < 2 or settled is None:
        raise MissingError(f"{subject} is not contested", "See what is with 'doorstone dispute list'")
    spec = now.specs[subject]
    try:
        wanted = spec.parse(value)
    except FactError as error:
        raise BadInputError(error.message, error.hint) from error
    if not any(spec.close(word.value, wanted) for word in words):
        values = " or ".join(spec.show(word.value) for word in words)
        hint = f"Name {values}; a value of your own is a reading: import it with source operator"
        raise BadInputError(f"No source says that {subject} is {spec.show(wanted)}", hint)
    return dump(wanted), max(word.taken_at for word in words)


def _requirement(now: Snapshot, device: str, subject: str, value: Any) -> tuple[bool, datetime]:
    if value not in ("met", "unmet"):
        raise BadInputError(f"{value!r} is not what a requirement can be", "Name met or unmet")
    verdicts = [v for v in now.view(device).verdicts if v.requirement == subject]
    if not verdicts:
        raise MissingError(f"No source has a verdict on {subject} of {device}", "See 'doorstone dispute list'")
    return value == "met", max(v.taken_at for v in verdicts)


def get_settlement(context: Context, name: str) -> Settlement:
    """Raises `MissingError`."""
    with context.database.read() as db:
        row = store.get(db, number_of("ST", name))
    if row is None:
        raise MissingError(f"There is no settlement {name!r}", "See them with 'doorstone dispute settled'")
    return next(s for s in list_settlements(context, row.device) if s.id == name)


def list_settlements(context: Context, device: str) -> list[Settlement]:
    """Every word of an operator on a device, newest first."""
    now = snapshot(context)
    now.device(device)
    view = now.view(device)
    standing: set[str] = {r.id for r in view.decided.values()}
    standing |= {
        fact.dispute_decision.id for fact in view.facts.values() if isinstance(fact.dispute_decision, DisputeDecision)
    }
    with context.database.read() as db:
        rows = store.of_device(db, device)
    return [
        Settlement(
            id_of("ST", row.id),
            row.device,
            row.kind,
            row.subject,
            _shown(now, row),
            row.reason,
            row.by,
            row.at,
            id_of("ST", row.id) in standing,
        )
        for row in reversed(rows)
    ]


def _shown(now: Snapshot, row: store.SettlementRow) -> str:
    if row.kind == "requirement":
        return "met" if row.value else "unmet"
    spec = now.specs.get(row.subject)
    return spec.show(spec.parse(row.value)) if spec else str(row.value)
