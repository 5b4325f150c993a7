"""Exceptions as rows, with all that belongs to them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import groupby
from operator import itemgetter
from typing import Any, NamedTuple, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from doorstone.store.lazy_json import LazyJson, LazyJsonByName

T = TypeVar("T")


class ApprovalRow(Struct, frozen=True):
    """One approver's word. `part` names what was approved: devices and requirements; `shown` what it rests on."""

    person: str
    at: str
    note: str
    part: Mapping[str, list[str]]
    shown: Mapping[str, Any]
    in_place_of: str = ""

    @property
    def authority(self) -> str:
        """Whose word it is: the person's own, or that of whoever they acted for."""
        return self.in_place_of or self.person


class SecondLookRow(Struct, frozen=True):
    """One approver's second look at some devices, and what it rests on; it waits for another's."""

    person: str
    devices: tuple[str, ...]
    shown: Mapping[str, Any]
    in_place_of: str = ""

    @property
    def authority(self) -> str:
        """Whose look it is: the person's own, or that of whoever they acted for."""
        return self.in_place_of or self.person


class Attestation(NamedTuple):
    """Somebody's word that a condition is kept: given on a day, an ISO date."""

    day: str
    by: str
    note: str


class ConditionRow(Struct, frozen=True):
    """A condition to keep. `fact_condition` is its data, None if it is attested."""

    number: int
    text: str
    fact_condition: Mapping[str, Any] | None
    due_on: str | None
    every_days: int | None
    attested: tuple[Attestation, ...] = ()


class AttachmentRow(Struct, frozen=True):
    number: int
    title: str
    link: str
    sha256: str
    by: str
    at: str


class CommentRow(Struct, frozen=True):
    """`kind` is comment, question (to the requester) or answer."""

    kind: str
    text: str
    by: str
    at: str


class ExceptionRow(Struct, frozen=True):
    """`left_out` maps a device or requirement -> why it was not approved with the rest."""

    id: int
    version: int
    platform: str
    release: str
    up_to: bool
    reason: str
    risk_version: int
    risk_text: str
    notice_text: str
    acknowledged_by: str
    owner: str
    start_on: str
    expires_on: str
    review_on: str
    state: str
    requester: str
    requested_at: str
    asked_back: bool
    approvals_needed: int
    decided_by: str | None
    decided_at: str | None
    decision_note: str
    self_approved: bool
    ended_on: str | None
    renews: int | None
    renewed_by: int | None
    renewed_state: str | None
    shaped_by: tuple[str, ...]  # who edited it, beside the requester
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    left_out: Mapping[str, str]
    shown: Mapping[str, Any]  # device -> what its approval rests on
    approvals: tuple[ApprovalRow, ...]
    conditions: tuple[ConditionRow, ...]
    attachments: tuple[AttachmentRow, ...]
    comments: tuple[CommentRow, ...]


class TermsRow(Struct, frozen=True):
    """What an exception permits, without its story."""

    id: int
    platform: str
    release: str
    up_to: bool
    start_on: str
    expires_on: str
    state: str
    requirements: tuple[str, ...]
    devices: tuple[str, ...]


def load(db: sqlite3.Connection, tail: str, values: tuple[Any, ...], *, bare: bool = False) -> list[ExceptionRow]:
    """The exceptions `e` that the `tail` of a statement chooses, with these values, in its order.

    `bare` ones do not say what their approvals rest on: `shown`, some hundred bytes a device.
    """
    renewed = "SELECT MAX(id) FROM exceptions WHERE renews = e.id AND state NOT IN ('declined', 'withdrawn')"
    state = f"SELECT state FROM exceptions WHERE id = ({renewed})"  # noqa: S608
    columns = f"e.*, ({renewed}) AS renewed_by, ({state}) AS renewed_state"
    rows = db.execute(f"SELECT {columns} FROM exceptions AS e {tail}", values).fetchall()  # noqa: S608
    listed = json.dumps([row["id"] for row in rows])
    reqs = _gather_plain(db, "exception_requirements", ("requirement", "left_out"), listed)
    devices = _devices(db, listed)
    left_out = _gather_plain(db, "exception_devices", ("device", "left_out"), listed, "left_out <> ''")
    shown = {} if bare else _gather_plain(db, "exception_devices", ("device", "shown"), listed, "left_out = ''")
    rests_on = "'{}' AS shown" if bare else "shown"
    of_approval = f"exception, person, at, note, part, {rests_on}"
    approvals = _gather(db, "exception_approvals", "at, person", listed, _approval, of_approval)
    acted = _gather(db, "exception_deputies", "deed, person", listed, _deed)
    attested = _gather(db, "attestations", "id", listed, _attestation)
    conditions = _gather(db, "exception_conditions", "number", listed, lambda r: r)
    attachments = _gather(db, "exception_attachments", "number", listed, _attachment)
    comments = _gather(
        db, "exception_comments", "id", listed, lambda r: CommentRow(r["kind"], r["text"], r["by"], r["at"])
    )
    return [
        ExceptionRow(
            **{
                **dict(r),
                **{name: bool(r[name]) for name in ("up_to", "self_approved", "asked_back")},
                "shaped_by": tuple(json.loads(r["shaped_by"])),
            },
            requirements=tuple(name for name, out in reqs.get(r["id"], ()) if not out),
            devices=devices.get(r["id"], ()),
            left_out={name: out for name, out in (*left_out.get(r["id"], ()), *reqs.get(r["id"], ())) if out},
            shown=LazyJsonByName({name: text for name, text in shown.get(r["id"], ()) if text}),
            approvals=_with_deputies(approvals.get(r["id"], ()), acted.get(r["id"], ())),
            conditions=tuple(_condition(c, attested.get(r["id"], ())) for c in conditions.get(r["id"], ())),
            attachments=tuple(attachments.get(r["id"], ())),
            comments=tuple(comments.get(r["id"], ())),
        )
        for r in rows
    ]


