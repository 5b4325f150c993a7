"""What is already done for a device, as its recommended course takes it into account."""

from __future__ import annotations

from doorstone.core.forecast.course import Progress
from doorstone.core.platforms.platform import UpdateClass
from doorstone.store import attempts as attempt_store
from doorstone.store import kits as kit_store
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.kit_standing import kit_standings
from doorstone.work.snapshot.observations import observation_of
from doorstone.work.snapshot.snapshot import Snapshot


def progress_of(now: Snapshot, device: str) -> Progress:
    """The newest valid kit of a device for each release, and the newest answer about an offer that still counts."""
    context = now.context
    with context.database.read() as db:
        rows = kit_store.every(db, device)
        seen = [observation_of(row) for row in attempt_store.observations(db, device)]
    standings = kit_standings(context, rows)
    kits = {row.release: id_of("KT", row.id) for row in reversed(rows) if not standings[row.id].reasons}
    offers = [one for one in seen if one.update_class is UpdateClass.RELEASE and one.seen_on <= now.today]
    newest = max(offers, key=lambda one: one.seen_on, default=None)
    if newest is not None and (now.today - newest.seen_on).days > context.policy.check_every_days:
        newest = None
    return Progress(kits, newest)
