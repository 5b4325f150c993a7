"""What objects were when their last ledger entry was written, so that a row that was changed by hand is named.

At the end of a transaction that has added entries, the state of every object that they speak of is kept and sealed with
the ledger's key. `state_faults` compares the tables with these states: what differs, what has no entry, what is gone.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Kept:
    """One kind of object: its table and key, the columns that are left out, and the tables that belong to it."""

    table: str
    key: str
    prefix: str = ""
    without: frozenset[str] = frozenset()
    parts: tuple[tuple[str, str], ...] = ()

    def key_of(self, name: str) -> str | int:
        """The key of an object by its name, such as 7 of EX-0007."""
        return int(name.removeprefix(f"{self.prefix}-") or 0) if self.prefix else name

    def name_of(self, key: Any) -> str:
        return f"{self.prefix}-{int(key):04d}" if self.prefix else str(key)


_PARTS = ("requirements", "devices", "approvals", "conditions", "attachments", "comments")
KINDS = {
    "person": Kept("people", "name", without=frozenset({"version"})),
    "token": Kept("tokens", "id", "TK", frozenset({"last_used_at"})),
    "exception": Kept(
        "exceptions", "id", "EX", frozenset({"version"}),
        (*((f"exception_{part}", "exception") for part in _PARTS), ("attestations", "exception"),
         ("second_looks", "exception")),
    ),
    "decision": Kept("decisions", "id", "SD"),
    "settlement": Kept("settlements", "id", "ST"),
    "fix": Kept("fixes_done", "id", "FX"),
    "kit": Kept("kits", "id", "KT", parts=(("kit_devices", "kit"),)),
    "attempt": Kept("attempts", "id", "AT"),
    "followup": Kept("followups", "id", "FU"),
    "verification": Kept("verifications", "id", "VF"),
    "observation": Kept("observations", "id", "OB"),
    "media": Kept("media", "id", "MD"),
    "hook": Kept("hooks", "id", "HK"),
    "selection": Kept("selections", "name"),
    "sheet": Kept("sheets", "platform"),
    "requirement": Kept("text_matches", "requirement", parts=(("reported_requirements", "id"),)),
    "risk": Kept("risk_statements", "version"),
    "import": Kept("imports", "id", "IM", frozenset(
        {"readings", "devices", "added", "state", "size", "position", "checked", "applied", "rejected", "why",
         "changes", "ended_at", "sha256", "ready_sha256"})),  # how far it has come stands in no entry of its own
}  # fmt: skip
SINCE_10 = ("requirement", "risk", "import")
"""Kinds of which states are kept since schema 10."""
DEVICE_SEAL = "sealed('device ' || id || char(10) || site || char(10) || role || char(10) || critical)"
"""What rules rest on at a device. Its row changes with every reading, so it carries its seal itself."""
_LONG = 200


def _plain(value: Any) -> Any:
    """A value as it is compared: what is long by its digest."""
    if isinstance(value, bytes) or (isinstance(value, str) and len(value) > _LONG):
        raw = value if isinstance(value, bytes) else value.encode()
        return f"sha256:{hashlib.sha256(raw).hexdigest()}"
    return value


def _state(db: sqlite3.Connection, kind: str, name: str) -> dict[str, Any] | None:
    """The columns of an object's newest row and a digest of each table that belongs to it; None if it is gone."""
    kept = KINDS[kind]
    key = kept.key_of(name)
    rows = db.execute(f"SELECT * FROM {kept.table} WHERE {kept.key} = ? ORDER BY 1, 2", (key,)).fetchall()  # noqa: S608
    if not rows:
        return None
    state = {column: _plain(rows[-1][column]) for column in rows[-1].keys() if column not in kept.without}  # noqa: SIM118
    if len(rows) > 1:
        state["before"] = _digest(rows[:-1])
    for table, column in kept.parts:
        held = db.execute(f"SELECT * FROM {table} WHERE {column} = ?", (key,)).fetchall()  # noqa: S608
        if held:
            state[table] = _digest(held)
    return state


def _digest(rows: Iterable[sqlite3.Row]) -> str:
    texts = sorted(json.dumps([_plain(value) for value in row]) for row in rows)
    return hashlib.sha256("\n".join(texts).encode()).hexdigest()


