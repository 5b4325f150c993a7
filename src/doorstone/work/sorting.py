"""Sorting: what a release asks of the fleet, what each requirement is taken for, and the decisions."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import Scope, effective_sort
from doorstone.core.sorting.evidence import Tally, Trial, check_evidence, contradiction, tallies
from doorstone.store import attempts as attempt_store
from doorstone.store import sorting as store
from doorstone.store.attempts import AttemptRow
from doorstone.store.sorting import DecisionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.roll_up import fleet_roll_up
from doorstone.work.snapshot.settling import place
from doorstone.work.snapshot.sheets import get_sheet, need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot


class DecisionRecord(Struct, frozen=True):
    """A decision as it was taken, and whether somebody has withdrawn it since."""

    id: str
    requirement: str
    release: str
    scope: str
    target: str
    sort: str
    evidence: str
    note: str
    link: str
    by: str
    at: str
    withdrawn_at: str | None
    withdrawn_by: str
    withdrawn_note: str


class SortingRow(Struct, frozen=True):
    """One requirement at a release: its sort for the fleet, where it comes from, and the evidence there is."""

    requirement: str
    title: str
    condition: str
    because: str
    source: str
    enforced_at: tuple[str, ...]
    reported: bool
    sort: Sort
    sorted_by: str
    marks: Mapping[str, int]
    ran: int
    refused: int
    failed_to_start: int
    tallies: tuple[Tally, ...]
    against: str
    decisions: tuple[DecisionRecord, ...]


def sorting_table(context: Context, platform_id: str, release: str) -> list[SortingRow]:
    """Every requirement of the release, in the sheet's order, with counts over the fleet and tallies of attempts."""
    sheet = get_sheet(context, platform_id)
    platform = sheet.platform
    need_release(platform, release)
    now = snapshot(context)
    decisions = now.decisions_for(platform)
    counts = {c.requirement: c for c in fleet_roll_up(context, platform_id, release).requirements}
    with context.database.read() as db:
        attempts = [a for a in attempt_store.every(db) if (a.platform, a.release) == (platform.id, release)]
        records = [_record(row) for row in store.every(db, platform_id)]
    trials = _trials(now, attempts)
    rows = []
    for requirement in platform.requirements_at(release):
        sort, sorted_by = effective_sort(platform, requirement, release, decisions, "", "")
        found = tallies(trials, requirement.id)
        sorts = {t.model: effective_sort(platform, requirement, release, decisions, "", t.model)[0] for t in found}
        rows.append(
            SortingRow(
                requirement.id,
                requirement.title,
                str(requirement.condition),
                requirement.because,
                requirement.source,
                requirement.enforced_at,
                requirement.id in sheet.reported,
                sort,
                sorted_by,
                counts[requirement.id].marks,
                sum(t.ran for t in found),
                sum(t.refused for t in found),
                sum(t.failed_to_start for t in found),
                found,
                "; ".join(filter(None, (contradiction(release, t, sorts[t.model]) for t in found))),
                tuple(d for d in records[::-1] if (d.requirement, d.release) == (requirement.id, release)),
            )
        )
    return rows


def _trials(now: Snapshot, attempts: list[AttemptRow]) -> list[Trial]:
    return [Trial(a.device, now.device(a.device).model, a.outcome, a.unmet, a.refused_by.split(", ")) for a in attempts]


def _record(row: DecisionRow) -> DecisionRecord:
    fields = {name: value for name, value in asdict(row).items() if name != "platform"}
    return DecisionRecord(**{**fields, "id": id_of("SD", row.id)})


def decide(
    context: Context,
    actor: Actor,
    platform_id: str,
    requirement: str,
    release: str,
    scope: str,
    target: str,
    sort: str,
    evidence: str,
    note: str,
    link: str = "",
) -> DecisionRecord:
    """Take a sorting decision. Raises `BadInputError` or `MissingError` that names what does not fit."""
    platform = get_sheet(context, platform_id).platform
    need_release(platform, release)
    if requirement not in {r.id for r in platform.requirements_at(release)}:
        known = ", ".join(r.id for r in platform.requirements_at(release))
        raise MissingError(f"Release {release} asks for no {requirement!r}", f"It asks for {known}")
    if scope == Scope.DEVICE:
        snapshot(context).device(target)
    elif scope == Scope.MODEL:
        known_models = snapshot(context).places(platform).models
        if target not in known_models:
            raise BadInputError(f"No device is a {target!r}", f"Use one of {', '.join(known_models) or 'none yet'}")
    elif scope == Scope.RELEASE and target:
        raise BadInputError("A decision for a whole release has no target", "Leave the target out")
    with rules():
        check_evidence(evidence, note, link)
    values = {
        "platform": platform_id,
        "requirement": requirement,
        "release": release,
        "scope": Scope(scope).value,
        "target": target,
        "sort": Sort(sort).value,
        "evidence": evidence,
        "note": note.strip(),
        "link": link.strip(),
        "by": actor.name,
        "at": context.now(),
    }
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_decision(context, before)
        number = store.add(db, **values)
        if scope == Scope.DEVICE:
            place(context, db, [target])
        record(context, db, actor, "sorted", "decision", id_of("SD", number), values, creates=True)
    return get_decision(context, id_of("SD", number))


def withdraw(context: Context, actor: Actor, name: str, note: str) -> DecisionRecord:
    """Withdraw a decision: the next word in the order of precedence counts again. Raises `MissingError`."""
    if len(note.strip()) < 5:
        raise BadInputError("To withdraw a decision takes a reason", "Say in a sentence why it no longer holds")
    with context.database.write() as db:
        row = store.get(db, number_of("SD", name))
        if row is None:
            raise _no_decision(name)
        if row.withdrawn_at is not None:
            raise RefusedError(f"{name} was withdrawn on {row.withdrawn_at[:10]}", "Take a new decision instead")
        store.withdraw(db, row.id, actor.name, context.now(), note.strip())
        if row.scope == Scope.DEVICE:
            place(context, db, [row.target])
        record(context, db, actor, "sorting withdrawn", "decision", name, {"note": note.strip()})
    return get_decision(context, name)


def get_decision(context: Context, name: str) -> DecisionRecord:
    """One sorting decision. Raises `MissingError`."""
    with context.database.read() as db:
        row = store.get(db, number_of("SD", name))
    if row is None:
        raise _no_decision(name)
    return _record(row)


def list_decisions(context: Context, platform_id: str, requirement: str = "") -> list[DecisionRecord]:
    """Every decision on a platform, withdrawn ones too, newest first."""
    get_sheet(context, platform_id)
    with context.database.read() as db:
        rows = store.every(db, platform_id)
    return [_record(row) for row in reversed(rows) if not requirement or row.requirement == requirement]


def _no_decision(name: str) -> MissingError:
    return MissingError(f"There is no decision {name!r}", "See them with 'doorstone sorting decisions'")
