from __future__ import annotations

from typing import Any

from doorstone.core.kits.gates import check_gates
from doorstone.core.platforms.platform import Route
from tests.build import GOOD, MEDIA, tarn, view


def results(route: Route = Route.IN_PLACE, **changes: Any) -> dict[str, str]:
    facts = {**GOOD, **MEDIA, **{name.replace("__", "."): value for name, value in changes.items()}}
    seen = view({name: value for name, value in facts.items() if value is not None})
    return {g.gate.id: g.result for g in check_gates(tarn(), route, seen)}


def test_gates_hold_on_a_ready_device() -> None:
    assert set(results().values()) == {"holds"}


def test_situation_30_an_encrypted_disk_needs_its_recovery_key_saved() -> None:
    assert results(disk__encrypted=True, care__recovery_key_saved=False)["recovery-key"] == "stops"
    assert results(disk__encrypted=True, care__recovery_key_saved=True)["recovery-key"] == "holds"


def test_situation_20_pending_updates_warn() -> None:
    assert results(os__pending_updates=2)["pending-updates"] == "warns"


def test_a_backup_stops_at_fifteen_days_and_an_unread_one_blocks() -> None:
    assert results(care__last_backup="2027-01-04")["backup"] == "holds"
    assert results(care__last_backup="2027-01-03")["backup"] == "stops"
    unread = check_gates(tarn(), Route.IN_PLACE, view({k: v for k, v in GOOD.items() if "backup" not in k}))
    assert (unread[0].result, unread[0].blocks) == ("unread", True)
    assert unread[0].measured == "care.last_backup never read"


def test_a_gate_asks_only_on_its_routes() -> None:
    assert "free-space" not in results(Route.CLEAN)
