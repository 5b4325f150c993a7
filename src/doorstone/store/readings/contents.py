"""Contents of readings: each distinct one is kept once, as the numbers of its values.

The `shape` of a content says of which facts it holds values; `codes` are the numbers of these values, four bytes each,
in the order of the facts' names. What is no fact stands beside them as JSON: verdicts, facts that could not be read
and why, failure messages.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
import sys
from array import array
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from doorstone.store.readings import values

_compact = json.JSONEncoder(separators=(",", ":")).encode


class Content(NamedTuple):
    """A content as it is kept. `more` is JSON, empty if the reading holds facts only."""

    shape: int
    codes: bytes
    more: str


def more_of(
    verdicts: Mapping[str, bool], unread: Mapping[str, str] | None = None, messages: Sequence[str] | None = None
) -> str:
    """What is no fact as one text, the same for the same: what is empty is left out.

    `messages` are left out only if the source reported none at all, not even that there are none.
    """
    parts: dict[str, Any] = {"verdicts": dict(verdicts), "unread": dict(unread or {})}
    kept = {name: part for name, part in parts.items() if part}
    if messages is not None:
        kept["texts"] = list(messages)
    return json.dumps(kept, sort_keys=True, separators=(",", ":")) if kept else ""


def value_text(value: Any) -> str:
    """A value as it is numbered: JSON, the same for the same."""
    return _compact(value)


def codes_of(numbers: Iterable[int]) -> bytes:
    return _little(array("I", numbers)).tobytes()


def numbers_in(codes: bytes) -> array[int]:
    """The numbers of a content's values."""
    return _little(array("I", codes))


def _little(numbers: array[int]) -> array[int]:
    """The same in the order of bytes in which they are kept."""
    if sys.byteorder == "big":
        numbers.byteswap()
    return numbers


def shape_number(db: sqlite3.Connection, facts: Sequence[str]) -> int:
    """The number of a shape, kept if it is new. `facts` are in order."""
    text = json.dumps(facts, separators=(",", ":"))
    db.execute("INSERT OR IGNORE INTO content_shapes (facts) VALUES (?)", (text,))
    return int(db.execute("SELECT id FROM content_shapes WHERE facts = ?", (text,)).fetchone()[0])


def any_holds(db: sqlite3.Connection, facts: Iterable[str]) -> bool:
    """Whether any content ever held one of these facts."""
    sql = "SELECT 1 FROM content_shapes, json_each(?) AS j WHERE INSTR(facts, '\"' || j.value || '\"') LIMIT 1"
    return db.execute(sql, (json.dumps(sorted(facts)),)).fetchone() is not None


def shape_facts(db: sqlite3.Connection, shape: int) -> tuple[str, ...]:
    """The facts of a shape, in order."""
    row = db.execute("SELECT facts FROM content_shapes WHERE id = ?", (shape,)).fetchone()
    return tuple(json.loads(row[0]))


def numbers_of(db: sqlite3.Connection, contents: Iterable[Content]) -> dict[Content, int]:
    """The number of each content; those that are new are kept."""
    wanted = {content: _digest(content) for content in contents}
    rows = db.execute(
        "SELECT c.id, c.shape, c.codes, c.more FROM json_each(?) AS j"
        " CROSS JOIN reading_contents AS c ON c.digest = j.value",
        (json.dumps(list(set(wanted.values()))),),
    )
    found = {content: row[0] for row in rows if (content := Content(row[1], row[2], row[3])) in wanted}
    missing = [content for content in wanted if content not in found]
    if missing:
        first = int(db.execute("SELECT COALESCE(MAX(id), 0) FROM reading_contents").fetchone()[0]) + 1
        db.executemany(
            "INSERT INTO reading_contents (id, digest, shape, codes, more, merged) VALUES (?, ?, ?, ?, ?, 0)",
            [(number, wanted[one], one.shape, one.codes, one.more) for number, one in enumerate(missing, first)],
        )
        found.update({content: number for number, content in enumerate(missing, first)})
    return found


