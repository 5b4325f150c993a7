"""Contents of readings: each distinct one is kept once, as the numbers of its values.

The `shape` of a content says of which facts it holds values; `codes` are the numbers of these values, as a MessagePack
list in the order of the facts' names. What is no fact stands beside them as JSON: verdicts, facts that could not be
read and why, failure messages. `readings` counts the readings that hold a content; one that is `merged` may be current
on a device, or the base of quiet readings, with no reading that holds it.
"""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from json.encoder import encode_basestring_ascii
from typing import Any, NamedTuple
from zlib import crc32

import msgspec

from doorstone.store.json_lists import json_list
from doorstone.store.readings import values

_compact = json.JSONEncoder(separators=(",", ":")).encode
_pack = msgspec.msgpack.Encoder().encode
_unpack = msgspec.msgpack.Decoder(list[int]).decode


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
    if type(value) is str:
        return encode_basestring_ascii(value)
    return repr(value) if type(value) is int else _compact(value)


def codes_of(numbers: Sequence[int]) -> bytes:
    return _pack(numbers)


def numbers_in(codes: bytes) -> list[int]:
    """The numbers of a content's values."""
    return _unpack(codes)


def shape_number(db: sqlite3.Connection, facts: Sequence[str]) -> int:
    """The number of a shape, kept if it is new. `facts` are in order."""
    text = json.dumps(facts, separators=(",", ":"))
    db.execute("INSERT OR IGNORE INTO content_shapes (facts) VALUES (?)", (text,))
    return int(db.execute("SELECT id FROM content_shapes WHERE facts = ?", (text,)).fetchone()[0])


def any_holds(db: sqlite3.Connection, facts: Iterable[str]) -> bool:
    """Whether any content ever held one of these facts."""
    sql = "SELECT 1 FROM content_shapes, json_each(?) AS j WHERE INSTR(facts, '\"' || j.value || '\"') LIMIT 1"
    return db.execute(sql, (json_list(sorted(facts)),)).fetchone() is not None


def shape_facts(db: sqlite3.Connection, shape: int) -> tuple[str, ...]:
    """The facts of a shape, in order."""
    row = db.execute("SELECT facts FROM content_shapes WHERE id = ?", (shape,)).fetchone()
    return tuple(json.loads(row[0]))


def numbers_of(
    db: sqlite3.Connection, wanted: Mapping[Content, int], uses: Mapping[Content, int]
) -> dict[Content, int]:
    """The number of each content, given with its digest; those that are new are kept.

    So many more readings as `uses` says hold each.
    """
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    rows = cursor.execute(
        "SELECT c.id, c.shape, c.codes, c.more FROM json_each(?) AS j"
        " CROSS JOIN reading_contents AS c ON c.digest = j.value",
        (json_list(dict.fromkeys(wanted.values())),),
    )
    found = {content: number for number, *held in rows if (content := Content(*held)) in wanted}
    if uses:
        again = [(uses[content], number) for content, number in found.items()]
        db.executemany("UPDATE reading_contents SET readings = readings + ? WHERE id = ?", again)
    missing = [content for content in wanted if content not in found]
    if missing:
        first = int(db.execute("SELECT COALESCE(MAX(id), 0) FROM reading_contents").fetchone()[0]) + 1
        db.executemany(
            "INSERT INTO reading_contents (id, digest, shape, codes, more, merged, readings)"
            " VALUES (?, ?, ?, ?, ?, 0, ?)",
            [
                (number, wanted[one], one.shape, one.codes, one.more, uses.get(one, 0))
                for number, one in enumerate(missing, first)
            ],
        )
        found.update({content: number for number, content in enumerate(missing, first)})
    return found


def release(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, int]:
    """Count readings that are gone, each given by the number of its content. Returns how many were of each content."""
    gone = Counter(numbers)
    db.executemany(
        "UPDATE reading_contents SET readings = MAX(readings - ?, 0) WHERE id = ?",
        [(many, number) for number, many in gone.items()],
    )
    return gone


def drop_unheld(db: sqlite3.Connection, numbers: Iterable[int]) -> None:
    """Delete the contents among these that no reading and no device holds."""
    db.execute(
        "DELETE FROM reading_contents WHERE id IN (SELECT value FROM json_each(?)) AND merged = 0 AND readings = 0"
        " AND id < (SELECT MAX(id) FROM reading_contents)",  # no number is given out twice: caches hold contents by it
        (json_list(sorted(numbers)),),
    )


def keep_merged(db: sqlite3.Connection, number: int) -> None:
    """Mark a content that is current on a device although no reading holds it."""
    db.execute("UPDATE reading_contents SET merged = 1 WHERE id = ? AND merged = 0", (number,))


def digest(content: Content, numbers: Iterable[int]) -> int:
    """What a content is found by: the highest of the numbers of its values, and a checksum of all that it says.

    The highest number is mostly that of a value that one device alone has: contents of devices that are read one after
    the other stand side by side in the index, and a part of an import writes few of its pages.
    """
    whole = content.codes + content.more.encode() if content.more else content.codes
    return max(numbers, default=0) << 32 | crc32(whole)


def rows(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, Content]:
    """Number -> content."""
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    found = cursor.execute(
        "SELECT c.id, c.shape, c.codes, c.more FROM json_each(?) AS j"
        " CROSS JOIN reading_contents AS c ON c.id = j.value",
        (json_list(numbers),),
    )
    return {number: Content(shape, codes, more) for number, shape, codes, more in found}


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
