"""Selections of devices: a filter given on the spot or saved under a name, and what of the fleet it chooses."""

from __future__ import annotations

from msgspec.structs import asdict

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store.devices import selections as store
from doorstone.store.devices.selections import SelectionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.selecting import choose_devices

# --------------------------------------------------------------------- saved


def save_selection(
    context: Context, actor: Actor, name: str, platform_id: str, release: str, where: DeviceFilter
) -> SelectionRow:
    """Save a filter under a name; the same name again replaces it."""
    if not name.strip() or len(name) > 80 or not name.isprintable() or "/" in name:
        raise BadInputError("A selection has a name", "Give one of up to 80 letters, without a slash")
    choose_devices(context, platform_id, release, where)
    if where == DeviceFilter():
        raise BadInputError("The selection chooses every device", "Give at least one condition")
    row = SelectionRow(name.strip(), platform_id, release, where, actor.name, context.now())
    with context.database.write() as db:
        store.save(db, row)
        body = {"platform": platform_id, "release": release, **asdict(where)}
        record(context, db, actor, "selection saved", "selection", row.name, body)
    return row


def list_selections(context: Context) -> list[SelectionRow]:
    with context.database.read() as db:
        return store.every(db)


def delete_selection(context: Context, actor: Actor, name: str) -> None:
    """Forget a selection. Raises `MissingError`."""
    with context.database.write() as db:
        if not store.delete(db, name):
            raise MissingError(f"There is no selection {name!r}", "See them with 'doorstone selection list'")
        record(context, db, actor, "selection deleted", "selection", name, {})
