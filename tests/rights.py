"""Calls every operation in every way that could reach beyond a caller's rights, and looks whether anything changes.

`python -m tests.rights SEED`: each operation with each role, as oneself and in the place of others, with a key and
without, as a dry run and for good, with a token for programs and with one of a sign-in.
"""

from __future__ import annotations

import itertools
import random
import re
import sqlite3
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from datetime import date, datetime
from pathlib import Path
from typing import Any, NamedTuple

import httpx

from doorstone.core.people import Deputy
from doorstone.demo.seed import seed
from doorstone.service.app import api_document, create_app
from doorstone.service.serve import set_up_logging
from doorstone.store.database import Database
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.passwords import Passwords
from doorstone.work.people import deputies, people
from tests.service.test_auth import WRITES

PEOPLE = {"viewer": "odile", "technician": "petra", "approver": "anselm", "administrator": "wilhelmina"}
PLACES = ("", *PEOPLE.values(), "nobody-known")
ACCOUNTS = {"people", "notifications", "operations"}
"""Tags of what is never done in another person's place."""
KEPT_BY_DRY_RUNS = {"begin_import", "import_readings"}


class Way(NamedTuple):
    """One way to call an operation."""

    role: str
    place: str
    key: bool
    dry: bool
    signed_in: bool


WAYS = [
    Way(*way)
    for way in itertools.product([*PEOPLE, "reporter"], PLACES, (False, True), (False, True), (False, True))
    if not (way[0] == "reporter" and way[4])
]


@dataclass
class Asked:
    """How many calls were made, how many refused, and what went beyond a caller's rights."""

    calls: int = 0
    refused: int = 0
    statuses: Counter[int] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)


def may(way: Way, name: str, method: str, operation: dict[str, Any], acts_for: set[str]) -> bool:
    """Whether a caller may call an operation in a way: worked out from the table of the tests, not from the product."""
    role = way.role
    if way.place:
        if way.place not in acts_for:
            return False
        if operation["x-session"] or (method != "GET" and (set(operation["tags"]) & ACCOUNTS or name == "change_risk")):
            return False
        theirs = next(one for one, person in PEOPLE.items() if person == way.place)
        role = theirs if way.signed_in else lesser(way.role, theirs)
    if operation["x-session"] and not way.signed_in:
        return False
    if method == "GET" or role == "administrator":
        return role in operation["x-roles"]
    return name in WRITES.get(role, set())


def lesser(one: str, other: str) -> str:
    """The role that both hold: a technician and an approver have only viewing in common."""
    if "reporter" in (one, other):
        return one if one == other else "reporter"
    if "administrator" in (one, other):
        return other if one == "administrator" else one
    return one if one == other else "viewer"


def ask(data: Path, seed_: int, sample: int = 0) -> Asked:
    """Every operation in every way, or so many drawn at random."""
    context = Context(
        Database(data / "doorstone.db"), FixedClock(datetime(2027, 1, 18, 9)), passwords=Passwords("tests")
    )
    admin = Actor("wilhelmina", "administrator", "test", session=True)
    acts_for: dict[str, set[str]] = {}
    for person, deputy in (("wilhelmina", "petra"), ("anselm", "petra"), ("odile", "petra"), ("petra", "odile")):
        named = Deputy(person, deputy, date(2027, 1, 1), date(2027, 3, 1))
        deputies.name_deputy(context, admin, named, "Away for a while.")
        acts_for.setdefault(deputy, set()).add(person)
    tokens = {(role, signed_in): _token(context, role, signed_in) for role, _, _, _, signed_in in WAYS}
    return _ask(context, data, tokens, acts_for, seed_, sample)


def _token(context: Context, role: str, signed_in: bool) -> str:
    actor = Actor(PEOPLE.get(role, "petra"), role if role in PEOPLE else "technician", "test")
    return people.issue_token(context, actor, "test", role, 30, session=signed_in).secret or ""


def _ask(
    context: Context,
    data: Path,
    tokens: dict[tuple[str, bool], str],
    acts_for: dict[str, set[str]],
    seed_: int,
    sample: int,
) -> Asked:
    chance, found = random.Random(seed_), Asked()
    operations = [
        (method.upper(), path, one)
        for path, item in api_document()["paths"].items()
        for method, one in item.items()
        if one.get("x-roles") and one["operationId"] not in ("import_events", "revoke_token", "sign_out")
    ]
    calls = list(itertools.product(operations, WAYS))
    chance.shuffle(calls)
    watch = sqlite3.connect(data / "doorstone.db")
    app = create_app(context, b"k" * 32)
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        for number, ((method, path, operation), way) in enumerate(calls[: sample or None]):
            name = operation["operationId"]
            before = watch.execute("PRAGMA data_version").fetchone()[0]
            headers = {"Authorization": f"Bearer {tokens[way.role, way.signed_in]}", "If-Match": '"v1"'}
            headers |= {"Doorstone-In-Place-Of": way.place} if way.place else {}
            headers |= {"Idempotency-Key": f"key {number}"} if way.key else {}
            query = {"dry_run": "true"} if way.dry and method != "GET" else {}
            filled = re.sub(r"\{(\w+)\}", "nothing", path)
            body = {} if method == "GET" else {"json": {}}
            done = client.request(method, filled, headers=headers, params=query, **body)  # type: ignore[arg-type]
            changed = watch.execute("PRAGMA data_version").fetchone()[0] != before
            person = PEOPLE.get(way.role, "petra")
            allowed = may(way, name, method, operation, acts_for.get(person, set()))
            found.calls += 1
            found.statuses[done.status_code] += 1
            denied = done.status_code in (401, 403)
            found.refused += denied
            said = f"{method} {path} as {way}: {done.status_code}"
            if not allowed and (not denied or changed):
                found.faults.append(f"beyond the caller's rights: {said}, changed: {changed}")
            elif allowed and denied:
                found.faults.append(f"refused though allowed: {said} {done.text[:200]}")
            elif changed and (method == "GET" or (way.dry and name not in KEPT_BY_DRY_RUNS)):
                found.faults.append(f"a read or a dry run that wrote: {said}")
            elif done.status_code >= 500:
                found.faults.append(f"failed: {said} {done.text[:200]}")
    watch.close()
    context.database.close()
    return found


def main(seed_: int) -> int:
    set_up_logging(quiet=True)
    with tempfile.TemporaryDirectory() as scratch:
        data = Path(scratch) / "data"
        seed(data, Passwords("tests"))
        found = ask(data, seed_)
    print(f"{found.calls:,} calls, {found.refused:,} refused, {len(found.faults)} beyond the rights; seed {seed_}")
    print(f"statuses {dict(sorted(found.statuses.items()))}")
    for fault in found.faults[:20]:
        print(f"  {fault}")
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else int(time.time())))
