"""What each ledger entry changed, so that every object can be recomputed from its entries.

At the end of a transaction that has added entries, the change of every object that they speak of is kept: columns that
were set, rows that came or went. Each change is sealed with the ledger's key together with the seal before it.
All of them are sealed together with the last entry, so that the last change of an object cannot be removed unseen.
`replay` adds the changes up to what an object was at an entry. `state_faults` compares the tables with the replay: what
differs, what has no entry, what is gone. Secrets and long values are kept as their SHA-256 digests.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

from msgspec import Struct


class Tracked(Struct, frozen=True):
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


_PARTS = ("requirements", "devices", "approvals", "conditions", "attachments", "comments", "deputies")
KINDS = {
    "person": Tracked("people", "name", without=frozenset({"version"})),
    "deputy": Tracked("deputies", "id", "DP"),
    "token": Tracked("tokens", "id", "TK", frozenset({"last_used_at"})),
    "exception": Tracked(
        "exceptions", "id", "EX", frozenset({"version"}),
        (*((f"exception_{part}", "exception") for part in _PARTS), ("attestations", "exception"),
         ("second_looks", "exception")),
    ),
    "decision": Tracked("decisions", "id", "SD"),
    "settlement": Tracked("settlements", "id", "ST"),
    "life": Tracked("device_lives", "id", "LF"),
    "fix": Tracked("fixes_done", "id", "FX"),
    "kit": Tracked("kits", "id", "KT", parts=(("kit_devices", "kit"),)),
    "attempt": Tracked("attempts", "id", "AT", parts=(("corrected_attempts", "attempt"),)),
    "followup": Tracked("followups", "id", "FU"),
    "verification": Tracked("verifications", "id", "VF"),
    "observation": Tracked("observations", "id", "OB", parts=(("corrected_observations", "observation"),)),
    "media": Tracked("media", "id", "MD"),
    "webhook": Tracked("webhooks", "id", "HK"),
    "selection": Tracked("selections", "name"),
    "sheet": Tracked("sheets", "platform", parts=(("list_names", "platform"),)),
    "task": Tracked("sheet_tasks", "id", "TS"),
    "requirement": Tracked("message_matches", "requirement", parts=(("reported_requirements", "id"),)),
    "risk": Tracked("risk_statements", "version"),
    "import": Tracked("imports", "id", "IM", frozenset(
        {"readings", "devices", "added", "state", "size", "position", "checked", "applied", "rejected", "why",
         "changes", "ended_at", "sha256", "ready_sha256"})),  # how far it has come stands in no entry of its own
}  # fmt: skip
DEVICE_SEAL = "SUBSTR(sealed('device ' || id || char(10) || site || char(10) || role || char(10) || critical), 1, 32)"
"""What rules rest on at a device. Its row changes with every reading, so it carries its seal itself: the first 128
bits of the keyed digest, as there is one for each device."""
FORMER_KINDS = {"hook": "webhook"}
"""Entries and changes are sealed, so they keep the name that their kind had when they were written."""
_LONG = 200
_SECRET = frozenset({"password_hash", "second_factor", "second_factor_asked", "digest", "secret", "email"})

State = dict[str, Any]
"""Columns by name; for a table that belongs to the object its rows, in order."""


def _plain(column: str, value: Any) -> Any:
    """A value as it is compared: what is long or secret by its digest."""
    if value and (isinstance(value, bytes) or column in _SECRET or (isinstance(value, str) and len(value) > _LONG)):
        raw = value if isinstance(value, bytes) else str(value).encode()
        return f"sha256:{hashlib.sha256(raw).hexdigest()}"
    return value


def _state(db: sqlite3.Connection, kind: str, name: str) -> State | None:
    """The columns of an object's newest row and the rows of each table of its own; None if there is no such object."""
    kept = KINDS[_kind(kind)]
    key = kept.key_of(name)
    rows = db.execute(f"SELECT * FROM {kept.table} WHERE {kept.key} = ? ORDER BY 1, 2", (key,)).fetchall()  # noqa: S608
    if not rows:
        return None
    state = {key: _plain(key, value) for key, value in dict(rows[-1]).items() if key not in kept.without}
    if len(rows) > 1:
        state["before"] = _rows(rows[:-1])
    for table, column in kept.parts:
        held = db.execute(f"SELECT * FROM {table} WHERE {column} = ?", (key,)).fetchall()  # noqa: S608
        if held:
            state[table] = _rows(held)
    return state


def _rows(rows: Iterable[sqlite3.Row]) -> list[list[Any]]:
    return sorted(([_plain(key, value) for key, value in dict(row).items()] for row in rows), key=json.dumps)


