"""The check-up of a service over its client and command line; deliveries and receipts end after their days."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import pytest
from msgspec.structs import replace

from doorstone.client import Client, RoleError
from doorstone.core.readings.history import Retention
from doorstone.service.scheduler import Scheduler
from doorstone.store import ledger as ledger_store
from doorstone.store import notifications
from doorstone.work.context.context import Context
from doorstone.work.operations.doctor import look_over
from doorstone.work.operations.history import forget_ended

Make = Callable[[str], Client]


def test_administrators_see_how_the_service_does(as_role: Make) -> None:
    found = as_role("administrator").doctor(deep=True)
    checks = {check.name: check for check in found.checks}
    assert (found.vitals.devices, found.vitals.in_service, found.vitals.faults) == (196, 193, [])
    assert checks["whole"].words == "The records are whole, and the ledger holds from its first entry"
    assert found.level in ("ok", "look")
    with pytest.raises(RoleError):
        as_role("approver").doctor()


def test_an_altered_entry_and_a_failed_round_are_found(demo: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    assert look_over(demo).vitals.faults is None
    monkeypatch.setattr("doorstone.service.scheduler.tell_due", lambda _: 1 / 0)
    Scheduler(demo, lambda *_: (200, ""), None, 45)._safely()
    demo.database.connection.execute("DROP TRIGGER ledger_keeps")
    demo.database.connection.execute("UPDATE ledger SET body = '{}' WHERE seq = 7")
    found = look_over(demo, deep=True)
    assert found.level == "wrong"
    words = {check.name: check.words for check in found.checks if check.level == "wrong"}
    assert words["rounds"] == "The last round failed: ZeroDivisionError: division by zero"
    assert "7" in words["whole"]


def test_deliveries_and_receipts_end_after_their_days_and_what_waits_stays(context: Context) -> None:
    days = {"old": 91, "young": 89}
    with context.database.write() as db:
        webhook = notifications.add_webhook(db, "https://northmere.example/in", (), "s", "petra", context.now())
        for name, ago in days.items():
            at = (context.moment() - timedelta(days=ago)).isoformat()
            for state in ("done", "given-up", "waiting"):
                number = notifications.add_delivery(db, webhook, "", f"{name} {state}", "exception.lapsed", "{}", at)
                notifications.tried(db, number, state, at, "")
            ledger_store.keep_receipt(
                db, "petra", name, "f", "EX-0001", (context.moment() - timedelta(ago / 3)).isoformat()
            )
    assert forget_ended(context) == 3
    with context.database.read() as db:
        left = {one.event for one in notifications.deliveries(db, webhook)}
        receipts = [ledger_store.find_receipt(db, "petra", name) for name in days]
    assert left == {"old waiting", "young done", "young given-up", "young waiting"}
    assert receipts == [None, ("f", "EX-0001")]
    context.policy = replace(context.policy, retention=Retention(delivery_days=1))
    assert forget_ended(context) == 2
