"""The answers of a world, worked out slowly from the design's own sentences. Nothing of the product is used.

Every set of fixes in every order, every set of overrides, every chain of releases, every day on its own.
"""

from __future__ import annotations

from itertools import combinations, permutations, product
from typing import Any

from tests.oracle.logic import facts_of, outcome
from tests.oracle.worlds import SOURCES

World = dict[str, Any]
Facts = dict[str, Any]
FOREVER = 10_000


def candidates(readings: list[World]) -> dict[str, list[Any]]:
    """Per fact each source's newest value, the most trusted first, then the newest."""
    newest: dict[str, dict[str, tuple[int, Any]]] = {}
    for reading in sorted(readings, key=lambda r: r["day"]):
        for name, value in reading["facts"].items():
            newest.setdefault(name, {})[reading["source"]] = (reading["day"], value)
    found = {}
    for name, said in newest.items():
        ranked = sorted(said, key=lambda source: (SOURCES[source], said[source][0]), reverse=True)
        found[name] = [said[source][1] for source in ranked]
    return found


def finding(asked: World, said: dict[str, list[Any]]) -> str:
    names = sorted(facts_of(asked["condition"]) & set(said))
    outcomes = {
        outcome(asked["condition"], dict(zip(names, picks, strict=True)))
        for picks in product(*(said[name] for name in names))
    }
    return outcomes.pop() if len(outcomes) == 1 else "disputed"


# ---------------------------------------------------------------------- sorting


def asked_at(world: World, release: str) -> list[World]:
    order = [one["id"] for one in world["releases"]]
    at = order.index(release)
    return [
        one
        for one in world["requirements"]
        if order.index(one["from"]) <= at and (one["until"] is None or at < order.index(one["until"]))
    ]


def sort_at(world: World, asked: World, release: str) -> str:
    order = [one["id"] for one in world["releases"]]
    begun = [rule for rule in asked["sorts"] if order.index(rule["from"]) <= order.index(release)]
    return max(begun, key=lambda rule: order.index(rule["from"]))["as"] if begun else "unsorted"


def sequences(fixes: list[World], known: Facts) -> list[tuple[list[World], Facts]]:
    """Every way to make some of the fixes one after the other, each possible when its turn comes."""
    found = []
    for size in range(len(fixes) + 1):
        for chosen in permutations(fixes, size):
            now = dict(known)
            for fix in chosen:
                if outcome(fix["when"], now) != "met":
                    break
                now |= fix["gives"]
            else:
                found.append((list(chosen), now))
    return found


def has_fix(asked: World, unmet: list[World], known: Facts) -> bool:
    """Whether one of the requirement's own fixes meets it, after others that open the way if need be."""
    if not asked["fixes"]:
        return False
    pool = [fix for one in unmet for fix in one["fixes"]]
    own = {fix["title"] for fix in asked["fixes"]}
    return any(
        any(fix["title"] in own for fix in chosen) and outcome(asked["condition"], after) == "met"
        for chosen, after in sequences(pool, known)
    )


def sorted_device(world: World, release: str, said: dict[str, list[Any]]) -> tuple[str, dict[str, str]]:
    """The state, and per requirement met, fixable, installer-check, floor, unsorted, unread or disputed."""
    known = {name: values[0] for name, values in said.items()}
    asked = asked_at(world, release)
    found = {one["id"]: finding(one, said) for one in asked}
    unmet = [one for one in asked if found[one["id"]] == "unmet"]
    marks, level, worst = {}, 0, 0
    for one in asked:
        what, sort = found[one["id"]], sort_at(world, one, release)
        mark = what
        if what == "unmet":
            mark = "fixable" if has_fix(one, unmet, known) else sort
        marks[one["id"]] = mark
        level = max(level, {"fixable": 1, "installer-check": 2, "floor": 3}.get(mark, 0))
        if mark in ("unread", "disputed", "unsorted"):
            worst = max(worst, 2 if sort == "installer-check" else 3)
    if worst > level:
        return "unsettled", marks
    return ("clear", "fixable", "needs-exception", "floored")[level], marks


