"""Exceptions: their terms, devices, approvals, conditions, attachments and comments."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable, Mapping
from datetime import date
from typing import Any, NamedTuple

from doorstone.core.exceptions.requests import ConditionTerms
from doorstone.store.devices import profiles
from doorstone.store.exceptions.rows import (
    ApprovalRow,
    ConditionRow,
    ExceptionRow,
    SecondLookRow,
    TermsRow,
    load,
)

CHANGED = "changed"
"""Beside the findings that an approval rests on: why the device itself is no longer what was approved."""


def add(db: sqlite3.Connection, values: Mapping[str, Any], requirements: Iterable[str], devices: Iterable[str]) -> int:
    cursor = db.execute(
        "INSERT INTO exceptions (platform, release, up_to, reason, risk_version, risk_text, notice_text,"
        " acknowledged_by, owner, start_on, expires_on, review_on, state, requester, requested_at, approvals_needed,"
        " renews)"
        " VALUES (:platform, :release, :up_to, :reason, :risk_version, :risk_text, :notice_text,"
        " :acknowledged_by, :owner, :start_on, :expires_on, :review_on, 'requested', :requester, :requested_at,"
        " :approvals_needed, :renews)",
        values,
    )
    number, devices = int(cursor.lastrowid or 0), list(devices)
    db.executemany(
        "INSERT INTO exception_requirements (exception, requirement) VALUES (?, ?)",
        [(number, name) for name in requirements],
    )
    db.executemany(
        "INSERT INTO exception_devices (exception, device) VALUES (?, ?)", [(number, device) for device in devices]
    )
    profiles.touch(db, devices)
    return number


def set_conditions(db: sqlite3.Connection, number: int, conditions: Iterable[ConditionTerms]) -> None:
    """Replace the conditions of a request; what was attested of them before goes with them."""
    db.execute("DELETE FROM attestations WHERE exception = ?", (number,))
    db.execute("DELETE FROM exception_conditions WHERE exception = ?", (number,))
    db.executemany(
        "INSERT INTO exception_conditions (exception, number, text, fact_condition, due_on, every_days)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        [
            (
                number,
                c.number,
                c.text,
                json.dumps(c.fact_condition) if c.fact_condition else "",
                c.due_on and c.due_on.isoformat(),
                c.every_days,
            )
            for c in conditions
        ],
    )


def edit(db: sqlite3.Connection, number: int, version: int, terms: Mapping[str, str]) -> bool:
    """Replace the terms of a requested exception that still has `version`. Returns whether it had."""
    cursor = db.execute(
        "UPDATE exceptions SET version = version + 1, reason = :reason, owner = :owner, asked_back = 0,"
        " start_on = :start_on, expires_on = :expires_on, review_on = :review_on"
        " WHERE id = :id AND version = :version",
        {**terms, "id": number, "version": version},
    )
    db.execute("DELETE FROM exception_approvals WHERE exception = ?", (number,))
    return cursor.rowcount == 1


def shape(db: sqlite3.Connection, number: int, editors: Iterable[str]) -> None:
    """Keep who has edited it."""
    db.execute("UPDATE exceptions SET shaped_by = ? WHERE id = ?", (json.dumps(sorted(set(editors))), number))


def need_approvals(db: sqlite3.Connection, number: int, needed: int) -> None:
    db.execute("UPDATE exceptions SET approvals_needed = ? WHERE id = ?", (needed, number))


def unsettle(db: sqlite3.Connection, device: str, because: str) -> list[int]:
    """Say of every approval that rests on a device why it needs a second look; those on their way fall away."""
    rows = db.execute(
        "SELECT e.id, e.state, d.shown FROM exception_devices AS d CROSS JOIN exceptions AS e ON e.id = d.exception"
        " WHERE d.device = ? AND e.state IN ('requested', 'approved')",
        (device,),
    ).fetchall()
    for row in rows:
        if row["state"] == "requested":
            drop_approvals(db, row["id"])
        elif row["shown"]:
            shown = {**json.loads(row["shown"]), CHANGED: because}
            keep_shown(db, row["id"], device, shown)
        touch(db, row["id"])
    return [row["id"] for row in rows]


def touch(db: sqlite3.Connection, number: int, **values: Any) -> None:
    """Change single columns (owner, asked_back) and the version."""
    parts = ", ".join(f"{name} = :{name}" for name in values)
    comma = ", " if parts else ""
    db.execute(f"UPDATE exceptions SET version = version + 1{comma}{parts} WHERE id = :id", {**values, "id": number})  # noqa: S608


def decide(
    db: sqlite3.Connection, number: int, version: int, state: str, by: str, at: str, note: str, self_approved: bool
) -> bool:
    """Move to `state` if the exception still has `version`; returns whether it had."""
    cursor = db.execute(
        "UPDATE exceptions SET version = version + 1, state = ?, decided_by = ?, decided_at = ?, decision_note = ?,"
        " self_approved = MAX(self_approved, ?), asked_back = 0 WHERE id = ? AND version = ?",
        (state, by, at, note, int(self_approved), number, version),
    )
    return cursor.rowcount == 1


def end(db: sqlite3.Connection, number: int, state: str, on: str) -> None:
    """Lapse or close without anybody's decision: who had approved it stays written down."""
    db.execute("UPDATE exceptions SET version = version + 1, state = ?, ended_on = ? WHERE id = ?", (state, on, number))


