"""Chains of moves, by hand: ended stopovers, fixes that stay, pauses, what a kit would refuse, days at the edge."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.forecast.costs import CostModel, ways_of
from doorstone.core.forecast.course import course
from doorstone.core.forecast.device_forecast import Forecast, UpgradePath, Way, forecast
from doorstone.core.platforms.platform import Platform, Route
from doorstone.formats.sheet import read_sheet
from tests.build import GOOD, SMALL_SHEET, tarn, view

D = date.fromisoformat


def release(name: str, published: str, ends: str, *path: str) -> str:
    names = ", ".join(f'"{earlier}"' for earlier in path)
    return (
        f'[[release]]\nid = "{name}"\npublished = {published}\nservicing_ends = {{ e = {ends} }}\n'
        f"upgrade_from = [{names}]\n"
    )


def asks(name: str, since: str, condition: str, sort: str = "installer-check", more: str = "") -> str:
    return (
        f'[[requirement]]\nid = "{name}"\ntitle = "{name.upper()}"\nfrom = "{since}"\nenforced_at = ["set-up"]\n'
        f'because = "b"\ncondition = {condition}\nsort = [{{ from = "{since}", as = "{sort}" }}]\n{more}'
    )


def lifts(name: str, covers: str, routes: str = '"in-place"', needs: str = "") -> str:
    return (
        f'[[override]]\nid = "{name}"\ntitle = "{name}"\ncovers = ["{covers}"]\nroutes = [{routes}]\nfrom = "1"\n'
        f'kind = "argument"\narguments = ["--{name}"]\norigin = "vendor"\nweight = 1\n{needs}'
    )


def sheet(*parts: str) -> Platform:
    kept = asks("edition", "1", '{ fact = "os.edition", is = "e" }')
    return read_sheet(SMALL_SHEET + "".join((*parts, kept)), {})


def ahead(platform: Platform, day: str, facts: dict[str, Any], *exceptions: ExceptionTerms) -> Forecast:
    of = view({"os.release": "1", "os.edition": "e", **facts}, D(day), platform.specs)
    return forecast(platform, "d", of, (), exceptions)


def permit(number: int, release: str, start: str, expiry: str, *names: str, doubt: str = "") -> ExceptionTerms:
    asked = frozenset(names or ("chip",))
    state = ExceptionState.APPROVED
    return ExceptionTerms(
        f"EX-{number:04}", "p", release, False, asked, frozenset({"d"}), D(start), D(expiry), state, doubt
    )


def days(line: UpgradePath) -> list[tuple[str, str, str]]:
    return [(m.release, m.first.isoformat(), m.latest.isoformat()) for m in line.moves]


def gaps(line: UpgradePath) -> list[tuple[str, str, int]]:
    return [(g.first.isoformat(), g.last.isoformat(), g.days) for g in line.gaps]


FIRST = release("1", "2022-03-01", "2027-06-30")
NO_CLEAN = (
    '[[gate]]\nid = "anew"\ntitle = "Set up anew"\ncondition = { fact = "cpu.cores", at_least = 64 }\n'
    'severity = "stop"\nroutes = ["clean"]\ntodo = "Upgrade in place."\n'
)
"""A gate that closes the clean route to a device with few cores."""
CHIP = '{ fact = "tpm.version", at_least_version = "2.0" }'
UEFI = '{ fact = "firmware.mode", is = "uefi" }'
TO_UEFI = (
    '[[requirement.fix]]\ntitle = "Convert"\nkind = "disk-conversion"\n'
    'when = { fact = "firmware.mode", is = "legacy" }\ngives = { "firmware.mode" = "uefi" }\nminutes = 45\n'
)


# ------------------------------------------------------------------ stopovers


def test_case_6_a_stopover_that_is_out_of_servicing_is_possible() -> None:
    platform = sheet(
        FIRST, release("2", "2025-01-01", "2027-02-28", "1"), release("3", "2026-12-01", "2030-06-30", "2")
    )
    line = ahead(platform, "2027-03-01", {}).technical
    assert days(line) == [("2", "2027-03-01", "2027-06-30"), ("3", "2027-03-01", "2027-06-30")]
    assert (line.runway, gaps(line)) == (D("2030-06-30"), [])


def test_days_on_a_stopover_that_has_ended_count_as_a_gap() -> None:
    platform = sheet(
        release("1", "2022-03-01", "2027-02-28"),
        release("2", "2025-01-01", "2027-02-28", "1"),
        release("3", "2027-04-01", "2030-06-30", "2"),
    )
    line = ahead(platform, "2027-03-01", {}).technical
    assert [m.release for m in line.moves] == ["2", "3"]
    assert gaps(line) == [("2027-03-01", "2027-03-31", 31)]


def test_no_day_before_arrival_counts_also_with_publications_out_of_order() -> None:
    # 3 came out before 2, and is reached from 2 alone: its days before 2 was published are nobody's.
    platform = sheet(
        release("1", "2022-03-01", "2027-03-31"),
        release("2", "2027-07-01", "2027-12-31", "1"),
        release("3", "2027-01-01", "2029-06-30", "2"),
    )
    line = ahead(platform, "2027-01-18", {}).technical
    assert days(line) == [("2", "2027-07-01", "2027-07-01"), ("3", "2027-07-01", "2027-12-31")]
    assert (line.runway, gaps(line)) == (D("2029-06-30"), [("2027-04-01", "2027-06-30", 91)])


def test_a_move_waits_where_going_at_once_would_cost_days() -> None:
    # 2 ends before 3 is published; on 1 the days until then are serviced, so 2 is passed through on one day.
    platform = sheet(
        release("1", "2022-03-01", "2028-06-30"),
        release("2", "2025-01-01", "2027-12-31", "1"),
        release("3", "2028-03-01", "2030-06-30", "2"),
    )
    line = ahead(platform, "2027-01-18", {}).technical
    assert days(line) == [("2", "2028-03-01", "2028-06-30"), ("3", "2028-03-01", "2028-06-30")]
    assert gaps(line) == []


# ---------------------------------------------------------- fixes that stay made


def test_case_7_what_a_fix_gives_at_one_move_is_so_at_the_next() -> None:
    platform = sheet(
        release("1", "2022-03-01", "2027-06-30"),
        release("2", "2025-01-01", "2028-06-30", "1"),
        release("3", "2026-12-01", "2030-06-30", "2"),
        asks("mode", "2", UEFI, more=TO_UEFI).replace('from = "2"\nenforced', 'from = "2"\nuntil = "3"\nenforced'),
        asks("mode-floor", "3", UEFI, "floor"),
    )
    found = ahead(platform, "2027-01-18", {"firmware.mode": "legacy"})
    assert [(m.release, m.way, m.by_hand) for m in found.technical.moves] == [
        ("2", Way.AFTER_FIX, True),
        ("3", Way.OFFERED, False),
    ]
    assert found.technical.runway == D("2030-06-30")
    assert found.reaches[1].way is Way.FLOORED  # straight from today it is


def test_an_override_may_need_what_an_earlier_fix_gives() -> None:
    platform = sheet(
        FIRST,
        release("2", "2025-01-01", "2028-06-30", "1"),
        release("3", "2026-12-01", "2030-06-30", "2"),
        asks("mode", "2", UEFI, more=TO_UEFI).replace('from = "2"\nenforced', 'from = "2"\nuntil = "3"\nenforced'),
        asks("chip", "3", CHIP),
        lifts("grace", "chip", needs=f"needs = {UEFI}\n"),
    )
    found = ahead(platform, "2027-01-18", {"firmware.mode": "legacy", "tpm.version": "1.2"})
    assert [(m.release, m.overrides) for m in found.technical.moves] == [("2", ()), ("3", ("grace",))]


# -------------------------------------------------------------- exceptions in time

TO_3 = (release("2", "2025-01-01", "2027-12-31", "1"), release("3", "2026-12-01", "2030-06-30", "2"))


def test_case_8_an_exception_that_starts_late_leaves_its_gap() -> None:
    platform = sheet(release("1", "2022-03-01", "2027-03-31"), *TO_3, asks("chip", "2", CHIP), lifts("grace", "chip"))
    one = permit(1, "2", "2027-09-01", "2029-12-31")
    two = permit(2, "3", "2027-01-01", "2029-12-31")
    line = ahead(platform, "2027-01-18", {"tpm.version": "1.2"}, one, two).approved
    assert days(line)[0] == ("2", "2027-09-01", "2027-09-01")
    assert gaps(line) == [("2027-04-01", "2027-08-31", 153)]
    assert line.runway == D("2029-12-31")


def test_a_renewal_after_a_pause_counts_on_its_days_only_and_moves_nothing() -> None:
    platform = sheet(
        release("1", "2022-03-01", "2027-03-31"),
        release("2", "2025-01-01", "2028-12-31", "1"),
        asks("chip", "2", CHIP),
        lifts("grace", "chip"),
    )
    held = [permit(1, "2", "2027-01-01", "2027-06-30"), permit(2, "2", "2027-09-01", "2028-03-31")]
    line = ahead(platform, "2027-01-18", {"tpm.version": "1.2"}, *held).approved
    assert days(line) == [("2", "2027-01-18", "2027-03-31")]
    assert gaps(line) == [("2027-07-01", "2027-08-31", 62)]
    assert (line.runway, line.ended_by) == (D("2028-03-31"), "exception EX-0002 lapses on 2028-03-31")


@pytest.mark.parametrize(
    ("facts", "doubt", "words"),
    [
        ({"tpm.version": "1.2"}, "tpm.version was 1.3, is 1.2", "2: EX-0001 is stale: tpm.version was 1.3, is 1.2"),
        ({"tpm.version": "1.2", "memory.mib": None}, "", "2: MEMORY is unread: no kit is made"),
    ],
)
def test_what_a_kit_would_refuse_the_approved_line_does_not_count(
    facts: dict[str, Any], doubt: str, words: str
) -> None:
    platform = sheet(
        FIRST,
        release("2", "2025-01-01", "2028-12-31", "1"),
        asks("chip", "2", CHIP),
        asks("memory", "2", '{ fact = "memory.mib", at_least = 1 }'),
        lifts("grace", "chip"),
    )
    seen = {name: value for name, value in {"memory.mib": 1024, **facts}.items() if value is not None}
    found = ahead(platform, "2027-01-18", seen, permit(1, "2", "2027-01-01", "2028-06-30", doubt=doubt))
    assert found.technical.runway == D("2028-12-31")
    assert (found.approved.moves, found.approved.runway) == ((), D("2027-06-30"))
    assert (found.approved.ended_kind, found.approved.ended_by) == ("not-approved", words)


def test_what_is_fixable_and_excepted_is_carried_by_the_exception_as_a_kit_does() -> None:
    platform = sheet(
        FIRST,
        release("2", "2025-01-01", "2028-12-31", "1"),
        asks("mode", "2", UEFI, more=TO_UEFI),
        lifts("grace", "mode"),
    )
    facts = {"firmware.mode": "legacy"}
    found = ahead(platform, "2027-01-18", facts, permit(1, "2", "2027-01-01", "2028-06-30", "mode"))
    reach = found.reaches[0]
    assert (reach.way, reach.overrides, reach.fixes) == (Way.BY_EXCEPTION, ("grace",), ())
    assert found.approved.runway == D("2028-12-31")  # by the fix: longer than the exception lasts
    assert ahead(platform, "2027-01-18", facts).reaches[0].way is Way.AFTER_FIX


def test_a_move_waits_for_the_last_day_of_its_exception_where_that_loses_least() -> None:
    # 1 is serviced through 31 May, the exception for 2 lasts until 30 April, and 3 comes on 1 June, from 2 alone.
    platform = sheet(
        release("1", "2022-03-01", "2027-05-31"),
        release("2", "2025-01-01", "2027-02-28", "1"),
        release("3", "2027-06-01", "2030-06-30", "2"),
        asks("chip", "2", CHIP).replace('from = "2"\nenforced', 'from = "2"\nuntil = "3"\nenforced'),
        lifts("grace", "chip"),
    )
    over = permit(1, "2", "2027-01-01", "2027-04-30")
    line = ahead(platform, "2027-01-18", {"tpm.version": "1.2"}, over).approved
    assert days(line)[0] == ("2", "2027-04-30", "2027-04-30")
    assert gaps(line) == [("2027-04-30", "2027-05-31", 32)]


def test_what_ends_a_line_is_never_an_empty_list() -> None:
    platform = sheet(
        FIRST,
        release("2", "2025-01-01", "2028-12-31", "1"),
        asks("chip", "2", CHIP),
        lifts("grace", "chip"),
    )
    over = permit(1, "2", "2027-01-18", "2027-05-31")
    line = ahead(platform, "2027-01-18", {"tpm.version": "1.2"}, over).approved
    assert (line.runway, line.moves) == (D("2027-06-30"), ())
    assert line.ended_by == "2 needs an exception in force for CHIP after 2027-06-30"


def test_a_path_that_is_cut_names_the_stop_that_cuts_it() -> None:
    platform = sheet(FIRST, *TO_3, NO_CLEAN, asks("cpu", "2", '{ fact = "cpu.cores", at_least = 4 }', "floor").replace(
        'from = "2"\nenforced', 'from = "2"\nuntil = "3"\nenforced'))  # fmt: skip
    line = ahead(platform, "2027-01-18", {"cpu.cores": 2}).technical
    assert (line.ended_kind, line.ended_by) == ("floored", "floor at 2: CPU")
    longer = replace(platform, releases=(platform.releases[0], replace(platform.releases[1], servicing_ends={
        "e": D("2027-01-01")}), platform.releases[2]))  # fmt: skip
    cut = ahead(longer, "2027-01-18", {"cpu.cores": 2}).technical
    assert (cut.ended_kind, cut.ended_by) == ("no-path", "no upgrade path from 1 to 3: floor at 2: CPU")


# ----------------------------------------------------------------------- routes


def test_another_word_size_is_never_offered_a_release_and_loses_its_data() -> None:
    found = forecast(tarn(), "d", view({**GOOD, "os.arch": "x86"}))
    reach = next(r for r in found.reaches if r.release == "9.1")
    assert (reach.way, reach.route, reach.data_lost, reach.by_hand) == (Way.CLEAN, Route.CLEAN, True, True)
    assert [(m.release, m.way) for m in found.technical.moves] == [
        ("9.1", Way.CLEAN), ("9.2", Way.OFFERED), ("9.3", Way.OFFERED),  # once it is set up anew they fit in place
    ]  # fmt: skip


def test_a_clean_install_may_come_from_any_release() -> None:
    platform = sheet(FIRST, *TO_3, asks("chip", "2", CHIP), lifts("grace", "chip", '"clean"'))
    line = ahead(platform, "2027-01-18", {"tpm.version": "1.2"}).technical
    assert [(m.release, m.route) for m in line.moves] == [("3", Route.CLEAN)]  # though 3 names only 2


CUT_AT_2 = asks("cpu", "2", '{ fact = "cpu.cores", at_least = 4 }', "floor").replace(
    'from = "2"\nenforced', 'from = "2"\nuntil = "3"\nenforced'
)
"""A floor at 2 that no longer applies at 3."""
PATH = (
    release("1", "2020-01-01", "2026-08-22"),
    release("2", "2024-01-01", "2028-06-30", "1"),
    release("3", "2026-09-01", "2029-09-26", "2"),
)


def test_case_9_a_clean_install_goes_round_a_floor_on_the_path() -> None:
    found = ahead(sheet(*PATH, CUT_AT_2), "2026-10-01", {"cpu.cores": 2})
    for line in (found.technical, found.approved):
        assert line.runway == D("2029-09-26")
        assert [(m.release, m.route, m.by_hand) for m in line.moves] == [("3", Route.CLEAN, True)]
    way = course("3", found, D("2026-10-01"))
    assert (way.way, way.why) == (
        "take",
        "Every requirement of 3 is met, but no upgrade leads there from 1: install it anew by hand, and save and "
        "restore the data on the device",
    )
    lines = {line.what: line.total for line in ways_of(found, found, D("2026-10-01"), CostModel())[1].lines}
    # 110 minutes are 1.83 hours and 90 are 1.5, at 42.00 an hour.
    assert lines == {"Moves by hand": Decimal("76.86"), "Saving and restoring data": Decimal("63.00")}


@pytest.mark.parametrize("routes", ['"clean"', '"in-place", "clean"', '"in-place"'])
def test_case_10_another_route_of_its_override_keeps_the_runway(routes: str) -> None:
    platform = sheet(*PATH, CUT_AT_2, asks("chip", "3", CHIP), lifts("grace", "chip", routes))
    line = ahead(platform, "2026-10-01", {"cpu.cores": 2, "tpm.version": "1.2"}).technical
    if "clean" in routes:
        assert (line.runway, [m.route for m in line.moves]) == (D("2029-09-26"), [Route.CLEAN])
        assert line.moves[0].way is Way.BY_EXCEPTION
    else:
        assert (line.runway, line.ended_by) == (None, "floor at 2: CPU")


def test_upgrades_in_place_are_preferred_where_the_runway_is_the_same() -> None:
    # In place over 2, which comes in April: 31 days without servicing. A clean install of 3 today would leave none.
    platform = sheet(
        release("1", "2020-01-01", "2027-02-28"),
        release("2", "2027-04-01", "2027-12-31", "1"),
        release("3", "2027-01-01", "2029-06-30", "2"),
    )
    found = ahead(platform, "2027-01-18", {})
    assert [(m.release, m.route) for m in found.technical.moves] == [("2", Route.OFFERED), ("3", Route.OFFERED)]
    assert gaps(found.technical) == [("2027-03-01", "2027-03-31", 31)]


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