def cheapest(wanted: list[World], unmet: list[World], known: Facts) -> tuple[list[World], Facts]:
    """The cheapest fixes after which the most of `wanted` is met: cost, minutes, number."""
    pool = [fix for one in unmet for fix in one["fixes"]]
    best: Any = None
    for chosen, after in sequences(pool, known):
        met = sum(outcome(one["condition"], after) == "met" for one in wanted)
        rank = (-met, sum(f["cost"] for f in chosen), sum(f["minutes"] for f in chosen), len(chosen))
        if best is None or rank < best[0]:
            best = rank, chosen, after
    return best[1], best[2]


# -------------------------------------------------------------------- overrides


def choice(
    world: World, release: str, route: str, known: Facts, checks: set[str], excepted: set[str]
) -> tuple[Any, ...] | None:
    """The least of (excess, field, own, weight, members, ids) over every set that covers; None if none does."""
    order = [one["id"] for one in world["releases"]]
    at = order.index(release)
    usable = [
        one
        for one in world["overrides"]
        if order.index(one["from"]) <= at
        and (one["until"] is None or at < order.index(one["until"]))
        and route in one["routes"]
        and outcome(one["needs"], known) == "met"
    ]
    here = {one["id"] for one in asked_at(world, release)}
    best = None
    for size in range(len(usable) + 1):
        for chosen in combinations(usable, size):
            off = set().union(*(one["covers"] for one in chosen)) & here
            clash = any(b["id"] in a["conflicts"] for a in chosen for b in chosen)
            if clash or not checks <= off:
                continue
            rank = (
                len(off - excepted),
                sum(one["origin"] == "field" for one in chosen),
                sum(one["origin"] == "own" for one in chosen),
                sum(one["weight"] for one in chosen),
                len(chosen),
                tuple(sorted(one["id"] for one in chosen)),
            )
            best = rank if best is None else min(best, rank)
    return best


# --------------------------------------------------------------------- forecast


def reached(world: World, release: World, device: World, exception: World) -> bool:
    order = [one["id"] for one in world["releases"]]
    at, last = order.index(release["id"]), order.index(exception["release"])
    return at <= last if exception["up_to"] else at == last


def covered(check: str, exceptions: list[World], today: int) -> bool:
    return any(check in e["requirements"] and e["start"] <= today <= e["expiry"] for e in exceptions)


class Ways:
    """How a device gets to each release, given what earlier fixes have given."""

    def __init__(self, world: World, device: World) -> None:
        self.world = world
        self.device = device
        self.said = candidates(device["readings"])
        self.known: dict[Any, list[World]] = {}

    def ways(self, release: World, given: Facts) -> list[World]:
        key = (release["id"], tuple(sorted(given.items())))
        if key not in self.known:
            self.known[key] = self._ways(release, given)
        return self.known[key]

    def _ways(self, release: World, given: Facts) -> list[World]:
        said = {**self.said, **{name: [value] for name, value in given.items()}}
        state, marks = sorted_device(self.world, release["id"], said)
        if state in ("unsettled", "floored"):
            return []
        usable = [
            e
            for e in self.device["exceptions"]
            if e["state"] == "approved" and reached(self.world, release, self.device, e) and e["expiry"] >= 0
        ]
        named = {name for e in usable if not e["doubt"] for name in e["requirements"]}
        both = {
            name
            for name, mark in marks.items()
            if mark == "fixable" and name in named and self._sort(name, release) == "installer-check"
        }
        found = self._on_each_route(release, given, both, usable)
        if both:
            found += self._on_each_route(release, given, set(), usable)
        return found

    def _sort(self, name: str, release: World) -> str:
        return sort_at(self.world, next(r for r in self.world["requirements"] if r["id"] == name), release["id"])

    def _on_each_route(self, release: World, given: Facts, kept: set[str], usable: list[World]) -> list[World]:
        now, by_hand = dict(given), False
        seen = [dict(given)]
        while True:
            said = {**self.said, **{name: [value] for name, value in now.items()}}
            state, marks = sorted_device(self.world, release["id"], said)
            asked = {one["id"]: one for one in asked_at(self.world, release["id"])}
            unmet = [one for name, one in asked.items() if marks[name] not in ("met", "unread", "disputed")]
            to_fix = [asked[n] for n, mark in marks.items() if mark == "fixable" and n not in kept]
            if not to_fix or state in ("unsettled", "floored"):
                break
            known = {name: values[0] for name, values in said.items()}
            chosen, _ = cheapest(to_fix, unmet, known)
            then = dict(now)
            for fix in chosen:
                then |= fix["gives"]
            if then in seen:
                break  # they undo one another
            seen.append(then)
            now = then
            by_hand = True
        if state in ("unsettled", "floored"):
            return []
        if any(self._sort(one["id"], release) != "installer-check" for one in to_fix):
            return []
        known = {name: values[0] for name, values in said.items()}
        checks = {n for n, mark in marks.items() if mark not in ("met", "unread", "disputed")}
        way = {"release": release, "given": now, "by_hand": by_hand, "clean": False, "checks": checks}
        if not checks:
            free = {**way, "permits": [range(-FOREVER, FOREVER)]}
            return [free, {**free, "by_hand": True, "clean": True}]
        found = []
        names = {name for e in usable for name in e["requirements"]}
        for route in ("in-place", "clean"):
            if choice(self.world, release["id"], route, known, checks, names | checks) is not None:
                standing = [e for e in usable if not e["doubt"]]
                bars = any(mark in ("unread", "disputed") for mark in marks.values())
                days = [] if bars else [d for d in range(0, 400) if all(covered(c, standing, d) for c in checks)]
                found.append({**way, "by_hand": True, "clean": route == "clean", "permits": days})
        return found