def leave_out(
    db: sqlite3.Connection, number: int, devices: Iterable[str], requirements: Iterable[str], why: str
) -> None:
    devices = list(devices)
    db.executemany(
        "UPDATE exception_devices SET left_out = ? WHERE exception = ? AND device = ?",
        [(why, number, name) for name in devices],
    )
    profiles.touch(db, devices)
    db.executemany(
        "UPDATE exception_requirements SET left_out = ? WHERE exception = ? AND requirement = ?",
        [(why, number, name) for name in requirements],
    )


def keep_shown(db: sqlite3.Connection, number: int, device: str, shown: Mapping[str, Any]) -> None:
    db.execute(
        "UPDATE exception_devices SET shown = ? WHERE exception = ? AND device = ?",
        (json.dumps(shown, sort_keys=True), number, device),
    )


def add_approval(db: sqlite3.Connection, number: int, approval: ApprovalRow) -> None:
    db.execute(
        "INSERT OR REPLACE INTO exception_approvals (exception, person, at, note, part, shown)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        (
            number, approval.person, approval.at, approval.note, json.dumps(approval.part),
            json.dumps(dict(approval.shown), sort_keys=True),
        ),
    )  # fmt: skip
    _keep_deputy(db, number, "approval", approval.person, approval.in_place_of, approval.at)


def _keep_deputy(db: sqlite3.Connection, number: int, deed: str, person: str, in_place_of: str, at: str) -> None:
    """Keep in whose place a person acted. It replaces what was kept of their earlier action."""
    db.execute("DELETE FROM exception_deputies WHERE exception = ? AND deed = ? AND person = ?", (number, deed, person))
    if in_place_of:
        db.execute(
            "INSERT INTO exception_deputies (exception, deed, person, in_place_of, at) VALUES (?, ?, ?, ?, ?)",
            (number, deed, person, in_place_of, at),
        )


def drop_approvals(db: sqlite3.Connection, number: int) -> None:
    db.execute("DELETE FROM exception_approvals WHERE exception = ?", (number,))


def second_looks(db: sqlite3.Connection, number: int) -> list[SecondLookRow]:
    rows = db.execute(
        "SELECT l.person, devices, shown, COALESCE(d.in_place_of, '') AS in_place_of FROM second_looks AS l"
        " LEFT JOIN exception_deputies AS d ON d.exception = l.exception AND d.person = l.person"
        " AND d.deed = 'second look' WHERE l.exception = ? ORDER BY l.at",
        (number,),
    )
    return [
        SecondLookRow(r["person"], tuple(json.loads(r["devices"])), json.loads(r["shown"]), r["in_place_of"])
        for r in rows
    ]


def add_second_look(db: sqlite3.Connection, number: int, look: SecondLookRow, at: str, note: str) -> None:
    db.execute(
        "INSERT OR REPLACE INTO second_looks (exception, person, at, note, devices, shown) VALUES (?, ?, ?, ?, ?, ?)",
        (number, look.person, at, note, json.dumps(look.devices), json.dumps(look.shown, sort_keys=True)),
    )
    _keep_deputy(db, number, "second look", look.person, look.in_place_of, at)


def drop_second_looks(db: sqlite3.Connection, number: int) -> None:
    db.execute("DELETE FROM second_looks WHERE exception = ?", (number,))


def attest(db: sqlite3.Connection, number: int, condition: int, by: str, at: str, note: str) -> None:
    db.execute(
        "INSERT INTO attestations (exception, number, by, at, note) VALUES (?, ?, ?, ?, ?)",
        (number, condition, by, at, note),
    )


def attach(db: sqlite3.Connection, number: int, title: str, link: str, sha256: str, by: str, at: str) -> int:
    place = db.execute(
        "SELECT COALESCE(MAX(number), 0) + 1 FROM exception_attachments WHERE exception = ?", (number,)
    ).fetchone()[0]
    db.execute(
        "INSERT INTO exception_attachments (exception, number, title, link, sha256, by, at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?)",
        (number, place, title, link, sha256, by, at),
    )
    return int(place)


def comment(db: sqlite3.Connection, number: int, kind: str, text: str, by: str, at: str) -> None:
    db.execute(
        "INSERT INTO exception_comments (exception, kind, text, by, at) VALUES (?, ?, ?, ?, ?)",
        (number, kind, text, by, at),
    )


