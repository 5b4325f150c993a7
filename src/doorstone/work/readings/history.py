"""History that ends: readings that nothing rests on become quiet, and are forgotten once they are old.

A few devices at a time, in turn.
"""

from __future__ import annotations

from doorstone.core.readings.history import PastReading, thinned
from doorstone.store.devices import devices as device_store
from doorstone.store.readings import history as store
from doorstone.store.readings.quiet import ToQuieten
from doorstone.work.context.context import Context
from doorstone.work.snapshot.contents import current_contents

DEVICES = 500  # looked at in one round
PAGES = 512  # given back to the disk in one round at most: 2 MiB


def thin_history(context: Context, many: int = DEVICES) -> int:
    """Look at the history of the next devices. Returns how many readings were forgotten."""
    with context.database.read() as db:
        devices = store.next_devices(db, many)
    with context.database.write() as db:
        records = device_store.records(db, devices)
        readings, decided = store.readings(db, devices), store.decided_at(db, devices)
        forget: dict[str, tuple[PastReading, ...]] = {}
        quieten = []
        for device, held in readings.items():
            current = {(source, at) for source, at, _ in current_contents(records[device])}
            found = thinned(held, current, decided.get(device, ()), context.policy.retention, context.today())
            forget[device] = found.forget
            quieten += [ToQuieten(device, one.source, one.taken_at, one.content, base) for one, base in found.quieten]
        store.keep_turn(db, devices[-1] if len(devices) == many else "")
        store.quieten(db, quieten)
        forgotten = store.forget(db, forget)
    context.database.give_back(PAGES)
    return forgotten
