"""The register over real HTTP: several people at once, a service that is killed, what is handed over, what leaks."""

from __future__ import annotations

import csv
import io
import json
import signal
import sqlite3
import threading
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx
import pytest
from trestle.oscal.poam import PlanOfActionAndMilestones

from doorstone.api.people import PersonChangeRequest, TokenRequest
from doorstone.client import Client, StaleEditError
from doorstone.core.exceptions.requests import NewAttachment, NewCondition
from doorstone.demo.seed import PASSWORD, sheet_text
from doorstone.store.database import Database
from doorstone.store.exceptions import exceptions as store
from doorstone.work.context.audit import record
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.exceptions import register
from doorstone.work.ledger import entries as ledger
from doorstone.work.people import people
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from tests.asking import ADMIN, NOTICE, PETRA, RISK, granted, line, read
from tests.build import CHIPLESS, GOOD
from tests.running import Done, doorstone, start_service, stop
from tests.service.test_write_priority import at_once, person, terms

NOON = datetime(2027, 1, 18, 9)
HOSTILE = "\"><script>alert('x')</script> $(reboot) =cmd|' /C calc'!A0"


# ------------------------------------------------------------- at the same moment


def test_two_approvers_a_lapse_and_a_transfer_at_the_same_moment(live: str) -> None:
    anselm, wilhelmina = person(live, "anselm"), person(live, "wilhelmina")
    seen = anselm.exception("EX-0003").version
    results = at_once(
        lambda: anselm.decide_exception("EX-0003", "approve", seen, "Seen."),
        lambda: wilhelmina.decide_exception("EX-0003", "decline", seen, "Not this one."),
        lambda: wilhelmina.transfer_exception("EX-0003", seen, "odile"),
        lambda: person(live, "petra").edit_exception("EX-0003", seen, terms("wilhelmina")),
    )
    assert sum(isinstance(result, StaleEditError) for result in results) == 3, results
    held = anselm.exception("EX-0003")
    assert held.version == seen + 1
    assert len(anselm.story("exception", "EX-0003")) == 2
    assert anselm.check_ledger().ok


def test_what_is_said_at_the_same_moment_is_all_kept(live: str) -> None:
    people_ = [person(live, name) for name in ("petra", "anselm", "wilhelmina")]

    def say(who: Client, number: int) -> Callable[[], Any]:
        return lambda: who.comment("EX-0001", f"remark {number}")

    at_once(*[say(who, number) for number, who in enumerate(people_ * 3)])
    said = {comment.text for comment in people_[0].exception("EX-0001").comments}
    assert said >= {f"remark {number}" for number in range(9)}


# ------------------------------------------------------------------------ killed


def waiting_requests(data: Path, count: int) -> None:
    """A data folder with so many devices, each with a request that waits."""
    context = Context(Database(data / "doorstone.db"), FixedClock(NOON))
    revisions.load_sheet(context, ADMIN, *sheet_text(), "tarn.toml")
    for name, role in (("anselm", "approver"), ("petra", "technician")):
        people.add_person(context, ADMIN, name, "", role, PASSWORD)
    facts = {**GOOD, "disk.system_gib": 29}
    import_job.import_readings(
        context, PETRA, "".join(line(f"d{n}", facts) for n in range(count)), ImportOptions("ndjson")
    )
    values = {
        "platform": "tarn", "release": "9.1", "up_to": 0, "reason": "Small disks.", "risk_version": 1,
        "risk_text": RISK, "notice_text": NOTICE, "acknowledged_by": "petra", "owner": "petra",
        "start_on": "2027-01-18", "expires_on": "2027-12-31", "review_on": "2027-06-01", "requester": "petra",
        "requested_at": context.now(), "approvals_needed": 1, "renews": None,
    }  # fmt: skip
    with context.database.write() as db:
        for number in range(1, count + 1):
            device = f"d{number - 1}"
            store.add(db, values, ["storage"], [device])
            body = {**values, "requirements": ["storage"], "devices": [device]}
            record(context, db, PETRA, "exception requested", "exception", f"EX-{number:04d}", body)
    context.database.close()


