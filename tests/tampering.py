"""Changes the records by hand, at random, and looks whether each change is named, or listed as one that is not.

`python -m tests.tampering COUNT SEED`: each time one row of one table of the demo is changed, taken out or doubled, as
by whoever can write to the file and has none of the keys.
"""

from __future__ import annotations

import random
import re
import shutil
import sqlite3
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from doorstone.demo.seed import seed
from doorstone.store.database import Database
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import Passwords
from doorstone.work.ledger.entries import check_ledger

SECURITY = Path(__file__).parent.parent / "docs" / "security.md"


def listed() -> set[str]:
    """The tables and columns that the list of what is outside the ledger names."""
    text = SECURITY.read_text("utf-8").split("## What is outside the ledger")[1].split("\n## ")[0]
    cells = [line.split("|")[1] for line in text.splitlines() if line.startswith("| `")]
    return {name for cell in cells for name in re.findall(r"`([a-z_.0-9]+)`", cell)}


@dataclass
class Tampered:
    """How many changes were named, how many listed, by table; and those that were neither."""

    named: Counter[str] = field(default_factory=Counter)
    listed: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)


def tables(db: sqlite3.Connection) -> list[str]:
    """The tables that hold rows."""
    sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%' ORDER BY name"
    return [name for (name,) in db.execute(sql) if db.execute(f"SELECT 1 FROM {name} LIMIT 1").fetchone()]  # noqa: S608


def tamper(db: sqlite3.Connection, table: str, chance: random.Random) -> tuple[str, str]:
    """Change one row of a table. Returns what was done, and what has to be named or listed: a table or a column."""
    columns = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
    rows = db.execute(f"SELECT * FROM {table}").fetchall()  # noqa: S608
    row = dict(zip(columns, chance.choice(rows), strict=True))
    where = " AND ".join(f"{name} IS ?" for name in columns)
    if chance.random() < 0.3:
        db.execute(f"DELETE FROM {table} WHERE {where}", list(row.values()))  # noqa: S608
        return f"row taken out of {table}: {row}", table
    name = chance.choice(columns)
    others = sorted({dict(zip(columns, other, strict=True))[name] for other in rows} - {row[name]}, key=repr)
    made = chance.choice(others) if others and chance.random() < 0.5 else changed(row[name])
    db.execute(f"UPDATE OR REPLACE {table} SET {name} = ? WHERE {where}", [made, *row.values()])  # noqa: S608
    return f"{table}.{name}: {row[name]!r} became {made!r} in {row}", f"{table}.{name}"


def changed(value: Any) -> Any:
    if isinstance(value, bytes):
        return value + b"x"
    if isinstance(value, (int, float)):
        return value + 1
    return "x" if value is None else f"{value}x"


def is_listed(what: str, known: set[str]) -> bool:
    """Whether a table, or a column of it, is listed. A table of which columns are listed is so as whole rows only."""
    table = what.partition(".")[0]
    return what in known or (table in known and not any(name.startswith(f"{table}.") for name in known))


def once(pristine: Path, folder: Path, table: str, chance: random.Random, found: Tampered, known: set[str]) -> None:
    shutil.copytree(pristine, folder)
    path = folder / "doorstone.db"
    db = sqlite3.connect(path)
    try:
        with db:
            done, what = tamper(db, table, chance)
    except sqlite3.IntegrityError:
        return
    finally:
        db.close()
    context = Context(Database(path), FixedClock(datetime(2027, 1, 18, 9)))
    try:
        faults = check_ledger(context).faults
    except (sqlite3.Error, ValueError, KeyError, TypeError) as error:
        faults = (f"the check itself fails: {error!r}",)
        found.faults.append(f"{done}: {faults[0]}"[:400])
    finally:
        context.database.close()
    if faults:
        found.named[table] += 1
    elif is_listed(what, known):
        found.listed[table] += 1
    else:
        found.faults.append(f"neither named nor listed: {done}"[:400])


def run(pristine: Path, count: int, seed_: int, each: int = 0) -> Tampered:
    """So many changes, over all tables in turn; with `each`, so many of each table."""
    chance, found, known = random.Random(seed_), Tampered(), listed()
    db = sqlite3.connect(pristine / "doorstone.db")
    names = tables(db)
    db.close()
    for number in range(each * len(names) or count):
        with tempfile.TemporaryDirectory() as scratch:
            once(pristine, Path(scratch) / "data", names[number % len(names)], chance, found, known)
    return found


def main(count: int, seed_: int) -> int:
    with tempfile.TemporaryDirectory() as scratch:
        pristine = Path(scratch) / "data"
        seed(pristine, Passwords("tests"))
        found = run(pristine, count, seed_)
    tried = found.named.total() + found.listed.total() + len(found.faults)
    words = f"{tried} changes in {len(found.named | found.listed)} tables: {found.named.total()} named"
    print(f"{words}, {found.listed.total()} of what is listed, {len(found.faults)} neither; seed {seed_}")
    for fault in found.faults[:20]:
        print(f"  {fault}")
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())))
