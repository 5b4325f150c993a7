"""The chain of a forecast against an exhaustive search that counts day by day, and days at the edge."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.forecast import Forecast, Way, forecast
from doorstone.core.platforms import Platform
from tests.build import CHIPLESS, GOOD, tarn, view

D = date.fromisoformat
RELEASES = ("9.0", "9.1", "9.2", "9.3")


def platform_of(starts: list[int], lengths: list[int], paths: dict[str, set[str]], today: date) -> Platform:
    """Tarn with releases published and serviced so many days from today, and upgrade paths as given."""
    releases = [replace(tarn().release("8"), servicing_ends={"desk": today + timedelta(days=lengths[0])})]
    for at, name in enumerate(RELEASES):
        published = today + timedelta(days=starts[at])
        ends = published + timedelta(days=lengths[at + 1])
        path = tuple(r for r in ("8", *RELEASES[:at]) if r in paths[name])
        known = tarn().release(name)
        releases.append(replace(known, published=published, servicing_ends={"desk": ends}, upgrade_from=path))
    return replace(tarn(), releases=tuple(releases))


def best_by_days(platform: Platform, found: Forecast, today: date) -> tuple[int, int, int, int]:
    """Over every chain: last serviced day, days without servicing, moves by hand, moves; by counting days."""
    by_hand = {r.release: r.way is not Way.OFFERED for r in found.reaches if r.possible}
    days_of = {
        r.id: set(range(max(today, r.published).toordinal(), r.servicing_ends["desk"].toordinal() + 1))
        for r in platform.releases
    }
    days_of["8"] = set(range(today.toordinal(), platform.release("8").servicing_ends["desk"].toordinal() + 1))
    best = None

    def go(release: str, arrived: int, held: set[int], hands: int, moves: int) -> None:
        nonlocal best
        last = max(held, default=0)
        gaps = sum(day not in held for day in range(today.toordinal(), last + 1))
        rank = (-last, gaps, hands, moves)
        best = rank if best is None else min(best, rank)
        for name, hand in by_hand.items():
            if release in platform.release(name).upgrade_from and days_of[name] and max(days_of[name]) >= arrived:
                at = max(arrived, min(days_of[name]))
                go(name, at, held | days_of[name], hands + hand, moves + 1)

    go("8", today.toordinal(), set(days_of["8"]), 0, 0)
    assert best is not None
    return best


numbers = st.lists(st.integers(-60, 60), min_size=4, max_size=4)
spans = st.lists(st.integers(-5, 70), min_size=5, max_size=5)
paths_of = st.fixed_dictionaries({name: st.sets(st.sampled_from(("8", *RELEASES))) for name in RELEASES})


@settings(max_examples=150, deadline=None)
@given(numbers, spans, paths_of, st.booleans())
def test_the_chain_is_the_best_that_an_exhaustive_search_finds(
    starts: list[int], lengths: list[int], paths: dict[str, set[str]], chipless: bool
) -> None:
    today = D("2027-01-18")
    platform = platform_of(starts, lengths, paths, today)
    found = forecast(platform, "d1", view(CHIPLESS if chipless else GOOD, today))
    line = found.technical
    last, gaps, hands, moves = best_by_days(platform, found, today)
    assert (line.runway.toordinal() if line.runway else 0) == -last
    assert sum(gap.days for gap in line.gaps) == gaps
    assert sum(move.by_hand for move in line.moves) == hands
    assert len(line.moves) == moves


# ------------------------------------------------------------- days at the edge


def moves(day: str, platform: Platform | None = None) -> list[tuple[str, str, str]]:
    found = forecast(platform or tarn(), "d1", view(GOOD, D(day)))
    return [(m.release, m.first.isoformat(), m.latest.isoformat()) for m in found.technical.moves]


def test_on_the_last_serviced_day_itself_nothing_is_lost_yet() -> None:
    found = forecast(tarn(), "d1", view(GOOD, D("2027-02-28")))
    assert (found.gap_so_far, found.technical.gaps) == (None, ())
    assert moves("2027-02-28")[0] == ("9.1", "2027-02-28", "2027-02-28")


def test_on_the_day_after_it_there_is_no_gap_behind_and_on_the_next_there_is() -> None:
    assert forecast(tarn(), "d1", view(GOOD, D("2027-03-01"))).gap_so_far is None
    behind = forecast(tarn(), "d1", view(GOOD, D("2027-03-02"))).gap_so_far
    assert behind is not None
    assert (behind.first, behind.last, behind.days) == (D("2027-03-01"), D("2027-03-01"), 1)


def test_on_the_day_of_publication_a_release_can_be_taken() -> None:
    assert moves("2027-03-16")[0] == ("9.2", "2027-03-16", "2027-03-16")  # 9.1 would bring nothing more
    assert ("9.2", "2027-03-16", "2027-11-30") in moves("2027-03-15")


@pytest.mark.parametrize(
    ("published", "ends", "gap"),
    [
        ("2028-02-29", "2028-02-28", 0),  # the day after, a leap day
        ("2028-03-01", "2028-02-28", 1),  # the leap day itself is lost
        ("2027-03-01", "2027-02-28", 0),  # the end of a month that has none
    ],
)
def test_leap_days_and_ends_of_months(published: str, ends: str, gap: int) -> None:
    releases = tuple(
        replace(r, servicing_ends={"desk": D(ends)}) if r.id == "8" else replace(r, published=D(published))
        for r in tarn().releases
        if r.id in ("8", "9.3")
    )
    # Only 8 and 9.3 are left; 9.3 can be taken from 8, a release skipped.
    later = replace(releases[1], upgrade_from=("8",))
    keep = {"since": "8"}
    requirements = tuple(replace(r, **keep, until=None, sorts=()) for r in tarn().requirements)  # type: ignore[arg-type]
    platform = replace(tarn(), releases=(releases[0], later), requirements=requirements, overrides=())
    found = forecast(platform, "d1", view(GOOD, D("2027-01-18")))
    assert [m.release for m in found.technical.moves] == ["9.3"]
    assert sum(span.days for span in found.technical.gaps) == gap