def forecast(world: World, device: World, approved: bool) -> tuple[Any, ...]:
    """Last serviced day, clean installs, days without servicing, moves by hand, moves, releases; over every chain.

    None instead of a last day if no day is serviced.
    """
    order = [one["id"] for one in world["releases"]]
    ways = Ways(world, device)
    start = world["releases"][order.index(device["runs"])]
    horizon = max(0, *(one["ends"] + 1 for one in world["releases"]))
    marks = sorted_device(world, start["id"], ways.said)[1]
    unknown = ("unread", "disputed")
    needed = {
        one["id"]
        for one in asked_at(world, start["id"])
        if marks[one["id"]] == "installer-check"
        or (marks[one["id"]] in unknown and sort_at(world, one, start["id"]) == "installer-check")
    }
    own = [
        e
        for e in device["exceptions"]
        if e["state"] == "approved" and not e["doubt"] and reached(world, start, device, e)
    ]
    stays = [d <= start["ends"] and (not approved or all(covered(c, own, d) for c in needed)) for d in range(horizon)]
    best: Any = (0, 0, 0, 0, 0, ())

    def judge(lost: list[int], serviced: list[bool], cleans: int, hands: int, moves: tuple[int, ...]) -> None:
        nonlocal best
        for last in reversed(range(horizon)):
            if serviced[last] and lost[last] < FOREVER:
                best = min(best, (-(last + 1), cleans, lost[last], hands, len(moves), moves))
                return

    def go(at: int, given: Facts, lost: list[int], cleans: int, hands: int, moves: tuple[int, ...]) -> None:
        """`lost[d]`: the fewest days without servicing before day d, if the device is here on day d."""
        here = order[at]
        for there in range(at + 1, len(order)):
            release = world["releases"][there]
            for way in ways.ways(release, given):
                if here not in release["upgrade_from"] and not way["clean"]:
                    continue
                free = not way["checks"] or not approved
                permitted = range(horizon) if free else way["permits"]
                can = [d >= release["published"] and d in permitted for d in range(horizon)]
                counts = [d <= release["ends"] and d in permitted for d in range(horizon)]
                arrived: list[int] = []
                for d in range(horizon):
                    stay = arrived[d - 1] + (not counts[d - 1]) if d else FOREVER
                    arrived.append(min(stay, lost[d] if can[d] else FOREVER))
                if min(arrived) >= FOREVER:
                    continue
                more = cleans + way["clean"], hands + way["by_hand"]
                judge(arrived, counts, *more, (*moves, there))
                go(there, way["given"], arrived, *more, (*moves, there))

    if not horizon:
        return (None, 0, 0, 0, 0, ())
    first = [sum(not ok for ok in stays[:d]) for d in range(horizon)]
    judge(first, stays, 0, 0, ())
    go(order.index(start["id"]), {}, first, 0, 0, ())
    last, cleans, gap, hands, count, moves = best
    return (-last - 1 if last else None, gap, cleans, hands, count, tuple(order[at] for at in moves))