@pytest.mark.process
def test_killed_in_the_middle_of_many_approvals_every_answered_one_is_there_whole(tmp_path: Path) -> None:
    data = tmp_path / "data"
    waiting_requests(data, 400)
    process, address = start_service(data)
    answered: list[str] = []
    enough = threading.Event()

    def approve(numbers: range) -> None:
        client = person(address, "anselm")
        for number in numbers:
            name = f"EX-{number:04d}"
            try:
                client.decide_exception(name, "approve", 1, "All of them.")
            except Exception:
                return
            answered.append(name)
            if len(answered) >= 60:
                enough.set()

    workers = [threading.Thread(target=approve, args=(range(first, 401, 4),)) for first in range(1, 5)]
    for worker in workers:
        worker.start()
    assert enough.wait(120)
    process.send_signal(signal.SIGKILL)
    for worker in workers:
        worker.join(120)
    process.wait(60)
    context = Context(Database(data / "doorstone.db"), FixedClock(NOON))
    assert ledger.check_ledger(context).ok
    with context.database.read() as db:
        rows = {f"EX-{row.id:04d}": row for row in store.every(db)}
        entries = {e.object for e in ledger.walk(context, 0, 10_000) if e.action == "exception approved"}
    approved = {name for name, row in rows.items() if row.state == "approved"}
    assert set(answered) <= approved == entries
    assert 60 <= len(approved) < 400
    for name, row in rows.items():
        whole = (bool(row.shown), [a.person for a in row.approvals], row.decided_by, row.version)
        assert whole == ((True, ["anselm"], "anselm", 2) if name in approved else (False, [], None, 1)), name


@pytest.mark.parametrize(
    ("tamper", "fault"),
    [
        ("UPDATE ledger SET actor = 'odile' WHERE seq = 6", "entry 6 was altered"),
        ("DELETE FROM ledger WHERE seq = 7", "entry 7 is missing"),
        ("DELETE FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)", "is missing at the end"),
        ("UPDATE ledger SET seq = CASE seq WHEN 6 THEN -7 ELSE -6 END WHERE seq IN (6, 7)", "out of order"),
    ],
)
def test_records_changed_by_hand_are_found_by_ledger_verify(demo: Context, tamper: str, fault: str) -> None:
    path = demo.database.path
    with sqlite3.connect(path) as db:
        db.executescript(f"DROP TRIGGER ledger_keeps; DROP TRIGGER ledger_stays; PRAGMA foreign_keys = OFF; {tamper};")
    db.close()
    done = doorstone(("ledger", "verify", "--data", path.parent, "--format", "json"), {})
    assert done.returncode == 1
    assert any(fault in found for found in json.loads(done.stdout)["faults"]), done.stdout


def test_an_export_of_the_ledger_is_checked_without_a_service(demo: Context, tmp_path: Path, as_role: Any) -> None:
    file = tmp_path / "ledger.ndjson"
    file.write_bytes(b"".join(as_role("viewer").export_ledger()))

    def verify() -> Done:
        return doorstone(("ledger", "verify", "--file", file, "--format", "json"), {})

    entries = ledger.check_ledger(demo).entries
    assert json.loads(verify().stdout) == {"entries": entries, "ok": True, "faults": [], "head": ""}
    lines = file.read_text().splitlines()
    file.write_text("\n".join([*lines[:4], lines[4].replace('"actor": "', '"actor": "x'), *lines[5:]]))
    assert "was altered" in verify().stdout
    file.write_text("\n".join([*lines[:4], "{}"]))
    assert verify().returncode == 4


# ----------------------------------------------------------------- handed over


def hostile(context: Context) -> str:
    read(context, line("d1", CHIPLESS))
    condition = NewCondition(HOSTILE)
    attachment = NewAttachment(HOSTILE, "https://northmere.example/?q=<b>&x='")
    return granted(context, "d1", reason=HOSTILE, conditions=(condition,), more={"attachments": (attachment,)})


def test_the_page_stands_alone_and_nothing_that_was_typed_becomes_code(context: Context) -> None:
    text, style = register.page(context, hostile(context))
    assert "<script" not in text
    assert "&lt;script&gt;alert(&#39;x&#39;)" in text
    assert style.startswith("sha256-")
    assert "<link" not in text
    assert "src=" not in text
    assert "anselm" in text
    assert "tpm.version 1.2" in text
    assert RISK.replace("'", "&#39;") in text