def get(db: sqlite3.Connection, number: int) -> ExceptionRow | None:
    found = load(db, "WHERE e.id = ?", (number,))
    return found[0] if found else None


def every(db: sqlite3.Connection) -> list[ExceptionRow]:
    """Every exception, newest first."""
    return load(db, "ORDER BY e.id DESC", ())


def requested_by(db: sqlite3.Connection, person: str) -> list[ExceptionRow]:
    """The open requests of a person, newest first."""
    return load(db, "WHERE e.state = 'requested' AND e.requester = ? ORDER BY e.id DESC", (person,))


def numbers_of(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, list[int]]:
    """Device -> its exceptions, newest first. Devices without any are left out."""
    rows = db.execute(
        "SELECT x.device, x.exception FROM json_each(?) AS j CROSS JOIN exception_devices AS x ON x.device = j.value"
        " WHERE x.left_out = '' ORDER BY x.device, x.exception DESC",
        (json.dumps(list(devices)),),
    )
    found: dict[str, list[int]] = {}
    for row in rows:
        found.setdefault(row["device"], []).append(row["exception"])
    return found


def terms_by_number(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, TermsRow]:
    """What these exceptions permit, without their devices."""
    wanted = json.dumps(sorted(numbers))
    requirements: dict[int, list[str]] = {}
    for number, name in db.execute(
        "SELECT exception, requirement FROM exception_requirements"
        " WHERE left_out = '' AND exception IN (SELECT value FROM json_each(?))",
        (wanted,),
    ):
        requirements.setdefault(number, []).append(name)
    rows = db.execute(
        "SELECT id, platform, release, up_to, start_on, expires_on, state FROM exceptions"
        " WHERE id IN (SELECT value FROM json_each(?))",
        (wanted,),
    )
    return {
        r["id"]: TermsRow(
            r["id"], r["platform"], r["release"], bool(r["up_to"]), r["start_on"], r["expires_on"], r["state"],
            tuple(requirements.get(r["id"], ())), (),
        )
        for r in rows
    }  # fmt: skip


MANY = 1_000
"""From this many devices on, all that stands is read in order: it costs less than a lookup for each."""


def approved_shown(db: sqlite3.Connection, devices: Collection[str]) -> dict[int, dict[str, Mapping[str, Any]]]:
    """Approved exception -> the devices among these that it covers, each with what the approval rests on."""
    many = len(devices) > MANY
    chosen = "exceptions AS e CROSS JOIN exception_devices AS x ON x.exception = e.id"
    if not many:
        chosen = (
            "json_each(?) AS j CROSS JOIN exception_devices AS x ON x.device = j.value"
            " CROSS JOIN exceptions AS e ON e.id = x.exception"
        )
    rows = db.execute(
        f"SELECT x.exception, x.device, x.shown FROM {chosen}"  # noqa: S608 - constants
        " WHERE x.left_out = '' AND e.state = 'approved' AND x.shown <> ''",
        () if many else (json.dumps(list(devices)),),
    )
    wanted = set(devices)
    found: dict[int, dict[str, Mapping[str, Any]]] = {}
    for row in rows:
        if row["device"] in wanted:
            found.setdefault(row["exception"], {})[row["device"]] = json.loads(row["shown"])
    return found


def shown_of(db: sqlite3.Connection, exception: int, devices: Iterable[str]) -> dict[str, dict[str, Any]]:
    """Device among these -> what the approval of an exception rests on, whatever its state is now."""
    rows = db.execute(
        "SELECT x.device, x.shown FROM json_each(?) AS j CROSS JOIN exception_devices AS x"
        " ON x.exception = ? AND x.device = j.value WHERE x.shown <> ''",
        (json.dumps(list(devices)), exception),
    )
    return {row["device"]: json.loads(row["shown"]) for row in rows}


def fact_conditions(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, list[ConditionRow]]:
    """The conditions of these exceptions that facts decide."""
    rows = db.execute(
        "SELECT exception, number, text, fact_condition, due_on, every_days FROM exception_conditions"
        " WHERE fact_condition <> '' AND exception IN (SELECT value FROM json_each(?)) ORDER BY exception, number",
        (json.dumps(sorted(numbers)),),
    )
    found: dict[int, list[ConditionRow]] = {}
    for r in rows:
        one = ConditionRow(r["number"], r["text"], json.loads(r["fact_condition"]), r["due_on"], r["every_days"])
        found.setdefault(r["exception"], []).append(one)
    return found


def excepted_devices(db: sqlite3.Connection, platform: str) -> list[str]:
    """Every device of a platform that an approved exception covers."""
    rows = db.execute(
        "SELECT DISTINCT x.device FROM exceptions AS e JOIN exception_devices AS x ON x.exception = e.id"
        " WHERE e.platform = ? AND e.state = 'approved' AND x.left_out = '' AND x.shown <> ''",
        (platform,),
    )
    return [row[0] for row in rows]