def keep_merged(db: sqlite3.Connection, number: int) -> None:
    """A content is current on a device though no reading holds it."""
    db.execute("UPDATE reading_contents SET merged = 1 WHERE id = ? AND merged = 0", (number,))


def _digest(content: Content) -> int:
    found = hashlib.blake2b(content.codes + content.more.encode(), digest_size=8).digest()
    return int.from_bytes(found, "big", signed=True)


def rows(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, Content]:
    """Number -> content."""
    found = db.execute(
        "SELECT c.id, c.shape, c.codes, c.more FROM json_each(?) AS j"
        " CROSS JOIN reading_contents AS c ON c.id = j.value",
        (json.dumps(list(numbers)),),
    )
    return {row[0]: Content(row[1], row[2], row[3]) for row in found}


def bodies(db: sqlite3.Connection, held: Mapping[Any, Content]) -> dict[Any, dict[str, Any]]:
    """For each content its facts, and what is no fact, with only the parts that are not empty."""
    known = values.by_number(db, {number for content in held.values() for number in numbers_in(content.codes)})
    shapes = {shape: shape_facts(db, shape) for shape in {content.shape for content in held.values()}}
    found: dict[Any, dict[str, Any]] = {}
    for number, content in held.items():
        body = json.loads(content.more) if content.more else {}
        facts = [json.loads(known[one]) for one in numbers_in(content.codes)]
        found[number] = {**({"facts": dict(zip(shapes[content.shape], facts, strict=True))} if facts else {}), **body}
    return found


# ---------------------------------------------------------------- migrations


def migrating(connection: sqlite3.Connection) -> None:
    """Give the migrations what they need to turn earlier readings into contents."""

    def old(facts: str, verdicts: str, unread: str, messages: str) -> str:
        """A content as one text, as schema 7 to 13 kept it."""
        parts = {"facts": json.loads(facts), "verdicts": json.loads(verdicts), "unread": json.loads(unread)}
        kept = {name: part for name, part in parts.items() if part}
        if (listed := json.loads(messages)) is not None:
            kept["texts"] = listed
        return json.dumps(kept, sort_keys=True, separators=(",", ":"))

    def digest(body: str) -> bytes:
        return hashlib.sha256(body.encode()).digest()[:16]

    connection.create_function("said_body", 4, old, deterministic=True)
    connection.create_function("said_digest", 1, digest, deterministic=True)


def to_codes(db: sqlite3.Connection) -> None:
    """Schema 14: turn contents that were kept as texts into numbers of values, under their own numbers."""
    last = 0
    while part := db.execute(
        "SELECT id, body FROM reading_contents WHERE id > ? ORDER BY id LIMIT 2000", (last,)
    ).fetchall():
        last = part[-1][0]
        read = [(number, json.loads(text)) for number, text in part]
        facts = {number: sorted(body.pop("facts", {}).items()) for number, body in read}
        pairs = {number: [(name, value_text(value)) for name, value in held] for number, held in facts.items()}
        known = values.numbers_of(db, (pair for held in pairs.values() for pair in held))
        shapes = {tuple(name for name, _ in held) for held in facts.values()}
        numbers = {shape: shape_number(db, shape) for shape in shapes}
        kept = []
        for number, body in read:
            more = json.dumps(body, sort_keys=True, separators=(",", ":")) if body else ""
            shape = numbers[tuple(name for name, _ in facts[number])]
            kept.append((number, Content(shape, codes_of(known[pair] for pair in pairs[number]), more)))
        db.executemany(
            "INSERT INTO new_contents (id, digest, shape, codes, more) VALUES (?, ?, ?, ?, ?)",
            [(number, _digest(one), one.shape, one.codes, one.more) for number, one in kept],
        )
    db.execute("DROP TABLE reading_contents")
    db.execute("ALTER TABLE new_contents RENAME TO reading_contents")
    db.execute("CREATE INDEX reading_contents_digest ON reading_contents (digest)")
