"""Values of facts: each distinct value of a fact is kept once, under a number that contents of readings are made of."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence

from doorstone.store.json_lists import json_list


def numbers_of(db: sqlite3.Connection, pairs: Sequence[tuple[str, str]]) -> list[int]:
    """The number of each value, given as its fact and its JSON text; those that are new are kept."""
    known = _known(db, pairs)
    missing = [(fact, text) for fact, texts in known.items() for text, number in texts.items() if not number]
    if missing:
        db.executemany("INSERT OR IGNORE INTO fact_names (name) VALUES (?)", {(fact,) for fact, _ in missing})
        names = {row[1]: row[0] for row in db.execute("SELECT id, name FROM fact_names")}
        first = int(db.execute("SELECT COALESCE(MAX(id), 0) FROM fact_values").fetchone()[0]) + 1
        db.executemany(
            "INSERT INTO fact_values (id, fact, value) VALUES (?, ?, ?)",
            [(number, names[fact], value) for number, (fact, value) in enumerate(missing, first)],
        )
        for number, (fact, text) in enumerate(missing, first):
            known[fact][text] = number
    return [known[fact][text] for fact, text in pairs]


def _known(db: sqlite3.Connection, pairs: Iterable[tuple[str, str]]) -> dict[str, dict[str, int]]:
    """Fact -> value -> its number, 0 for one that is new."""
    found: dict[str, dict[str, int]] = {}
    for fact, text in pairs:
        found.setdefault(fact, {})[text] = 0
    cursor = db.cursor()
    cursor.row_factory = None  # plain tuples, as many are read
    for fact, texts in found.items():
        rows = cursor.execute(
            "SELECT v.value, v.id FROM fact_names AS f CROSS JOIN json_each(?2) AS j"
            " CROSS JOIN fact_values AS v ON v.fact = f.id AND v.value = j.value WHERE f.name = ?1",
            (fact, json_list(texts)),
        )
        texts.update(rows)
    return found


def by_number(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, str]:
    """Number -> value as JSON text."""
    found = db.execute(
        "SELECT v.id, v.value FROM json_each(?) AS j CROSS JOIN fact_values AS v ON v.id = j.value",
        (json_list(numbers),),
    )
    return {row[0]: row[1] for row in found}


def of_fact(db: sqlite3.Connection, fact: str) -> list[str]:
    """Every value, as JSON text, that any reading ever held of a fact."""
    rows = db.execute(
        "SELECT v.value FROM fact_names AS f JOIN fact_values AS v ON v.fact = f.id WHERE f.name = ?", (fact,)
    )
    return [row[0] for row in rows]
