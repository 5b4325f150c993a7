"""Random worlds from a seed: a sheet, devices with readings, exceptions. Plain data; nothing of the product is used.

A world is made of few facts with few values, so that requirements, fixes and needs look at the same ones and get in
each other's way as often as they can. Days are whole numbers from 2027-01-18.
"""

from __future__ import annotations

from datetime import date, timedelta
from random import Random
from typing import Any

from tests.oracle.logic import facts_of, outcome

TODAY = date(2027, 1, 18)
VALUES: dict[str, list[Any]] = {
    "cpu.cores": [1, 2, 4, 8],
    "machine.year": [2015, 2018, 2021],
    "tpm.state": ["on", "off", "absent"],
    "firmware.mode": ["uefi", "legacy"],
    "disk.table": ["gpt", "mbr"],
    "disk.encrypted": [True, False],
    "display.width": [800, 1024, 1920],
}
NUMBERS = ("cpu.cores", "machine.year", "display.width")
SOURCES = {"operator": 100, "collector": 80, "assessor": 50}
"""Trust of each source; what passes or ages is not used here."""


def day(number: int) -> date:
    return TODAY + timedelta(days=number)


def condition(random: Random, depth: int = 2) -> dict[str, Any]:
    if depth and random.random() < 0.35:
        kind = random.choice(["all", "any", "not"])
        if kind == "not":
            return {"not": condition(random, depth - 1)}
        return {kind: [condition(random, depth - 1) for _ in range(random.randint(2, 3))]}
    fact = random.choice(list(VALUES))
    if fact in NUMBERS:
        return {"fact": fact, random.choice(["at_least", "at_most"]): random.choice(VALUES[fact])}
    if fact != "disk.encrypted" and random.random() < 0.3:
        return {"fact": fact, "one_of": random.sample(VALUES[fact], 2)}
    return {"fact": fact, random.choice(["is", "is", "is_not"]): random.choice(VALUES[fact])}


def facts(random: Random, most: int) -> dict[str, Any]:
    chosen = random.sample(list(VALUES), random.randint(1, most))
    return {name: random.choice(VALUES[name]) for name in chosen}


def gives(random: Random, asked: dict[str, Any]) -> dict[str, Any]:
    """What a fix gives: something that the condition looks at, which does not leave it unmet."""
    found = facts(random, 2)
    for _ in range(30):  # a condition that contradicts itself is met by nothing; its sheet is refused
        found = facts(random, 2)
        if set(found) & facts_of(asked) and outcome(asked, found) != "unmet":
            return found
        name = random.choice(sorted(facts_of(asked)))
        found[name] = random.choice(VALUES[name])
        if outcome(asked, found) != "unmet":
            return found
    return found


def sheet(random: Random) -> dict[str, Any]:
    """A sheet as data: every list in the order in which it stands in the file."""
    count = random.randint(3, 5)
    releases = []
    for at in range(count):
        begins = random.randint(-60, -20) if at == 0 else random.randint(-60, 90)
        earlier = [str(n) for n in range(at)]
        path = [name for name in earlier if random.random() < 0.55]
        if random.random() < 0.3 and earlier:
            path = [earlier[-1]]
        lasts = random.randint(0, 110) if random.random() < 0.8 else random.randint(0, 30)
        releases.append({"id": str(at), "published": begins, "ends": begins + lasts, "upgrade_from": path})
    names = [release["id"] for release in releases]
    requirements = [requirement(random, f"r{at}", names) for at in range(random.randint(1, 5))]
    overrides = [override(random, f"o{at}", names, requirements) for at in range(random.randint(0, 5))]
    ids = [one["id"] for one in overrides]
    for one in overrides:
        one["conflicts"] = [name for name in ids if name != one["id"] and random.random() < 0.15]
    return {"releases": releases, "requirements": requirements, "overrides": overrides}


def requirement(random: Random, name: str, releases: list[str]) -> dict[str, Any]:
    since = random.choice(releases[: max(1, len(releases) - 1)])
    after = releases[releases.index(since) + 1 :]
    until = random.choice(after) if after and random.random() < 0.15 else None
    inside = releases[releases.index(since) : releases.index(until) if until else None]
    sorts = []
    if random.random() < 0.92:
        sorts.append({"from": since, "as": "installer-check" if random.random() < 0.75 else "floor"})
        if len(inside) > 1 and random.random() < 0.3:
            sorts.append({"from": random.choice(inside[1:]), "as": random.choice(["installer-check", "floor"])})
    asked = condition(random)
    fixes = [
        {
            "title": f"{name} fix {at}",
            "when": condition(random, 1) if random.random() < 0.8 else None,
            "gives": gives(random, asked),
            "minutes": random.choice([0, 10, 30]),
            "cost": random.choice([0, 0, 20, 40]),
        }
        for at in range(random.choice([0, 0, 1, 1, 2]))
    ]
    return {
        "id": name,
        "from": since,
        "until": until,
        "condition": asked,
        "sorts": sorts,
        "fixes": fixes,
    }