def _change(before: State, now: State) -> State:
    """What makes `now` of `before`: columns `set` and `dropped`, rows `added` to a table and `gone` from it."""
    change: State = {"set": {}, "dropped": sorted(before.keys() - now.keys()), "added": {}, "gone": {}}
    for part, value in now.items():
        if not isinstance(value, list):
            if part not in before or before[part] != value:
                change["set"][part] = value
            continue
        was, becomes = Counter(map(json.dumps, before.get(part, ()))), Counter(map(json.dumps, value))
        for word, rows in (("added", becomes - was), ("gone", was - becomes)):
            if rows:
                change[word][part] = sorted(map(json.loads, rows.elements()), key=json.dumps)
    return {word: value for word, value in change.items() if value}


def _apply(state: State | None, change: State | None) -> State | None:
    if change is None:
        return None
    made = {part: value for part, value in (state or {}).items() if part not in change.get("dropped", ())}
    made.update(change.get("set", {}))
    for part in {**change.get("added", {}), **change.get("gone", {})}:
        left = Counter(map(json.dumps, made.get(part, ()))) - Counter(
            map(json.dumps, change.get("gone", {}).get(part, ()))
        )
        rows = [*map(json.loads, left.elements()), *change.get("added", {}).get(part, ())]
        made[part] = sorted(rows, key=json.dumps)
    return made


def replay(changes: Iterable[sqlite3.Row]) -> State | None:
    """What an object is after these changes, given in their order from its first. None where it is not there."""
    state = None
    for row in changes:
        state = _apply(state, json.loads(row["change"]))
    return state


def changes_of(db: sqlite3.Connection, kind: str, name: str, until: int | None = None) -> list[sqlite3.Row]:
    """The changes of an object, those after entry `until` left out, in their order."""
    sql = (
        "SELECT * FROM ledger_changes WHERE kind IN (SELECT value FROM json_each(?)) AND object = ?"
        " AND (? IS NULL OR seq <= ?) ORDER BY seq"
    )
    return db.execute(sql, (json.dumps(kind_names(kind)), name, until, until)).fetchall()


def _kind(name: str) -> str:
    """The kind that a name stands for, today's or a former one."""
    return FORMER_KINDS.get(name, name)


def kind_names(kind: str) -> list[str]:
    """The names under which entries and changes of a kind of object stand: today's and former ones."""
    now = _kind(kind)
    return [now, *(former for former, name in FORMER_KINDS.items() if name == now)]


def _concerned(db: sqlite3.Connection, kind: str, name: str) -> Iterator[tuple[str, str]]:
    """The objects that an entry of one may have changed."""
    if _kind(kind) in KINDS:
        yield kind, name
    queries = {
        "person": ("token", "SELECT id FROM tokens WHERE person = ?", name),
        # What an earlier attempt left open falls away with the next, and comes back if that one was wrong.
        "attempt": ("followup", "SELECT id FROM followups WHERE device = (SELECT device FROM attempts WHERE id = ?)",
                    KINDS["attempt"].key_of(name)
                    if name.startswith("AT-") else 0),
        "exception": ("exception", "SELECT renews FROM exceptions WHERE id = ? AND renews IS NOT NULL",
                      KINDS["exception"].key_of(name) if name.startswith("EX-") else 0),
        "device": ("exception", "SELECT exception FROM exception_devices WHERE device = ?", name),
        # A text that is matched anew leaves the requirement that it was matched to.
        "requirement": ("requirement", "SELECT requirement FROM message_matches WHERE requirement <> ?1"
                        " UNION SELECT object FROM ledger_changes WHERE kind = 'requirement' AND object <> ?1", name),
    }  # fmt: skip
    if kind in queries:
        other, sql, key = queries[kind]
        for row in db.execute(sql, (key,)).fetchall():
            yield other, KINDS[other].name_of(row[0])


def keep(db: sqlite3.Connection, entries: Iterable[tuple[int, str, str]]) -> None:
    """Keep what entries (number, kind, object) of this transaction changed."""
    newest: dict[tuple[str, str], int] = {}
    for seq, kind, name in entries:
        for one in _concerned(db, kind, name):
            newest[one] = seq
    _tie(db, [_keep(db, kind, name, seq) for (kind, name), seq in newest.items()])


def begin_head(db: sqlite3.Connection) -> None:
    """Seal all changes that are there together: records from before they were."""
    db.execute("DELETE FROM changes_head")
    db.execute("INSERT INTO changes_head VALUES (1, 0, '', 0, '', '')")
    _tie(db, (row["seal"] for row in db.execute("SELECT seal FROM ledger_changes")))