def ended(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, date]:
    """Exception -> the first day after its end, of those that lapsed or that somebody ended."""
    rows = db.execute(
        "SELECT id, COALESCE(ended_on, decided_at) AS at FROM exceptions WHERE state IN ('lapsed', 'revoked', 'closed')"
        " AND id IN (SELECT value FROM json_each(?))",
        (json.dumps(sorted(numbers)),),
    )
    return {row["id"]: date.fromisoformat(row["at"][:10]) for row in rows if row["at"]}


def approved_on(db: sqlite3.Connection, number: int) -> date | None:
    """The day on which an exception was approved in full; None if it never was."""
    row = db.execute("SELECT MAX(at) AS at FROM exception_approvals WHERE exception = ?", (number,)).fetchone()
    return date.fromisoformat(row["at"][:10]) if row["at"] else None


def of_device(db: sqlite3.Connection, device: str) -> list[ExceptionRow]:
    """The exceptions of a device, newest first, those from which it was left out included."""
    where = "WHERE e.id IN (SELECT exception FROM exception_devices WHERE device = ?) ORDER BY e.id DESC"
    return load(db, where, (device,))


def of_devices(db: sqlite3.Connection, devices: Iterable[str]) -> dict[str, list[ExceptionRow]]:
    """Device -> its exceptions, newest first, each read once; only those devices that have any."""
    numbers = numbers_of(db, devices)
    wanted = json.dumps(sorted({number for mine in numbers.values() for number in mine}))
    rows = {row.id: row for row in load(db, "WHERE e.id IN (SELECT value FROM json_each(?))", (wanted,))}
    return {device: [rows[number] for number in mine] for device, mine in numbers.items()}


def naming(db: sqlite3.Connection, devices: Iterable[str]) -> list[ExceptionRow]:
    """Every exception that ever named one of these devices, those that left it out too, oldest first."""
    where = (
        "WHERE e.id IN (SELECT x.exception FROM json_each(?) AS j"
        " CROSS JOIN exception_devices AS x ON x.device = j.value) ORDER BY e.id"
    )
    return load(db, where, (json.dumps(sorted(devices)),))


def standing(db: sqlite3.Connection) -> list[ExceptionRow]:
    """The exceptions that are requested or approved, oldest first, without what their approval rests on."""
    return load(db, "WHERE e.state IN ('requested', 'approved') ORDER BY e.id", (), bare=True)


def ended_later(db: sqlite3.Connection) -> list[ExceptionRow]:
    """The exceptions that were approved once and have lapsed, been revoked or closed, oldest first."""
    return load(db, "WHERE e.state IN ('lapsed', 'revoked', 'closed') ORDER BY e.id", (), bare=True)


class ApprovedRow(NamedTuple):
    """An approved exception, with its approved renewal if there is one."""

    id: int
    expires_on: str
    owner: str
    requester: str
    successor: int | None
    successor_start: str | None


def approved(db: sqlite3.Connection) -> list[ApprovedRow]:
    """The approved exceptions, oldest first."""
    rows = db.execute(
        "SELECT old.id, old.expires_on, old.owner, old.requester, new.id, new.start_on FROM exceptions AS old"
        " LEFT JOIN exceptions AS new ON new.renews = old.id AND new.state = 'approved'"
        " WHERE old.state = 'approved' ORDER BY old.id"
    )
    return [ApprovedRow(*row) for row in rows]


def devices_of(db: sqlite3.Connection, number: int) -> tuple[str, ...]:
    """The devices that an exception names, those left out apart."""
    rows = db.execute(
        "SELECT device FROM exception_devices WHERE exception = ? AND left_out = '' ORDER BY device", (number,)
    )
    return tuple(row["device"] for row in rows)


def owned_by(db: sqlite3.Connection, person: str) -> list[int]:
    """The exceptions that are requested or approved and owned by a person."""
    rows = db.execute(
        "SELECT id FROM exceptions WHERE owner = ? AND state IN ('requested', 'approved') ORDER BY id", (person,)
    )
    return [row["id"] for row in rows]


# ------------------------------------------------------------ risk statements


def risk(db: sqlite3.Connection) -> tuple[int, str]:
    """The newest risk statement: version and text."""
    row = db.execute("SELECT version, text FROM risk_statements ORDER BY version DESC LIMIT 1").fetchone()
    return int(row["version"]), str(row["text"])


def add_risk(db: sqlite3.Connection, text: str, by: str, at: str) -> int:
    version = risk(db)[0] + 1
    db.execute("INSERT INTO risk_statements (version, text, by, at) VALUES (?, ?, ?, ?)", (version, text, by, at))
    return version
