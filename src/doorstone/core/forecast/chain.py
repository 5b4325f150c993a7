"""The chain of moves that keeps a device serviced longest: an exact search over days and places.

In: places (a release, as a device is on it), moves between them, a day. Out: the best chain, with the days between
which each move is made, and the days that no release serviced.

A device is at one place at a time. A day counts as serviced when the place at which the device spends it counts that
day. Between two days on which anything changes all days are alike, so a move need only be tried on the first of them:
the search goes from one such stretch to the next and keeps, for every place, the best way to be there. Less is better,
compared left to right: last serviced day (latest first), clean installs (they lose what is on the device), days without
servicing from today through it, moves by hand, moves, releases (earliest first).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from itertools import pairwise

from msgspec import Struct

from doorstone.core.days import DAY, Span, union


class Place(Struct, frozen=True):
    """A release as a device is on it. A place is reached only from places before it.

    `order` is the release's place in the sheet; `entry` are the days on which one may move there, `serviced` those
    that count while there; `by_hand` whether the move takes an exception, a fix or a clean install, `clean` whether it
    is a clean install.
    """

    order: int
    entry: tuple[Span, ...]
    serviced: tuple[Span, ...]
    by_hand: bool = False
    clean: bool = False


class Chain(Struct, frozen=True):
    """The best chain: `places` by their numbers, the first is where the device is today.

    `windows` holds, for each move, the earliest day on which the best chain makes it, and the last day after which
    days would go by without servicing. `runway` is the last serviced day, None if there is none.
    """

    places: tuple[int, ...]
    windows: tuple[Span, ...]
    runway: date | None
    gaps: tuple[Span, ...]


_Cost = tuple[int, int, int, int, tuple[int, ...], tuple[int, ...]]  # clean, gap, by hand, moves, releases, places


def best_chain(places: Sequence[Place], moves: Mapping[int, Sequence[int]], today: date) -> Chain:
    """The best chain from place 0. `moves` maps a place to those that may come next, each a later number."""
    stretches = _stretches(places, today)
    best: dict[int, _Cost] = {0: (0, 0, 0, 0, (), (0,))}
    ended: tuple[int, _Cost] | None = None
    for at, stretch in enumerate(stretches):
        for here in range(len(places)):
            if here in best:
                _move_on(best, here, places, moves.get(here, ()), stretch.first)
        serviced = [here for here in best if _held(places[here].serviced, stretch.first)]
        if serviced:
            ended = at, min(best[here] for here in serviced)
        for here, (clean, gap, *rest) in best.items():
            if here not in serviced:
                best[here] = (clean, gap + stretch.days, *rest)  # type: ignore[assignment]
    if ended is None:
        return Chain((0,), (), None, ())
    chain = ended[1][5]
    windows, gaps = _days([places[here] for here in chain], stretches[: ended[0] + 1])
    return Chain(chain, windows, stretches[ended[0]].last, gaps)


def _move_on(best: dict[int, _Cost], here: int, places: Sequence[Place], following: Iterable[int], day: date) -> None:
    clean, gap, hands, moves, order, chain = best[here]
    for there in following:
        place = places[there]
        if _held(place.entry, day):
            releases = (*order, place.order)
            cost = (clean + place.clean, gap, hands + place.by_hand, moves + 1, releases, (*chain, there))
            if there not in best or cost < best[there]:
                best[there] = cost


def _stretches(places: Sequence[Place], today: date) -> list[Span]:
    """From today through the last day that any place counts: stretches of days that are all alike.

    The last day on which one may move somewhere is one of its own: it can pay to wait until then.
    """
    spans = [span for place in places for span in (*place.entry, *place.serviced)]
    last = max((span.last for place in places for span in place.serviced), default=today)
    starts = {today, *(s.first for s in spans), *(s.last + DAY for s in spans if s.last < last)}
    starts |= {span.last for place in places for span in place.entry}
    chosen = sorted(day for day in starts if today <= day <= last)
    return [Span(first, then - DAY) for first, then in pairwise(chosen)] + ([Span(chosen[-1], last)] if chosen else [])


def _held(spans: Iterable[Span], day: date) -> bool:
    return any(span.first <= day <= span.last for span in spans)


# ------------------------------------------------------------- the days of a chain

_NEVER = 1 << 60


def _days(chain: Sequence[Place], stretches: Sequence[Span]) -> tuple[tuple[Span, ...], tuple[Span, ...]]:
    """Between which days each move of a chain is made, and the days without servicing if each is made at once.

    Of all ways to spread the moves over the days that cost the fewest days without servicing, the earliest for every
    move is one and the latest for every move is one.
    """
    lost = [[0 if _held(p.serviced, s.first) else s.days for s in stretches] for p in chain]
    enter = [[_held(p.entry, s.first) for s in stretches] for p in chain]
    before, after = _forth(lost, enter), _back(lost, enter)
    least = after[0][0]
    earliest = [stretches[0].first]
    latest = [stretches[0].first]
    for at in range(1, len(chain)):
        on = [n for n in range(len(stretches)) if enter[at][n] and before[at - 1][n] + after[at][n] == least]
        earliest.append(stretches[on[0]].first)
        last = on[-1]
        # within a stretch that costs the same on either side the move can wait until the stretch's last day
        waits = lost[at - 1][last] == lost[at][last]
        latest.append(stretches[last].last if waits else stretches[last].first)
    return _windows(chain, earliest, latest), _gaps(chain, earliest, stretches)


def _forth(lost: Sequence[Sequence[int]], enter: Sequence[Sequence[bool]]) -> list[list[int]]:
    """The fewest days lost before each stretch begins, for each place."""
    held: list[list[int]] = []
    for at, row in enumerate(lost):
        line: list[int] = []
        for n in range(len(row)):
            stays = 0 if (at == 0 and n == 0) else (line[n - 1] + row[n - 1] if n else _NEVER)
            moves = held[at - 1][n] if at and enter[at][n] else _NEVER
            line.append(min(stays, moves))
        held.append(line)
    return held


def _back(lost: Sequence[Sequence[int]], enter: Sequence[Sequence[bool]]) -> list[list[int]]:
    """The fewest days lost from each stretch on, for each place, if the device ends at the last place."""
    count = len(lost[0])
    held = [[_NEVER] * count for _ in lost]
    for at in reversed(range(len(lost))):
        for n in reversed(range(count)):
            stays = lost[at][n] + (held[at][n + 1] if n + 1 < count else (0 if at == len(lost) - 1 else _NEVER))
            moves = held[at + 1][n] if at + 1 < len(lost) and enter[at + 1][n] else _NEVER
            held[at][n] = min(stays, moves)
    return held


def _windows(chain: Sequence[Place], earliest: Sequence[date], latest: Sequence[date]) -> tuple[Span, ...]:
    """Each move's days: through the last day on which a place before it still counts, if that is before the latest."""
    found = []
    for at in range(1, len(chain)):
        through = [min(s.last, latest[at]) for p in chain[:at] for s in p.serviced if s.first <= latest[at]]
        found.append(Span(earliest[at], max(earliest[at], max(through, default=earliest[at]))))
    return tuple(found)


def _gaps(chain: Sequence[Place], earliest: Sequence[date], stretches: Sequence[Span]) -> tuple[Span, ...]:
    lost = []
    for stretch in stretches:
        here = max(at for at, day in enumerate(earliest) if day <= stretch.first)
        if not _held(chain[here].serviced, stretch.first):
            lost.append(stretch)
    return tuple(union(lost))
