"""Tasks that follow a changed sheet: made when it is loaded, each with its devices and owner, and worked off."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from doorstone.core.platforms.tasks import NewTask, TaskKind, TaskState, Touched, check_task_change, tasks_of
from doorstone.store import kits as kit_store
from doorstone.store import people as people_store
from doorstone.store import platforms as store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.platforms import TaskRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, rules
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.platforms.impact import Affected, Impact, sheet_impact
from doorstone.work.platforms.revisions import LoadReport, load_sheet
from doorstone.work.snapshot.approvals import stale_devices
from doorstone.work.snapshot.kit_standing import kit_standings
from doorstone.work.snapshot.snapshot import snapshot


class Task(Struct, frozen=True):
    id: str
    row: TaskRow


def load_with_tasks(
    context: Context, actor: Actor, text: str, lists: Mapping[str, str], name: str, seen: int | None = None
) -> LoadReport:
    """Load a sheet, and write down what that leaves to do. Raises as `load_sheet` does."""
    impact = sheet_impact(context, text, lists, name)
    with context.database.write():
        report = load_sheet(context, actor, text, lists, name, seen)
        if report.changed and impact.revision:
            keep_tasks(context, actor, impact, report.revision)
            close_settled_tasks(context, actor, impact.platform)
    return report


def keep_tasks(context: Context, actor: Actor, impact: Impact, revision: int) -> None:
    """Write down the tasks of a change."""
    with context.database.write() as db:
        for one in _tasks(context, actor, impact):
            values = {
                "platform": impact.platform,
                "revision": revision,
                "kind": one.kind.value,
                "object_kind": one.object_kind,
                "object": one.object,
                "devices": list(one.devices),
                "words": one.words,
                "owner": one.owner,
                "by": actor.name,
                "at": context.now(),
            }
            number = store.add_task(db, values)
            record(context, db, actor, "task made", "task", id_of("TS", number), values)


def close_settled_tasks(context: Context, actor: Actor, platform: str) -> None:
    """Close open tasks that a sheet has settled: the approval applies again, or the kit is valid again."""
    now = snapshot(context)
    with context.database.write() as db:
        for row in store.tasks(db, "open", platform):
            if row.kind == TaskKind.EXCEPTION:
                held = exception_store.get(db, number_of("EX", row.object))
                settled = held is not None and not stale_devices(held, now).keys() & set(row.devices)
                note = f"Closed by Door Stone: {row.object} applies again by the sheet that was loaded"
            elif row.kind == TaskKind.KIT:
                kit = kit_store.get(db, number_of("KT", row.object))
                settled = kit is not None and not kit_standings(context, [kit])[kit.id].reasons
                note = f"Closed by Door Stone: {row.object} is valid again by the sheet that was loaded"
            else:
                continue
            if settled:
                store.change_task(db, row.id, TaskState.DONE, row.owner, note, actor.name, context.now())
                body = {"state": TaskState.DONE, "owner": row.owner, "note": note}
                record(context, db, actor, "task done", "task", id_of("TS", row.id), body, devices=row.devices)


def _tasks(context: Context, actor: Actor, impact: Impact) -> Iterator[NewTask]:
    with context.database.read() as db:
        active = {row.name for row in people_store.every(db) if row.active}

        def owned(found: Iterable[Affected], owner_of: Mapping[str, str]) -> list[Touched]:
            owners = {one.id: owner_of.get(one.id, "") for one in found}
            return [
                Touched(one.id, one.devices, one.words, owners[one.id] if owners[one.id] in active else "")
                for one in found
            ]

        exceptions = {id_of("EX", row.id): row.owner for row in exception_store.standing(db)}
        kits = {id_of("KT", row.id): row.made_by for row in kit_store.every(db, None)}
    moves = [
        Touched(move.becomes, move.devices, [f"{move.count} at {move.release} go from {move.was} to {move.becomes}"])
        for move in impact.moves
    ]
    runways = [
        Touched(move.line, move.devices, [f"the {move.line} runway of {move.count} goes from {move.was or 'none'} to "
                                          f"{move.becomes or 'none'}"])
        for move in impact.runways
        if move.was is not None and (move.becomes is None or move.becomes < move.was)
    ]  # fmt: skip
    stale = [one for one in impact.exceptions if not one.restored]
    yield from tasks_of(
        impact.platform, owned(stale, exceptions), owned(impact.kits, kits), owned(impact.relying, {}), moves, runways,
        actor.name,
    )  # fmt: skip


def list_tasks(context: Context, state: str = "", platform: str = "") -> list[Task]:
    """Tasks of changed sheets, those of the newest first. Raises `BadInputError` for an unknown state."""
    if state and state not in set(TaskState):
        raise BadInputError(f"{state!r} is no state of a task", f"Use one of {', '.join(TaskState)}")
    with context.database.read() as db:
        return [Task(id_of("TS", row.id), row) for row in store.tasks(db, state, platform)]


def change_task(context: Context, actor: Actor, name: str, state: str = "", owner: str = "", note: str = "") -> Task:
    """Settle a task, open it again, or give it to somebody else. Raises `MissingError`, `BadInputError`."""
    with context.database.write() as db:
        row = store.task(db, number_of("TS", name))
        if row is None:
            raise MissingError(f"There is no task {name!r}", "See them with 'doorstone task list'")
        if owner:
            person = people_store.get(db, owner)
            if person is None or not person.active:
                raise BadInputError(f"There is no active account named `{owner}`", "See them with 'person list'")
        after = state or row.state
        if state or not owner:
            with rules():
                check_task_change(row.state, after, note)
        store.change_task(db, row.id, after, owner or row.owner, note.strip() or row.note, actor.name, context.now())
        body = {"state": after, "owner": owner or row.owner, "note": note.strip()}
        record(context, db, actor, f"task {after}", "task", id_of("TS", row.id), body, devices=row.devices)
    return next(one for one in list_tasks(context) if one.row.id == row.id)
