"""Steps a service through two years, day by day, beside a plain model, and compares what each interface says.

`python -m tests.two_years DAYS SEED`. The model keeps readings and exceptions as lists and works everything out anew
each day, with the oracle's rules of sorting. Devices change, move to other releases, and are excepted; exceptions
lapse, are revoked, and go stale.
"""

from __future__ import annotations

import json
import sys
import tempfile
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import httpx
from msgspec import Struct

from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.service.config import Config
from doorstone.service.serve import Service, set_up_logging
from doorstone.work.context.actor import Actor
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.lapse import lapse
from doorstone.work.people import people
from doorstone.work.platforms import revisions
from doorstone.work.snapshot.settling import roll
from tests.asking import ADMIN, ANSELM, PETRA, asked, read, settle_in
from tests.oracle import answers, worlds
from tests.oracle.logic import facts_of
from tests.running import cli_environment, data, doorstone

UNMET = {"floor", "installer-check", "fixable"}
STARTS = worlds.TODAY
LAPSE_AHEAD = 30


class Clock(Struct):
    """A clock that is set from outside."""

    at: datetime

    def now(self) -> datetime:
        return self.at


@dataclass
class Granted:
    """An approved exception of the model. `shown` is what it rests on: finding and values by requirement."""

    id: str
    device: str
    release: str
    requirements: set[str]
    starts: date
    expires: date
    shown: dict[str, Any]
    ended: bool = False


@dataclass
class Model:
    """What is known of each device, and the exceptions that were granted."""

    world: dict[str, Any]
    readings: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    granted: list[Granted] = field(default_factory=list)
    since: dict[str, date] = field(default_factory=dict)

    def sides(self, device: str, release: str) -> tuple[str, dict[str, str], dict[str, Any]]:
        """State and marks without exceptions, and the newest value of each fact."""
        said = answers.candidates(self.readings[device])
        state, marks = answers.sorted_device(self.world, release, said)
        return state, marks, {name: values[0] for name, values in said.items()}

    def runs(self, device: str) -> str:
        return str(self.readings[device][-1]["runs"])

    def shown(self, device: str, release: str, requirements: set[str]) -> dict[str, Any]:
        _, marks, known = self.sides(device, release)
        conditions = {one["id"]: one["condition"] for one in self.world["requirements"]}
        return {
            name: [
                "unmet" if marks.get(name) in {*UNMET, "unsorted"} else marks.get(name),
                {fact: known.get(fact) for fact in sorted(facts_of(conditions[name]))},
            ]
            for name in requirements
        }

    def excepted(self, device: str, release: str, day: date) -> set[str]:
        """The requirements that exceptions in force name; one whose grounds changed names none, unless the device runs
        a later release by now: then it has served.
        """
        found: set[str] = set()
        served = int(self.runs(device)) > int(release)
        for one in self.granted:
            named = one.device == device and one.release == release and not one.ended
            if not named or not one.starts <= day <= one.expires:
                continue
            if served or self.shown(device, release, one.requirements) == one.shown:
                found |= one.requirements
        return found

    def state(self, device: str, release: str, day: date) -> str:
        state, marks, _ = self.sides(device, release)
        excepted = self.excepted(device, release, day)
        checks = {name for name, mark in marks.items() if mark == "installer-check"}
        fixable = {name for name, mark in marks.items() if mark == "fixable"}
        if not excepted or state not in ("fixable", "needs-exception") or not checks <= excepted:
            return state
        return "fixable" if fixable - excepted else "excepted"

    def uncovered(self, device: str, day: date) -> bool:
        release = self.runs(device)
        _, marks, _ = self.sides(device, release)
        checks = {
            one["id"]
            for one in answers.asked_at(self.world, release)
            if marks[one["id"]] in UNMET and answers.sort_at(self.world, one, release) == "installer-check"
        }
        return bool(checks - self.excepted(device, release, day))


@dataclass
class Compared:
    """How often each kind of answer was compared, and the differences."""

    counts: Counter[str] = field(default_factory=Counter)
    differences: list[str] = field(default_factory=list)

    def same(self, what: str, where: str, product: Any, model: Any) -> None:
        self.counts[what] += 1
        if product != model:
            self.differences.append(f"{what}, {where}: the product says {product}, the model {model}")


def world_of(random: Random) -> tuple[dict[str, Any], str]:
    """A world whose sheet can be meant and whose releases are out on the first day."""
    while True:
        world = worlds.sheet(random)
        for release in world["releases"]:
            release["published"], release["ends"] = min(release["published"], -1), 900
        try:
            read_sheet(worlds.toml(world), {})
        except SheetError:
            continue
        return world, worlds.toml(world)


def play(folder: Path, days: int, seed: int, devices: int = 8) -> Compared:
    """So many days of a service over new records."""
    random, found = Random(seed), Compared()
    world, text = world_of(random)
    sources = {"collector": {"trust": 80, "passing_days": None, "lasting_days": None}}
    config = Config.model_validate({"data": folder / "data", "port": 0, "as_of": STARTS, "sources": sources})
    service = Service(config, look_every=0.02)
    context, clock = service.context, Clock(datetime.combine(STARTS, datetime.min.time()))
    context.clock = clock
    clock.at = datetime(2027, 1, 18, 9)
    settle_in(context)
    revisions.load_sheet(context, ADMIN, text, {}, "p.toml")
    token = people.issue_token(context, Actor("odile", "viewer", "test"), "watch", "viewer", 730).secret or ""
    environment = cli_environment(service.address, folder) | {"DOORSTONE_TOKEN": token}
    thread = threading.Thread(target=service.run)
    thread.start()
    model = Model(world)
    names = [f"d{number}" for number in range(devices)]
    try:
        with httpx.Client(base_url=f"{service.address}/api/v1", headers={"Authorization": f"Bearer {token}"}) as api:
            for number in range(days):
                clock.at = datetime(2027, 1, 18, 9) + timedelta(days=number)
                day = clock.at.date()
                roll(context)
                lapse(context)
                for name in names:
                    if number == 0 or random.random() < 0.02:
                        _read(context, model, random, name, day)
                if random.random() < 0.15:
                    _except(context, model, random, day)
                if number % 7 == 0 or random.random() < 0.1:
                    look(found, model, api, environment, day, f"seed {seed}, {day}", in_full=number % 28 == 0)
                else:
                    _remember(model, day)
    finally:
        service.stop()
        thread.join(120)
    return found


