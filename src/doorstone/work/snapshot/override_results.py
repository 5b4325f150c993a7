"""What attempts have shown of overrides, read from the records: on each device, and on its model."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from doorstone.core.attempts.override_results import OverrideResults, OverrideTries, Remarks, refused_on, seldom_works
from doorstone.core.platforms.platform import Platform
from doorstone.store import attempts as store
from doorstone.store import kits as kit_store
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of


class FleetOverrideResults:
    """The experience with a platform's overrides, as of now: that of models is counted, that of devices read."""

    def __init__(self, context: Context, platform: Platform) -> None:
        self._context = context
        self._platform = platform
        with context.database.read() as db:
            counts = store.override_tries(db, platform.id)
        self._poor = {model: remarks for model, mine in counts.items() if (remarks := seldom_works(model, mine))}
        self._refused: dict[str, Remarks] = {}

    def of(self, device: str, model: str) -> OverrideResults:
        """What is known of a device of this model."""
        self.read([device])
        return OverrideResults(self._refused[device], self._poor.get(model, ()))

    def of_model(self, model: str) -> OverrideResults:
        """What is known of devices of a model on which nothing was refused."""
        return OverrideResults((), self._poor.get(model, ()))

    def refused(self) -> set[str]:
        """The devices on which something was refused."""
        with self._context.database.read() as db:
            names = store.refused_devices(db, self._platform.id)
        self.read(names)
        return {name for name in names if self._refused[name]}

    def read(self, devices: Iterable[str]) -> None:
        """Read the attempts on these devices, all at once."""
        missing = [name for name in devices if name not in self._refused]
        if not missing:
            return
        self._refused |= dict.fromkeys(missing, ())
        with self._context.database.read() as db:
            rows = store.of_refused(db, self._platform.id, missing)
            kits = kit_store.overrides_of(db, {row.kit for row in rows if row.kit is not None}) if rows else {}
        by_device: dict[str, list[OverrideTries]] = {}
        for row in sorted(rows, key=lambda row: (row.ended_at, row.id)):
            tried = OverrideTries(
                id_of("AT", row.id),
                row.release,
                kits.get(row.kit or 0, ()),
                row.outcome,
                tuple(name for name in row.refused_by.split(", ") if name),
                date.fromisoformat(row.ended_at[:10]),
            )
            by_device.setdefault(row.device, []).append(tried)
        self._refused |= {device: refused_on(self._platform, tries) for device, tries in by_device.items()}