def _concerned(db: sqlite3.Connection, kind: str, name: str) -> Iterator[tuple[str, str]]:
    """The objects that an entry of one may have changed."""
    if kind in KINDS:
        yield kind, name
    queries = {
        "person": ("token", "SELECT id FROM tokens WHERE person = ?", name),
        "attempt": ("followup", "SELECT id FROM followups WHERE attempt = ?", KINDS["attempt"].key_of(name)
                    if name.startswith("AT-") else 0),
        "exception": ("exception", "SELECT renews FROM exceptions WHERE id = ? AND renews IS NOT NULL",
                      KINDS["exception"].key_of(name) if name.startswith("EX-") else 0),
        "device": ("exception", "SELECT exception FROM exception_devices WHERE device = ?", name),
        # A text that is matched anew leaves the requirement that it was matched to.
        "requirement": ("requirement", "SELECT requirement FROM text_matches WHERE requirement <> ?1"
                        " UNION SELECT object FROM ledger_states WHERE kind = 'requirement' AND object <> ?1", name),
    }  # fmt: skip
    if kind in queries:
        other, sql, key = queries[kind]
        for row in db.execute(sql, (key,)).fetchall():
            yield other, KINDS[other].name_of(row[0])


def keep(db: sqlite3.Connection, entries: Iterable[tuple[int, str, str]]) -> None:
    """Keep the states of what entries (number, kind, object) of this transaction speak of."""
    newest: dict[tuple[str, str], int] = {}
    for seq, kind, name in entries:
        for one in _concerned(db, kind, name):
            newest[one] = seq
    for (kind, name), seq in newest.items():
        _keep(db, kind, name, seq)


def keep_all(db: sqlite3.Connection, kinds: Iterable[str] = tuple(KINDS)) -> None:
    """Keep the states of everything of these kinds that is there: records from before states were kept."""
    seq = int(db.execute("SELECT COALESCE(MAX(seq), 0) FROM ledger").fetchone()[0])
    for kind in kinds:
        kept = KINDS[kind]
        for row in db.execute(f"SELECT DISTINCT {kept.key} FROM {kept.table}").fetchall():  # noqa: S608
            _keep(db, kind, kept.name_of(row[0]), seq)


def _keep(db: sqlite3.Connection, kind: str, name: str, seq: int) -> None:
    text = json.dumps(_state(db, kind, name), sort_keys=True)
    db.execute(
        "INSERT OR REPLACE INTO ledger_states (kind, object, seq, state, seal)"
        " VALUES (:kind, :object, :seq, :state, sealed(:kind || ' ' || :object || ' ' || :seq || ' ' || :state))",
        {"kind": kind, "object": name, "seq": seq, "state": text},
    )


def state_faults(db: sqlite3.Connection) -> Iterator[str]:
    """Every object that is not as its last entry left it, in words."""
    kept = {
        (row["kind"], row["object"]): row
        for row in db.execute(
            "SELECT *, sealed(kind || ' ' || object || ' ' || seq || ' ' || state) AS fitting FROM ledger_states"
        )
    }
    last = {
        (row["kind"], row["object"]): row["seq"]
        for row in db.execute("SELECT kind, object, MAX(seq) AS seq FROM ledger GROUP BY kind, object")
    }
    there = {
        (kind, one.name_of(row[0]))
        for kind, one in KINDS.items()
        for row in db.execute(f"SELECT DISTINCT {one.key} FROM {one.table}")  # noqa: S608
    }
    for kind, name in sorted(there | kept.keys()):
        held = kept.get((kind, name))
        if held is None:
            yield f"{kind} {name} is there without an entry of the ledger"
        elif held["seal"] != held["fitting"]:
            yield f"{kind} {name}: the state that its last entry left was altered"
        elif held["seq"] < last.get((kind, name), 0):
            yield f"{kind} {name}: its state is older than its last entry, {last[kind, name]}"
        else:
            before, now = json.loads(held["state"]), _state(db, kind, name)
            if before is not None and now is None:
                yield f"{kind} {name} has entries and is gone"
            elif before != now:
                was, becomes = before or {}, now or {}
                changed = sorted(part for part in {*was, *becomes} if was.get(part) != becomes.get(part))
                words = ", ".join(_change(part, was, becomes) for part in changed)
                yield f"{kind} {name} was changed without an entry: {words}"

    for row in db.execute(f"SELECT id FROM devices WHERE seal <> {DEVICE_SEAL} ORDER BY id"):  # noqa: S608
        yield f"device {row['id']}: site, role or criticality was changed without an entry"
    gone = "SELECT DISTINCT object FROM ledger_about WHERE kind = 'device' EXCEPT SELECT id FROM devices ORDER BY 1"
    for row in db.execute(gone):
        yield f"device {row['object']} has entries and is gone"


def _change(part: str, before: dict[str, Any], now: dict[str, Any]) -> str:
    was, becomes = before.get(part), now.get(part)
    if part in ("password_hash", "second_factor", "second_factor_asked", "digest", "secret", "email"):
        return part
    if any(isinstance(one, str) and len(one) > 40 for one in (was, becomes)):
        return part
    return f"{part} was {was}, is {becomes}"
