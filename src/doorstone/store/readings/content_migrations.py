"""Contents of readings as earlier schemas kept them, and what brings them to the newest schema."""

from __future__ import annotations

import hashlib
import json
import sqlite3
import sys
from array import array
from collections.abc import Iterable, Iterator

from doorstone.store.readings import values
from doorstone.store.readings.contents import Content, codes_of, digest, numbers_in, shape_number, value_text


def migrating(connection: sqlite3.Connection) -> None:
    """Give the migrations what they need to turn earlier readings into contents."""

    def old(facts: str, verdicts: str, unread: str, messages: str) -> str:
        """A content as one text, as schema 7 to 13 kept it."""
        parts = {"facts": json.loads(facts), "verdicts": json.loads(verdicts), "unread": json.loads(unread)}
        kept = {name: part for name, part in parts.items() if part}
        if (listed := json.loads(messages)) is not None:
            kept["texts"] = listed
        return json.dumps(kept, sort_keys=True, separators=(",", ":"))

    def digest_of(body: str) -> bytes:
        return hashlib.sha256(body.encode()).digest()[:16]

    connection.create_function("said_body", 4, old, deterministic=True)
    connection.create_function("said_digest", 1, digest_of, deterministic=True)


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
        distinct = list(dict.fromkeys(pair for held in pairs.values() for pair in held))
        known = dict(zip(distinct, values.numbers_of(db, distinct), strict=True))
        shapes = {tuple(name for name, _ in held) for held in facts.values()}
        numbers = {shape: shape_number(db, shape) for shape in shapes}
        kept = []
        for number, body in read:
            more = json.dumps(body, sort_keys=True, separators=(",", ":")) if body else ""
            shape = numbers[tuple(name for name, _ in facts[number])]
            kept.append((number, Content(shape, _array_of(known[pair] for pair in pairs[number]), more)))
        db.executemany(
            "INSERT INTO new_contents (id, digest, shape, codes, more) VALUES (?, 0, ?, ?, ?)",
            [(number, *one) for number, one in kept],
        )
    db.execute("DROP TABLE reading_contents")
    db.execute("ALTER TABLE new_contents RENAME TO reading_contents")
    db.execute("CREATE INDEX reading_contents_digest ON reading_contents (digest)")


def to_packed(db: sqlite3.Connection) -> None:
    """Schema 23: the numbers of values, four bytes each until then, as MessagePack."""
    for part in _kept(db):
        db.executemany(
            "UPDATE reading_contents SET codes = ? WHERE id = ?",
            [(codes_of(_numbers_in(content.codes)), number) for number, content in part],
        )
    db.execute("CREATE INDEX reading_contents_digest ON reading_contents (digest)")


def to_ordered_digests(db: sqlite3.Connection) -> None:
    """Schema 24: digests in whose order contents of devices stand that are read one after the other."""
    for part in _kept(db):
        db.executemany(
            "UPDATE reading_contents SET digest = ? WHERE id = ?",
            [(digest(content, numbers_in(content.codes)), number) for number, content in part],
        )
    db.execute("CREATE INDEX reading_contents_digest ON reading_contents (digest)")


def _kept(db: sqlite3.Connection) -> Iterator[list[tuple[int, Content]]]:
    """Every content with its number, in parts."""
    last = 0
    while part := db.execute(
        "SELECT id, shape, codes, more FROM reading_contents WHERE id > ? ORDER BY id LIMIT 2000", (last,)
    ).fetchall():
        last = part[-1][0]
        yield [(number, Content(*content)) for number, *content in part]


def _array_of(numbers: Iterable[int]) -> bytes:
    return _little(array("I", numbers)).tobytes()


def _numbers_in(codes: bytes) -> list[int]:
    return _little(array("I", codes)).tolist()


def _little(numbers: array[int]) -> array[int]:
    """The same in the order of bytes in which they were kept."""
    if sys.byteorder == "big":
        numbers.byteswap()
    return numbers