def test_the_register_is_exported_as_a_table_as_json_and_as_a_plan_of_action(context: Context, as_role: Any) -> None:
    viewer = as_role("viewer")
    rows = list(csv.DictReader(io.StringIO(viewer.export_exceptions("csv").decode())))
    found = {row["exception"]: row for row in rows}
    assert len(rows) == 9
    assert (found["EX-0001"]["approved by"], found["EX-0001"]["through"]) == ("anselm", "2027-09-01")
    assert (found["EX-0008"]["state"], found["EX-0005"]["stale devices"]) == ("lapsed", "nbt-047")
    assert [(row["exception"], row["residual risk"]) for row in json.loads(viewer.export_exceptions("json"))] == [
        ("EX-0007", 12), ("EX-0003", 12), ("EX-0001", 10), ("EX-0009", 8), ("EX-0005", 7), ("EX-0002", 7),
        ("EX-0006", 6), ("EX-0004", 13), ("EX-0008", 10),  # the last two have ended
    ]  # fmt: skip
    plan = json.loads(viewer.export_exceptions("oscal"))["plan-of-action-and-milestones"]
    read_back = PlanOfActionAndMilestones.model_validate(plan)
    assert [item.title.split(":")[0] for item in read_back.poam_items] == [
        "EX-0009", "EX-0008", "EX-0007", "EX-0006", "EX-0005", "EX-0003", "EX-0002", "EX-0001",
    ]  # fmt: skip
    statuses = [risk["status"] for risk in plan["risks"]]
    assert statuses[:3] == ["deviation-approved", "open", "deviation-requested"]
    assert statuses[-1] == "deviation-approved"


def test_hostile_words_stay_words_in_every_export(context: Context) -> None:
    hostile(context)
    row = register.rows(context)[0]
    assert row["reason"] == HOSTILE
    PlanOfActionAndMilestones.model_validate(register.oscal(context)["plan-of-action-and-milestones"])
    empty = Context(Database(context.database.path.parent / "other" / "doorstone.db"), context.clock)
    PlanOfActionAndMilestones.model_validate(register.oscal(empty)["plan-of-action-and-milestones"])


# ------------------------------------------------------------------------ leaks


@pytest.mark.process
def test_no_secret_in_a_log_line_an_error_or_an_export(tmp_path: Path) -> None:
    data = tmp_path / "data"
    waiting_requests(data, 1)
    context = Context(Database(data / "doorstone.db"), FixedClock(NOON))
    people.add_person(context, ADMIN, "wilhelmina", "", "administrator", PASSWORD)
    secrets = [PASSWORD, "another password 2"]
    process, address = start_service(data)
    try:
        client = person(address, "wilhelmina")
        token = client.issue_token(TokenRequest(name="t", role="administrator", days=3)).secret or ""
        calendar = client.make_calendar()
        webhook = httpx.post(
            f"{address}/api/v1/webhooks",
            json={"url": "https://webhooks.example/told"},
            headers={"Authorization": f"Bearer {token}"},
        ).json()["secret"]
        httpx.get(f"{address}{calendar}")
        httpx.get(f"{address}/api/v1/people", headers={"Authorization": f"Bearer {token}x"})
        wrong = httpx.post(
            f"{address}/api/v1/session", json={"name": "petra", "password": "another password 2"},
            headers={"X-Doorstone-Console": "1"},
        )  # fmt: skip
        secrets += [token, webhook, calendar.rsplit("/", 1)[1].removesuffix(".ics")]
        shown = [wrong.text, "".join(piece.decode() for piece in client.export_ledger())]
        shown += [client.export_exceptions(form).decode() for form in ("csv", "json", "oscal")]
        shown += [person.model_dump_json() for person in client.people()]
    finally:
        stop(process)
    shown.append((tmp_path / "data.log").read_text())
    assert "/api/v1/calendar/" in shown[-1]
    for secret in secrets:
        assert all(secret not in text for text in shown), secret
    held = context.database.path.read_bytes()
    assert PASSWORD.encode() not in held
    assert token.encode() not in held


def test_a_person_changed_by_two_at_once_is_changed_by_one(live: str) -> None:
    one, other = person(live, "wilhelmina"), person(live, "wilhelmina")
    version = next(p.version for p in one.people() if p.name == "odile")
    results = at_once(
        lambda: one.change_person("odile", version, PersonChangeRequest(display="Odile M.")),
        lambda: other.change_person("odile", version, PersonChangeRequest(display="O. Marchbank")),
    )
    assert sum(isinstance(result, StaleEditError) for result in results) == 1


def test_the_impact_of_a_sheet_that_moves_states_goes_over_the_wire(as_role: Any) -> None:
    admin = as_role("administrator")
    text, lists = sheet_text()
    text = text.replace("at_least = 60, tolerance", "at_least = 200, tolerance")
    found = admin.sheet_impact(text, lists, "tarn.toml")
    assert {(move.platform, move.was, move.becomes) for move in found.moves} >= {("tarn", "clear", "needs-exception")}
