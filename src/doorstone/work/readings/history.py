"""History that ends: readings that nothing rests on are forgotten once they are old, a few devices at a time."""

from __future__ import annotations

from doorstone.core.readings.history import forgotten
from doorstone.store.devices import devices as device_store
from doorstone.store.readings import history as store
from doorstone.work.context.context import Context
from doorstone.work.snapshot.contents import current_contents

DEVICES = 500  # looked at in one round


def thin_history(context: Context, many: int = DEVICES) -> int:
    """Look at the history of the next devices. Returns how many readings were forgotten."""
    with context.database.read() as db:
        devices = store.next_devices(db, many)
    with context.database.write() as db:
        records = device_store.records(db, devices)
        readings, decided = store.readings(db, devices), store.decided_at(db, devices)
        found = {}
        for device, held in readings.items():
            current = {(source, at) for source, at, _ in current_contents(records[device])}
            past = forgotten(held, current, decided.get(device, ()), context.policy.retention, context.today())
            if past:
                found[device] = past
        store.keep_turn(db, devices[-1] if len(devices) == many else "")
        return store.forget(db, found)