def _gather(
    db: sqlite3.Connection, table: str, order: str, listed: str, read: Callable[[sqlite3.Row], T], columns: str = "*"
) -> dict[int, list[T]]:
    """The rows of a table that belong to the listed exceptions, by exception."""
    found: dict[int, list[T]] = {}
    sql = (
        f"SELECT {columns} FROM {table} WHERE exception IN (SELECT value FROM json_each(?)) ORDER BY exception, {order}"  # noqa: S608
    )
    for row in db.execute(sql, (listed,)):
        found.setdefault(row["exception"], []).append(read(row))
    return found


def _devices(db: sqlite3.Connection, listed: str) -> dict[int, tuple[str, ...]]:
    """The devices of the listed exceptions by id, without those that are left out, by exception."""
    rows = db.execute(
        "SELECT exception, JSON_GROUP_ARRAY(device) AS devices FROM exception_devices"
        " WHERE exception IN (SELECT value FROM json_each(?)) AND left_out = '' GROUP BY exception",
        (listed,),
    )
    return {row["exception"]: tuple(sorted(json.loads(row["devices"]))) for row in rows}


def _gather_plain(
    db: sqlite3.Connection, table: str, columns: Sequence[str], listed: str, where: str = "TRUE"
) -> dict[int, list[tuple[Any, ...]]]:
    """As `_gather`, these columns as plain tuples, in the order of the first: many are read."""
    cursor = db.cursor()
    cursor.row_factory = None
    sql = (
        f"SELECT exception, {', '.join(columns)} FROM {table} WHERE exception IN (SELECT value FROM json_each(?))"  # noqa: S608
        f" AND {where} ORDER BY exception, {columns[0]}"
    )
    rows = cursor.execute(sql, (listed,))
    return {number: [row[1:] for row in mine] for number, mine in groupby(rows, key=itemgetter(0))}


def _approval(row: sqlite3.Row) -> ApprovalRow:
    return ApprovalRow(row["person"], row["at"], row["note"], json.loads(row["part"]), LazyJson(row["shown"]))


def _deed(row: sqlite3.Row) -> tuple[str, str, str]:
    return row["deed"], row["person"], row["in_place_of"]


def _with_deputies(approvals: Iterable[ApprovalRow], acted: Iterable[tuple[str, str, str]]) -> tuple[ApprovalRow, ...]:
    of = {person: in_place_of for deed, person, in_place_of in acted if deed == "approval"}
    return tuple(replace(one, in_place_of=of.get(one.person, "")) for one in approvals)


def _attachment(row: sqlite3.Row) -> AttachmentRow:
    return AttachmentRow(row["number"], row["title"], row["link"], row["sha256"], row["by"], row["at"])


def _attestation(row: sqlite3.Row) -> tuple[int, Attestation]:
    return row["number"], Attestation(row["at"][:10], row["by"], row["note"])


def _condition(row: sqlite3.Row, attested: Iterable[tuple[int, Attestation]]) -> ConditionRow:
    data = json.loads(row["fact_condition"]) if row["fact_condition"] else None
    words = tuple(word for number, word in attested if number == row["number"])
    return ConditionRow(row["number"], row["text"], data, row["due_on"], row["every_days"], words)