def override(random: Random, name: str, releases: list[str], requirements: list[dict[str, Any]]) -> dict[str, Any]:
    since = random.choice(releases)
    after = releases[releases.index(since) + 1 :]
    ids = [one["id"] for one in requirements]
    return {
        "id": name,
        "covers": random.sample(ids, random.randint(1, min(3, len(ids)))),
        "routes": random.choice([["in-place"], ["clean"], ["in-place", "clean"]]),
        "from": since,
        "until": random.choice(after) if after and random.random() < 0.3 else None,
        "origin": random.choice(["vendor", "field", "own"]),
        "weight": random.randint(1, 9),
        "needs": condition(random, 1) if random.random() < 0.3 else None,
    }


def device(random: Random, made: dict[str, Any]) -> dict[str, Any]:
    """What each source says of a device, newest last; which release it runs; its exceptions."""
    names = [release["id"] for release in made["releases"]]
    truth = {name: random.choice(values) for name, values in VALUES.items() if random.random() < 0.94}
    readings = [{"source": "collector", "day": random.randint(-20, 0), "facts": truth}]
    if random.random() < 0.3:
        other = {name: random.choice(VALUES[name]) for name in truth if random.random() < 0.2}
        if other:
            readings.append({"source": random.choice(["operator", "assessor"]), "day": -3, "facts": other})
    runs = random.choice(names[: max(1, len(names) - 1)]) if random.random() < 0.4 else names[0]
    ids = [one["id"] for one in made["requirements"]]
    exceptions = []
    for at in range(random.choice([0, 1, 1, 2, 3])):
        begins = random.choice([-30, -10, 0, random.randint(1, 60)])
        exceptions.append(
            {
                "id": f"EX-{at + 1:04}",
                "release": random.choice(names),
                "up_to": random.random() < 0.5,
                "requirements": random.sample(ids, random.randint(1, len(ids))),
                "start": begins,
                "expiry": begins + random.randint(0, 120),
                "state": random.choice(["approved", "approved", "approved", "requested", "revoked"]),
                "doubt": random.random() < 0.12,
            }
        )
    return {"runs": runs, "readings": readings, "exceptions": exceptions}


# ---------------------------------------------------------------------- as a file


def toml(made: dict[str, Any]) -> str:
    """The sheet in the format of sheets."""
    lines = ["format = 1", "[platform]", 'id = "p"', 'name = "P"', 'maker = "M"', 'editions = ["e"]']
    lines += ["[store]", 'kind = "drop-in-ini"', 'places = { system = "etc/p" }']
    for one in made["releases"]:
        lines += ["[[release]]", f'id = "{one["id"]}"', f"published = {day(one['published'])}"]
        lines += [f"servicing_ends = {{ e = {day(one['ends'])} }}", f"upgrade_from = {_value(one['upgrade_from'])}"]
    for one in made["requirements"]:
        lines += ["[[requirement]]", f'id = "{one["id"]}"', f'title = "{one["id"].upper()}"']
        lines += [f'from = "{one["from"]}"', 'enforced_at = ["set-up"]', 'because = "b"']
        lines += [f'until = "{one["until"]}"'] if one["until"] else []
        lines += [f"condition = {_value(one['condition'])}", f"sort = {_value(one['sorts'])}"]
        for fix in one["fixes"]:
            lines += ["[[requirement.fix]]", f'title = "{fix["title"]}"', 'kind = "part"']
            lines += [f"when = {_value(fix['when'])}"] if fix["when"] else []
            lines += [f"gives = {_value(fix['gives'])}", f"minutes = {fix['minutes']}", f'cost = "{fix["cost"]}"']
    for one in made["overrides"]:
        lines += ["[[override]]", f'id = "{one["id"]}"', f'title = "{one["id"].upper()}"', 'kind = "argument"']
        lines += [f'arguments = ["--{one["id"]}"]', f'from = "{one["from"]}"', f'origin = "{one["origin"]}"']
        lines += [f'until = "{one["until"]}"'] if one["until"] else []
        lines += [f"weight = {one['weight']}", f"covers = {_value(one['covers'])}"]
        lines += [f"routes = {_value(one['routes'])}", f"conflicts = {_value(one['conflicts'])}"]
        lines += [f"needs = {_value(one['needs'])}"] if one["needs"] else []
    return "\n".join(lines) + "\n"


def _value(given: Any) -> str:
    if isinstance(given, bool):
        return "true" if given else "false"
    if isinstance(given, list):
        return "[" + ", ".join(map(_value, given)) + "]"
    if isinstance(given, dict):
        return "{ " + ", ".join(f'"{name}" = {_value(value)}' for name, value in given.items()) + " }"
    return str(given) if isinstance(given, int) else f'"{given}"'
