"""Readings and requests for tests of the use cases: one line of a reading, one request, one granted exception."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import date, datetime
from typing import Any

from msgspec.structs import replace

from doorstone.core.exceptions.requests import NewCondition, NewException, NewTerms
from doorstone.demo.seed import sheet_text
from doorstone.store import people as people_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from tests.build import tarn

PETRA = Actor("petra", "technician", "test")
ANSELM = Actor("anselm", "approver", "test")
ADMIN = Actor("wilhelmina", "administrator", "test")
ROLES = {"petra": "technician", "anselm": "approver", "wilhelmina": "administrator", "odile": "viewer"}
CHIP = ("processor-listed", "security-chip")
RISK = (
    "I understand that a device on a release by exception runs outside the vendor's requirements: updates may stop "
    "without notice, later releases may have to be installed by hand or may not run at all, and the vendor may "
    "decline support."
)
NOTICE = tarn().release("9.1").notice
D = date.fromisoformat
TERMS = NewTerms(
    "It works and is to be replaced.",
    (NewCondition("The cupboard stays locked", due_on=D("2027-03-01"), every_days=90),),
    "petra",
    D("2027-01-18"),
    D("2027-09-30"),
    D("2027-05-01"),
)


def settle_in(context: Context) -> None:
    """Add four people, one per role, who never sign in with a password."""
    with context.database.write() as db:
        for name, role in ROLES.items():
            people_store.add(db, name, name.title(), role, "", context.now())


def line(device: str, facts: Mapping[str, Any], at: str = "2027-01-15T08:00:00", **more: Any) -> str:
    about = {"source": "collector", "site": "Herbarium", **more}
    return json.dumps({"device": device, "taken_at": at, "facts": facts, **about}) + "\n"


def read(context: Context, *lines: str) -> None:
    import_job.import_readings(context, PETRA, "".join(lines), ImportOptions("ndjson"))


def asked(
    *devices: str, requirements: tuple[str, ...] = CHIP, release: str = "9.1", more: Mapping[str, Any] | None = None,
    **terms: Any,
) -> NewException:  # fmt: skip
    """A request; `terms` replace parts of its terms, `more` parts of the request itself."""
    made = NewException(release, False, requirements, devices, RISK, replace(TERMS, **terms), NOTICE)
    return replace(made, **(more or {}))


def granted(context: Context, *devices: str, **how: Any) -> str:
    name = exceptions.request(context, PETRA, asked(*devices, **how)).id
    return decisions.decide(context, ANSELM, name, "approve", "", 1).id


def on(context: Context, day: str) -> Context:
    """The same records on another day."""
    return Context(context.database, FixedClock(datetime.fromisoformat(f"{day}T09:00:00")), context.policy)


def changed_sheet(old: str, new: str) -> tuple[str, dict[str, str]]:
    text, lists = sheet_text()
    assert old in text
    return text.replace(old, new), lists
