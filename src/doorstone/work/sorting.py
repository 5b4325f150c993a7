"""Sorting: what a release asks of the fleet, what each requirement is taken for, and the decisions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

from doorstone.core.fleet import RollUp, roll_up
from doorstone.core.platforms import Sort
from doorstone.core.sorting import Decision, Scope, effective_sort
from doorstone.store import attempts as attempt_store
from doorstone.store import decisions as store
from doorstone.work.desk import Actor, Desk, id_of, made_before, record
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.picture import picture
from doorstone.work.sheets import get_sheet, need_release

EVIDENCE = ("vendor-statement", "trial", "attempt", "report")


@dataclass(frozen=True, slots=True)
class SortingRow:
    """One requirement at a release: its sort for the fleet, where it comes from, and the evidence there is."""

    requirement: str
    title: str
    condition: str
    because: str
    source: str
    enforced_at: tuple[str, ...]
    sort: Sort
    sorted_by: str
    marks: Mapping[str, int]
    ran: int
    refused: int
    failed_to_start: int
    against: str
    decisions: tuple[Decision, ...]


def sorting_table(desk: Desk, platform_id: str, release: str) -> list[SortingRow]:
    """Every requirement of the release, in the sheet's order, with counts over the fleet and tallies of attempts."""
    sheet = get_sheet(desk, platform_id)
    platform = sheet.platform
    need_release(platform, release)
    now = picture(desk)
    decisions = now.decisions_for(platform)
    counts = {c.requirement: c for c in fleet_roll_up(desk, platform_id, release).requirements}
    with desk.database.read() as db:
        attempts = [a for a in attempt_store.every(db) if (a.platform, a.release) == (platform.id, release)]
    rows = []
    for requirement in platform.requirements_at(release):
        sort, sorted_by = effective_sort(platform, requirement, release, decisions, "", "")
        tally = Counter(a.outcome for a in attempts if requirement.id in a.unmet)
        refused = sum(1 for a in attempts if requirement.id in a.refused_by.split(", "))
        against = ""
        if sort is Sort.FLOOR and tally["completed"]:
            against = f"sorted as a floor, yet {tally['completed']} device(s) without it run {release}"
        elif sort is Sort.CHECK and tally["failed-to-start"]:
            against = f"sorted as an installer check, yet {tally['failed-to-start']} device(s) failed to start"
        rows.append(
            SortingRow(
                requirement.id,
                requirement.title,
                str(requirement.condition),
                requirement.because,
                requirement.source,
                requirement.enforced_at,
                sort,
                sorted_by,
                counts[requirement.id].marks,
                tally["completed"],
                refused,
                tally["failed-to-start"],
                against,
                tuple(d for d in decisions if (d.requirement, d.release) == (requirement.id, release)),
            )
        )
    return rows


def fleet_roll_up(desk: Desk, platform_id: str, release: str) -> RollUp:
    """Counts per state, requirement and combination over the devices of a platform."""
    sheet = get_sheet(desk, platform_id)
    need_release(sheet.platform, release)
    now = picture(desk)
    assessed = [(now.summary(device, release), 1) for device in now.on_platform(platform_id)]
    return roll_up(sheet.platform, release, assessed)


def decide(
    desk: Desk,
    actor: Actor,
    platform_id: str,
    requirement: str,
    release: str,
    scope: str,
    target: str,
    sort: str,
    evidence: str,
    note: str,
) -> Decision:
    """Take a sorting decision. Raises `BadInputError` or `MissingError` that names what does not fit."""
    platform = get_sheet(desk, platform_id).platform
    need_release(platform, release)
    if requirement not in {r.id for r in platform.requirements_at(release)}:
        known = ", ".join(r.id for r in platform.requirements_at(release))
        raise MissingError(f"Release {release} asks for no {requirement!r}", f"It asks for {known}")
    if scope == Scope.DEVICE:
        picture(desk).device(target)
    elif scope == Scope.MODEL and not target:
        raise BadInputError("A decision for a model needs the model", "Give the machine model as target")
    elif scope == Scope.RELEASE and target:
        raise BadInputError("A decision for a whole release has no target", "Leave the target out")
    if evidence not in EVIDENCE:
        raise BadInputError(f"{evidence!r} is not a kind of evidence", f"Use one of {', '.join(EVIDENCE)}")
    if len(note.strip()) < 5:
        raise BadInputError("A decision carries a note", "Say in a sentence what the evidence shows")
    values = {
        "platform": platform_id,
        "requirement": requirement,
        "release": release,
        "scope": Scope(scope).value,
        "target": target,
        "sort": Sort(sort).value,
        "evidence": evidence,
        "note": note.strip(),
        "by": actor.name,
        "at": desk.now(),
    }
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_decision(desk, before)
        number = store.add(db, **values)
        record(desk, db, actor, "sorted", "decision", id_of("SD", number), values, creates=True)
    return get_decision(desk, id_of("SD", number))


def get_decision(desk: Desk, name: str) -> Decision:
    found = next((d for d in picture(desk).decisions if d.id == name), None)
    if found is None:
        raise MissingError(f"There is no decision {name!r}", "See them on the sorting page")
    return found