def _tie(db: sqlite3.Connection, seals: Iterable[str]) -> None:
    """Add the seals of new changes to the seal of all, and bind it to the last entry.

    The sum does not depend on the order. Without the key nobody finds other changes whose seals have the same sum. A
    head that is missing stays so, and `head_faults` names it.
    """
    head = db.execute("SELECT count, total FROM changes_head").fetchone()
    if head is None:
        return
    added = [_number(one) for one in seals]
    last = db.execute("SELECT seq, hash FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    seq, digest = (last["seq"], last["hash"]) if last else (0, "")
    values = {"seq": seq, "hash": digest, "count": head["count"] + len(added),
              "total": f"{(_number(head['total'] or '0') + sum(added)) % _SUM:x}"}  # fmt: skip
    db.execute(
        f"UPDATE changes_head SET seq = :seq, hash = :hash, count = :count, total = :total, seal = {_HEAD_SEAL}",  # noqa: S608
        values,
    )


def _number(seal: str) -> int:
    """A seal as a number; 0 for what is none, which makes the sum another."""
    try:
        return int(seal, 16)
    except ValueError:
        return 0


_SUM = 2**256
_HEAD_SEAL = "sealed('changes ' || :seq || ' ' || :hash || ' ' || :count || ' ' || :total)"


def head_faults(db: sqlite3.Connection) -> Iterator[str]:
    """Whether the changes are, all together, those that were sealed with the last entry."""
    head = db.execute("SELECT seq, hash, count, total, seal FROM changes_head").fetchone()
    if head is None:
        yield "the seal of what entries changed is missing"
        return
    if db.execute(f"SELECT {_HEAD_SEAL}", dict(head)).fetchone()[0] != head["seal"]:
        yield "the seal of what entries changed was altered"
        return
    last = db.execute("SELECT seq, hash FROM ledger WHERE seq = (SELECT MAX(seq) FROM ledger)").fetchone()
    if (head["seq"], head["hash"]) != ((last["seq"], last["hash"]) if last else (0, "")):
        yield f"the seal of what entries changed belongs to entry {head['seq']}, which is not the last one"
        return
    total = rows = 0
    for row in db.execute("SELECT seal FROM ledger_changes"):
        total, rows = total + _number(row["seal"]), rows + 1
    if rows != head["count"]:
        fewer = head["count"] - rows
        lost = "1 is missing" if fewer == 1 else f"{fewer} are missing" if fewer > 0 else f"there are {rows}"
        yield f"of {head['count']} changes that entries made, {lost}"
    elif f"{total % _SUM:x}" != head["total"]:
        yield "a change that an entry made was exchanged for another"


def keep_all(db: sqlite3.Connection) -> None:
    """Begin the changes of everything that is there: records from before changes were kept.

    A state that schema 8 to 10 sealed is compared first. An object that is not as it was sealed is left out, so that
    `state_faults` goes on naming it.
    """
    seq = int(db.execute("SELECT COALESCE(MAX(seq), 0) FROM ledger").fetchone()[0])
    sealed = _sealed_before(db)
    names = {(_kind(row["kind"]), row["object"]) for row in db.execute("SELECT DISTINCT kind, object FROM ledger")}
    for kind, kept in KINDS.items():
        there = {kept.name_of(row[0]) for row in db.execute(f"SELECT DISTINCT {kept.key} FROM {kept.table}")}  # noqa: S608
        for name in sorted(there | {name for of, name in names if of == kind}):
            if (kind, name) not in sealed or sealed[kind, name] == _state_before(db, kind, name):
                _keep(db, kind, name, seq)
    db.execute("DROP TABLE IF EXISTS ledger_states")
    begin_head(db)


def _sealed_before(db: sqlite3.Connection) -> dict[tuple[str, str], str]:
    """States by kind and name, as JSON, that schema 8 to 10 sealed; one whose seal does not fit is empty."""
    if not db.execute("SELECT 1 FROM sqlite_schema WHERE name = 'ledger_states'").fetchone():
        return {}
    sql = "SELECT *, sealed(kind || ' ' || object || ' ' || seq || ' ' || state) AS fitting FROM ledger_states"
    return {
        (_kind(row["kind"]), row["object"]): row["state"] if row["seal"] == row["fitting"] else ""
        for row in db.execute(sql)
    }


def _state_before(db: sqlite3.Connection, kind: str, name: str) -> str:
    """The state of an object as schema 8 to 10 sealed it: rows of other tables by one digest."""

    def plain(value: Any) -> Any:
        return _plain("", value) if value else value

    def digest(rows: Iterable[sqlite3.Row]) -> str:
        texts = sorted(json.dumps([plain(value) for value in row]) for row in rows)
        return hashlib.sha256("\n".join(texts).encode()).hexdigest()

    kept = KINDS[kind]
    key = (kept.key_of(name),)
    rows = db.execute(f"SELECT * FROM {kept.table} WHERE {kept.key} = ? ORDER BY 1, 2", key).fetchall()  # noqa: S608
    if not rows:
        return "null"
    state = {key: plain(value) for key, value in dict(rows[-1]).items() if key not in kept.without}
    if len(rows) > 1:
        state["before"] = digest(rows[:-1])
    for table, column in kept.parts:
        if held := db.execute(f"SELECT * FROM {table} WHERE {column} = ?", key).fetchall():  # noqa: S608
            state[table] = digest(held)
    return json.dumps(state, sort_keys=True)


def _keep(db: sqlite3.Connection, kind: str, name: str, seq: int) -> str:
    """Keep the change that makes today's object of its replay. Gives the change's seal."""
    changes = changes_of(db, kind, name)
    before, now = replay(changes), _state(db, kind, name)
    values = {"kind": kind, "object": name, "seq": seq, "before": changes[-1]["seal"] if changes else "",
              "change": json.dumps(None if now is None else _change(before or {}, now), sort_keys=True)}  # fmt: skip
    seal = str(db.execute(f"SELECT {_SEAL}", values).fetchone()[0])
    db.execute("INSERT INTO ledger_changes VALUES (:kind, :object, :seq, :change, :seal)", {**values, "seal": seal})
    return seal


_SEAL = "sealed(:kind || ' ' || :object || ' ' || :seq || ' ' || :change || ' ' || :before)"


def state_faults(db: sqlite3.Connection) -> Iterator[str]:
    """Every object that is not as the replay of its entries makes it, in words."""
    yield from head_faults(db)
    last = {
        (_kind(row["kind"]), row["object"]): row["seq"]
        for row in db.execute("SELECT kind, object, MAX(seq) AS seq FROM ledger GROUP BY kind, object ORDER BY seq")
    }
    there = {
        (kind, one.name_of(row[0]))
        for kind, one in KINDS.items()
        for row in db.execute(f"SELECT DISTINCT {one.key} FROM {one.table}")  # noqa: S608
    }
    kept = {
        (_kind(row["kind"]), row["object"]) for row in db.execute("SELECT DISTINCT kind, object FROM ledger_changes")
    }
    spoken_of = {one for one in last if one[0] in KINDS}
    for kind, name in sorted(there | kept | spoken_of):
        changes = changes_of(db, kind, name)
        if not changes:
            if (kind, name) in there:
                yield f"{kind} {name} is there without an entry of the ledger"
            else:
                yield f"{kind} {name} has entries and is gone"
            continue
        before, state, broken = "", None, ""
        for row in changes:
            values = {**dict(row), "before": before}
            if db.execute(f"SELECT {_SEAL}", values).fetchone()[0] != row["seal"]:
                broken = (
                    broken
                    or f"{kind} {name}: what entry {row['seq']} changed was altered, or a change before it is gone"
                )
            before = row["seal"]
            state = None if broken else _apply(state, json.loads(row["change"]))
        if broken:
            yield broken
        elif changes[-1]["seq"] < last.get((kind, name), 0):
            yield f"{kind} {name}: what its last entry, {last[kind, name]}, changed is missing"
        else:
            yield from _differences(kind, name, state, _state(db, kind, name))

    for row in db.execute(f"SELECT id FROM devices WHERE seal <> {DEVICE_SEAL} ORDER BY id"):  # noqa: S608
        yield f"device {row['id']}: site, role or criticality was changed without an entry"
    lives = (
        "SELECT d.id FROM devices AS d WHERE d.life <> COALESCE((SELECT l.life FROM device_lives AS l"
        " WHERE l.device = d.id ORDER BY l.id DESC LIMIT 1), 'in-service') ORDER BY d.id"
    )
    for row in db.execute(lives):
        yield f"device {row['id']}: its life was changed without an entry"
    gone = "SELECT DISTINCT object FROM ledger_about WHERE kind = 'device' EXCEPT SELECT id FROM devices ORDER BY 1"
    for row in db.execute(gone):
        yield f"device {row['object']} has entries and is gone"


def _differences(kind: str, name: str, before: State | None, now: State | None) -> Iterator[str]:
    """How the tables differ from what the entries made of an object."""
    if before is not None and now is None:
        yield f"{kind} {name} has entries and is gone"
    elif before != now:
        was, becomes = before or {}, now or {}
        changed = sorted(part for part in {*was, *becomes} if was.get(part) != becomes.get(part))
        words = ", ".join(_difference(part, was.get(part), becomes.get(part)) for part in changed)
        yield f"{kind} {name} was changed without an entry: {words}"


def _difference(part: str, was: Any, becomes: Any) -> str:
    if isinstance(was, list) or isinstance(becomes, list):
        before, now = Counter(map(json.dumps, was or ())), Counter(map(json.dumps, becomes or ()))
        return f"{part} ({(now - before).total()} rows more, {(before - now).total()} fewer)"
    if part in _SECRET or any(isinstance(one, str) and len(one) > 40 for one in (was, becomes)):
        return part
    return f"{part} was {was}, is {becomes}"