def _read(context: Any, model: Model, random: Random, name: str, day: date) -> None:
    releases = [one["id"] for one in model.world["releases"]]
    before = model.readings.get(name, [])
    runs = random.choice(releases) if not before or random.random() < 0.2 else before[-1]["runs"]
    facts = {fact: random.choice(values) for fact, values in worlds.VALUES.items() if random.random() < 0.9}
    model.readings.setdefault(name, []).append(
        {"source": "collector", "day": (day - STARTS).days, "facts": facts, "runs": runs}
    )
    own = {**facts, "os.platform": "p", "os.release": runs, "os.edition": "e"}
    read(
        context, json.dumps({"device": name, "source": "collector", "taken_at": f"{day}T08:00:00", "facts": own}) + "\n"
    )


def _except(context: Any, model: Model, random: Random, day: date) -> None:
    standing = [one for one in model.granted if not one.ended and one.expires >= day]
    if standing and random.random() < 0.25:
        gone = random.choice(standing)
        decisions.decide(context, ANSELM, gone.id, "revoke", "No longer needed.", None)
        gone.ended = True
        return
    device, release = random.choice(sorted(model.readings)), random.choice(model.world["releases"])["id"]
    _, marks, _ = model.sides(device, release)
    wanted = {name for name, mark in marks.items() if mark == "installer-check"} - model.excepted(device, release, day)
    if not wanted:
        return
    ends = day + timedelta(days=random.randint(2, 90))
    terms: dict[str, Any] = {"conditions": (), "start_on": day, "expires_on": ends, "review_on": ends}
    request = asked(device, requirements=tuple(sorted(wanted)), release=release, reason=f"For {day}.", **terms)
    try:
        made = exceptions.request(context, PETRA, request).id
    except Exception:
        return  # an equal one waits, or a fix has to be made first
    decisions.decide(context, ANSELM, made, "approve", "", None)
    model.granted.append(Granted(made, device, release, wanted, day, ends, model.shown(device, release, wanted)))


def _remember(model: Model, day: date) -> None:
    """What began today without permission; what is covered again is forgotten."""
    for name in model.readings:
        if model.uncovered(name, day):
            model.since.setdefault(name, day)
        else:
            model.since.pop(name, None)


def look(
    found: Compared,
    model: Model,
    api: httpx.Client,
    environment: dict[str, str],
    day: date,
    where: str,
    *,
    in_full: bool,
) -> None:
    """Compare the API with the model, and with `in_full` the command line as well."""
    _remember(model, day)
    for release in (one["id"] for one in model.world["releases"]):
        states = Counter(model.state(name, release, day) for name in model.readings)
        told = api.get("/fleet", params={"platform": "p", "release": release}).json()["states"]
        found.same("counts", f"{where}, release {release}", {n: c for n, c in told.items() if c}, dict(states))
        if in_full:
            shown = data(doorstone(("fleet", "show", "-p", "p", "-r", release, "--format", "json"), environment))[
                "states"
            ]
            found.same("counts, command line", where, {n: c for n, c in shown.items() if c}, dict(states))
            for state in states:
                query = {"platform": "p", "release": release, "state": state}
                listed = {one["id"] for one in api.get("/devices", params=query).json()["items"]}
                wanted = {name for name in model.readings if model.state(name, release, day) == state}
                found.same("devices of a state", f"{where}, {release}, {state}", listed, wanted)
    since = {one["device"]: one["since"] for one in api.get("/uncovered").json()["items"]}
    expected = {name: begun.isoformat() for name, begun in model.since.items()}
    found.same("uncovered since", where, since, expected)
    due = api.get("/due").json()["items"]
    lapsing = {
        one.id: one.expires.isoformat()
        for one in model.granted
        if not one.ended and day <= one.expires <= day + timedelta(days=LAPSE_AHEAD)
    }
    found.same("lapses", where, {one["object"]: one["on"] for one in due if one["kind"] == "lapse"}, lapsing)
    begun = min(expected.values(), default=None)
    found.same("due uncovered", where, min((o["on"] for o in due if o["kind"] == "uncovered"), default=None), begun)


def main(days: int, seed: int) -> int:
    set_up_logging(quiet=True)
    with tempfile.TemporaryDirectory() as scratch:
        found = play(Path(scratch), days, seed)
    counts = ", ".join(f"{count:,} {what}" for what, count in sorted(found.counts.items()))
    print(f"{days} days: {counts}; {len(found.differences)} differences; seed {seed}")
    for difference in found.differences[:20]:
        print(f"  {difference}")
    return 1 if found.differences else 0


if __name__ == "__main__":
    sys.exit(
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 730, int(sys.argv[2] if len(sys.argv) > 2 else time.time()))
    )
