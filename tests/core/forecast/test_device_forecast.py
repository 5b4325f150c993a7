"""The worked cases of the runway, edition desk, as of 18 January 2027, the device on release 8."""

from __future__ import annotations

from datetime import date
from typing import Any

import pytest
from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms
from doorstone.core.forecast.course import course
from doorstone.core.forecast.device_forecast import Forecast, Span, UpgradePath, Way, forecast
from doorstone.core.platforms.platform import Platform
from tests.build import CHIPLESS, GOOD, TODAY, tarn, view

D = date.fromisoformat
CHIP = frozenset({"processor-listed", "security-chip"})


def ahead(
    facts: dict[str, Any] | Any = GOOD,
    as_of: date = TODAY,
    exceptions: tuple[ExceptionTerms, ...] = (),
    platform: Platform | None = None,
    **changes: Any,
) -> Forecast:
    named = {name.replace("__", "."): value for name, value in changes.items()}
    return forecast(platform or tarn(), "d", view({**facts, **named}, as_of), (), exceptions)


def moves(line: UpgradePath) -> list[tuple[str, date, date]]:
    return [(move.release, move.first, move.latest) for move in line.moves]


def permit(
    requirements: frozenset[str], release: str, expiry: str, *, up_to: bool = False, start: str = "2027-01-01"
) -> ExceptionTerms:
    return ExceptionTerms(
        "EX-0001", "tarn", release, up_to, requirements, frozenset({"d"}), D(start), D(expiry), ExceptionState.APPROVED
    )


def test_case_1_all_met() -> None:
    found = ahead()
    assert moves(found.technical) == [
        ("9.1", D("2027-01-18"), D("2027-02-28")),
        ("9.2", D("2027-03-16"), D("2027-11-30")),
        ("9.3", D("2027-12-14"), D("2028-09-30")),
    ]
    assert found.technical.runway == D("2029-06-30")
    assert found.technical.gaps == ()
    assert found.technical.ended_by == "9.3 is the last release of the sheet"
    assert found.approved == found.technical
    assert [r.way for r in found.reaches] == [Way.OFFERED] * 4


@pytest.mark.parametrize(
    ("left_out", "gap"),
    [
        ("9.1", Span(D("2027-03-01"), D("2027-03-15"))),  # 15 days
        ("9.2", Span(D("2027-12-01"), D("2027-12-13"))),  # 13 days
    ],
)
def test_case_1_leaving_out_a_release_costs_its_gap(left_out: str, gap: Span) -> None:
    keep = tuple(r for r in tarn().releases if r.id not in (left_out, "9.0"))
    keep = tuple(replace(r, upgrade_from=tuple(e.id for e in keep[:at])) for at, r in enumerate(keep))
    spared = {"9.1": "9.2", "9.2": "9.1"}[left_out]
    requirements = tuple(
        replace(r, since=spared if r.since in ("9.0", "9.1") else r.since, sorts=(), effects=())
        for r in tarn().requirements
    )
    platform = replace(tarn(), releases=keep, requirements=requirements, overrides=())
    line = ahead(platform=platform).technical
    assert line.gaps == (gap,)
    assert gap.days == {"9.1": 15, "9.2": 13}[left_out]
    assert line.runway == D("2029-06-30")


def test_case_2_a_check_becomes_a_floor_at_the_last_release() -> None:
    found = ahead(graphics__vulkan="1.1")
    assert [m[0] for m in moves(found.technical)] == ["9.1", "9.2"]
    assert found.technical.runway == D("2028-09-30")
    assert (found.technical.ended_kind, found.technical.ended_by) == ("floored", "floor at 9.3: Vulkan level 1.2")
    assert all(move.by_hand for move in found.technical.moves)


def test_case_3_the_only_override_ends() -> None:
    found = ahead(CHIPLESS)
    assert moves(found.technical) == [("9.1", D("2027-01-18"), D("2027-02-28"))]
    assert found.technical.runway == D("2027-11-30")
    assert found.technical.ended_kind == "no-override"
    assert "compat-drop-in ended at release 9.2" in found.technical.ended_by


def test_case_4_an_exception_that_lapses() -> None:
    found = ahead(
        graphics__vulkan="1.1", exceptions=(permit(frozenset({"graphics-level"}), "9.2", "2027-09-30", up_to=True),)
    )
    assert found.technical.runway == D("2028-09-30")
    assert found.approved.runway == D("2027-09-30")
    assert [move.release for move in found.approved.moves] == ["9.1"]
    assert found.approved.moves[0].exceptions == ("EX-0001",)
    assert found.approved.ended_by == "exception EX-0001 lapses on 2027-09-30"


def test_case_5_already_out_of_servicing() -> None:
    found = ahead(graphics__vulkan="1.1", as_of=D("2027-03-05"))
    assert found.gap_so_far == Span(D("2027-03-01"), D("2027-03-04"))
    assert found.gap_so_far.days == 4
    assert found.technical.moves[0].release == "9.1"
    assert found.technical.moves[0].first == D("2027-03-05")
    assert found.technical.gaps == ()


