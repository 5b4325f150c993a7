"""Disputes: what sources disagree about, side by side, and an operator's word that settles it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from doorstone.core.conditions import Outcome
from doorstone.core.facts import Candidate, FactError, Ruling, View, dump
from doorstone.core.sorting import Finding, RequirementFinding
from doorstone.store import devices as device_store
from doorstone.store import settlements as store
from doorstone.work.board import standings
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.devices import target_release
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.picture import Picture, picture
from doorstone.work.profiles import place
from doorstone.work.sheets import get_sheet, need_release


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a dispute: what a source says, when it said so, and the outcome that this gives."""

    value: str
    source: str
    trust: int
    taken_at: datetime
    outcome: str
    believed: bool


@dataclass(frozen=True, slots=True)
class Dispute:
    """A disagreement that changes an outcome. `kind` is fact, or requirement where a verdict speaks against facts."""

    device: str
    name: str
    site: str
    kind: str
    subject: str
    title: str
    requirements: tuple[str, ...]
    sides: tuple[Side, ...]


@dataclass(frozen=True, slots=True)
class Settlement:
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


def list_disputes(desk: Desk, platform_id: str, release: str = "", device: str = "") -> list[Dispute]:
    """What is disputed against a release, by device. Contested facts that change nothing are left out."""
    platform = get_sheet(desk, platform_id).platform
    release = release or target_release(platform, desk.today())
    need_release(platform, release)
    now = picture(desk)
    if device:
        of = now.device(device).platform
        if of != platform.id:
            hint = f"Ask for the disputes of {of}" if of else "Import a reading that names its platform"
            raise BadInputError(f"{device} is a device of {of or 'no platform'}, not of {platform.id}", hint)
        return _of_device(now, device, release)
    found: list[Dispute] = []
    with desk.database.read() as db:
        stand = standings(desk, platform, release).of
        profiles = {number for number, one in stand.items() if "disputed" in one.marks.values()}
        rows = sorted(device_store.of_profiles(db, profiles), key=lambda row: row.id)
    for row in rows:
        found += _of_device(now, row.id, release)
    return found


def _of_device(now: Picture, device: str, release: str) -> list[Dispute]:
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


def _sides(now: Picture, finding: RequirementFinding, subject: str) -> tuple[Side, ...]:
    rivals = [rival for rival in finding.rivals if rival.fact == subject]
    return tuple(
        Side(r.value, r.source, _trust(now, r.source), r.taken_at, r.outcome.value, at == 0)
        for at, r in enumerate(rivals)
    )


def _verdict_sides(now: Picture, finding: RequirementFinding, view: View) -> tuple[Side, ...]:
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
    said = [
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
    return (facts, *said)


def _trust(now: Picture, source: str) -> int:
    known = now.desk.policy.sources.get(source)
    return known.trust if known else 0


def settle_dispute(
    desk: Desk, actor: Actor, device: str, kind: str, subject: str, value: Any, reason: str
) -> Settlement:
    """Name the value to believe, and why. It holds until a newer reading speaks of the subject.

    `kind` fact: `value` is what one of the sources says. `kind` requirement: `value` is met or unmet. Raises
    `MissingError` where there is nothing contested, `BadInputError` where the value is nobody's.
    """
    if len(reason.strip()) < 5:
        raise BadInputError("A dispute is settled with a reason", "Say in a sentence why this value is right")
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_settlement(desk, before)
        now = picture(desk)
        now.device(device)
        view = now.view(device)
        chosen, seen = _fact(now, view, subject, value) if kind == "fact" else _requirement(now, device, subject, value)
        number = store.add(db, device, kind, subject, chosen, seen.isoformat(), reason.strip(), actor.name, desk.now())
        place(desk, db, [device])
        name = id_of("ST", number)
        body = {"device": device, kind: subject, "value": chosen, "seen_until": seen.isoformat()}
        body["reason"] = reason.strip()
        record(desk, db, actor, "dispute settled", "settlement", name, body, creates=True)
    return get_settlement(desk, name)


def _fact(now: Picture, view: View, subject: str, value: Any) -> tuple[Any, datetime]:
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
        raise BadInputError(error.message, error.mend) from error
    if not any(spec.close(word.value, wanted) for word in words):
        said = " or ".join(spec.show(word.value) for word in words)
        mend = f"Name {said}; a value of your own is a reading: import it with source operator"
        raise BadInputError(f"No source says that {subject} is {spec.show(wanted)}", mend)
    return dump(wanted), max(word.taken_at for word in words)


def _requirement(now: Picture, device: str, subject: str, value: Any) -> tuple[bool, datetime]:
    if value not in ("met", "unmet"):
        raise BadInputError(f"{value!r} is not what a requirement can be", "Name met or unmet")
    said = [v for v in now.view(device).verdicts if v.requirement == subject]
    if not said:
        raise MissingError(f"No verdict speaks of {subject} on {device}", "See 'doorstone dispute list'")
    return value == "met", max(v.taken_at for v in said)


def get_settlement(desk: Desk, name: str) -> Settlement:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        row = store.get(db, number_of("ST", name))
    if row is None:
        raise MissingError(f"There is no settlement {name!r}", "See them with 'doorstone dispute settled'")
    return next(s for s in list_settlements(desk, row.device) if s.id == name)


def list_settlements(desk: Desk, device: str) -> list[Settlement]:
    """Every word of an operator on a device, newest first."""
    now = picture(desk)
    now.device(device)
    view = now.view(device)
    standing: set[str] = {r.id for r in view.ruled.values()}
    standing |= {fact.ruling.id for fact in view.facts.values() if isinstance(fact.ruling, Ruling)}
    with desk.database.read() as db:
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


def _shown(now: Picture, row: store.SettlementRow) -> str:
    if row.kind == "requirement":
        return "met" if row.value else "unmet"
    spec = now.specs.get(row.subject)
    return spec.show(spec.parse(row.value)) if spec else str(row.value)