def test_nothing_is_approved_until_somebody_asks() -> None:
    found = ahead(CHIPLESS)
    assert found.approved.runway == D("2027-02-28")
    assert found.approved.moves == ()
    assert found.approved.ended_kind == "not-approved"
    assert found.approved.ended_by.startswith("9.1 needs an exception in force for")


def test_an_exception_that_starts_later_leaves_a_gap() -> None:
    found = ahead(CHIPLESS, exceptions=(permit(CHIP, "9.1", "2027-09-01", start="2027-03-10"),))
    assert found.approved.moves[0].first == D("2027-03-10")
    assert found.approved.gaps == (Span(D("2027-03-01"), D("2027-03-09")),)


def test_a_renewal_carries_the_line_on_without_a_break() -> None:
    first = permit(CHIP, "9.1", "2027-05-31")
    second = replace(first, id="EX-0002", start=D("2027-06-01"), expiry=D("2027-10-31"))
    found = ahead(CHIPLESS, exceptions=(first, second))
    assert found.approved.runway == D("2027-10-31")
    assert found.approved.gaps == ()
    assert found.approved.ended_by == "exception EX-0002 lapses on 2027-10-31"


def test_an_exception_for_half_of_the_checks_permits_nothing() -> None:
    found = ahead(CHIPLESS, exceptions=(permit(frozenset({"security-chip"}), "9.1", "2027-09-01"),))
    assert found.approved.moves == ()
    assert next(r for r in found.reaches if r.release == "9.1").missing == ("processor-listed",)


@pytest.mark.parametrize(
    "changes",
    [
        {"state": ExceptionState.REVOKED},
        {"state": ExceptionState.REQUESTED},
        {"state": ExceptionState.DECLINED},
        {"start": D("2026-01-01"), "expiry": D("2027-01-17")},
    ],
)
def test_an_exception_that_is_not_in_force_permits_nothing_and_leaves_its_checks_to_ask_for(
    changes: dict[str, Any],
) -> None:
    dead = replace(permit(CHIP, "9.1", "2027-09-01"), **changes)
    found = ahead(CHIPLESS, exceptions=(dead,))
    assert found.approved.moves == ()
    reach = next(r for r in found.reaches if r.release == "9.1")
    assert (reach.exceptions, reach.missing) == ((), ("processor-listed", "security-chip"))


def test_a_device_that_runs_by_exception_is_serviced_while_that_is_in_force() -> None:
    found = ahead(CHIPLESS, os__release="9.1", exceptions=(permit(CHIP, "9.1", "2027-09-01"),))
    assert found.technical.runway == D("2027-11-30")
    assert found.approved.runway == D("2027-09-01")


def test_a_fix_made_for_one_move_is_not_made_again_for_the_next() -> None:
    found = ahead(tpm__state="off")
    assert [(m.release, m.way, m.by_hand) for m in found.technical.moves] == [
        ("9.1", Way.AFTER_FIX, True),
        ("9.2", Way.OFFERED, False),
        ("9.3", Way.OFFERED, False),
    ]


def test_fewer_moves_by_hand_are_preferred_before_fewer_moves() -> None:
    # In place or clean, 9.1 to 9.3 all ask the same; a chain by way of 9.0 would add a move and gain no day.
    assert [m.release for m in ahead(cpu__model="Quern Q3-410").technical.moves] == ["9.1", "9.2", "9.3"]


def test_an_unread_fact_makes_a_release_unknown() -> None:
    facts = {name: value for name, value in GOOD.items() if name != "tpm.state"}
    found = ahead(facts)
    assert {r.way for r in found.reaches} == {Way.UNKNOWN}
    assert found.technical.runway == D("2027-02-28")
    assert found.technical.ended_by == "Security chip, TPM 2.0, switched on is unread"


def test_the_estate_edition_has_its_own_days() -> None:
    assert ahead(os__edition="estate").technical.runway == D("2029-12-31")


def test_a_device_past_everything_has_no_runway() -> None:
    found = ahead(cpu__features=[], as_of=D("2029-01-01"))
    assert found.technical.runway is None
    assert found.technical.moves == ()
    assert found.gap_so_far is not None
    assert found.gap_so_far.first == D("2027-03-01")


# ------------------------------------------------------------------- courses


@pytest.mark.parametrize(
    ("changes", "way", "by"),
    [
        ({}, "take", "2027-02-28"),
        ({"tpm__state": "off"}, "fix", "2027-02-28"),
        ({"cpu__model": "Quern Q3-410"}, "except", "2027-02-28"),
        ({"cpu__features": []}, "retire", "2027-02-28"),
        ({"cpu__features": [], "os__edition": "estate"}, "stay", "2027-08-31"),  # 225 days of servicing left
        ({"os__release": "9.1"}, "stay", "2027-11-30"),
        ({"tpm__version": "1.2", "os__release": "9.1"}, "stay", "2027-11-30"),
    ],
)
def test_the_course_towards_the_target(changes: dict[str, Any], way: str, by: str) -> None:
    found = course("9.1", ahead(**changes), TODAY)
    assert (found.way, found.by) == (way, D(by))


def test_a_floor_is_the_reason_to_retire() -> None:
    assert course("9.1", ahead(cpu__features=[]), TODAY).why == "floor at 9.1: Instruction level x86-64-v3"
