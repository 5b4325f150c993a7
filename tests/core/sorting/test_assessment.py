from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.conditions import Outcome
from doorstone.core.facts import Verdict, View
from doorstone.core.platforms.platform import Sort
from doorstone.core.sorting.assessment import (
    Assessment,
    Decision,
    Finding,
    Scope,
    State,
    assess,
    effective_sort,
    fixed_view,
)
from tests.build import CHIPLESS, GOOD, NOON, TODAY, reading, settled, tarn, view


def against(release: str = "9.1", **facts: Any) -> Assessment:
    named = {name.replace("__", "."): value for name, value in facts.items()}
    return assess(tarn(), release, view({**GOOD, **named}))


def without(*names: str, **facts: Any) -> Assessment:
    named = {name.replace("__", "."): value for name, value in facts.items()}
    held = {name: value for name, value in {**GOOD, **named}.items() if name not in names}
    return assess(tarn(), "9.1", view(held))


def marks(assessment: Assessment) -> dict[str, str]:
    return {f.requirement.id: f.mark for f in assessment.findings if f.mark != "met"}


def decision(sort: Sort, scope: Scope, target: str = "", at: str = "2027-01-10T09:00", number: int = 1) -> Decision:
    return Decision(
        f"SD-{number:04d}",
        "processor-listed",
        "9.1",
        scope,
        target,
        sort,
        "trial",
        "Seen.",
        "wilhelmina",
        datetime.fromisoformat(at),
    )


def test_a_device_that_meets_everything_is_clear() -> None:
    assert against().state is State.CLEAR
    assert marks(against()) == {}


def test_situation_1_present_but_switched_off_is_a_fix_not_an_exception() -> None:
    found = against(tpm__state="off")
    assert found.state is State.FIXABLE
    chip = found.of("security-chip")
    assert chip is not None
    assert [fix.title for fix in chip.fixes] == ["Switch the security chip on in firmware set-up"]
    assert (chip.minutes, chip.cost) == (15, Decimal(0))


def test_situation_4_listed_no_instructions_yes_is_a_check_and_the_reverse_a_floor() -> None:
    unlisted = against(cpu__model="Quern Q3-410")
    assert marks(unlisted) == {"processor-listed": "installer-check"}
    assert unlisted.state is State.NEEDS_EXCEPTION
    lacking = against(cpu__features=["sse4_2"])
    assert marks(lacking) == {"instruction-level": "floor"}
    assert lacking.state is State.FLOORED


def test_situation_5_a_part_makes_memory_fixable_and_the_next_reading_clears_it() -> None:
    short = against(memory__mib=4096)
    assert marks(short) == {"memory-set-up": "fixable"}
    assert short.state is State.FIXABLE
    assert against(memory__mib=8192).state is State.CLEAR


def test_a_floor_that_a_part_removes_is_fixable_and_one_that_no_part_removes_is_floored() -> None:
    # 3,072 MiB less the tolerance of 3 % is 2,979.84.
    assert against(memory__mib=2048).state is State.FIXABLE
    assert against(memory__mib=2048, memory__max_mib=4096).state is State.FLOORED
    assert "memory-start" not in marks(against(memory__mib=2980, memory__max_mib=4096))
    assert marks(against(memory__mib=2979, memory__max_mib=4096))["memory-start"] == "floor"


def test_two_checks_and_a_fix_need_an_exception() -> None:
    found = assess(tarn(), "9.1", view({**CHIPLESS, "firmware.secure_boot": "off"}))
    assert marks(found) == {
        "processor-listed": "installer-check",
        "security-chip": "installer-check",
        "secure-boot": "fixable",
    }
    assert found.state is State.NEEDS_EXCEPTION


def test_a_sort_may_change_at_a_later_release() -> None:
    assert marks(against("9.2", graphics__vulkan="1.1")) == {"graphics-level": "installer-check"}
    assert marks(against("9.3", graphics__vulkan="1.1")) == {"graphics-level": "floor"}


def test_a_requirement_is_asked_only_from_its_release_on() -> None:
    assert against("9.0", account__online=False).state is State.CLEAR
    assert marks(against("9.1", account__online=False)) == {"online-account": "fixable"}


def test_an_unread_fact_unsettles_a_device_unless_it_cannot_matter() -> None:
    assert without("tpm.state").state is State.UNSETTLED
    floored = without("tpm.state", cpu__features=["sse4_2"])
    assert floored.state is State.FLOORED
    chip = floored.of("security-chip")
    assert chip is not None
    assert (chip.finding, chip.decides) == (Finding.UNREAD, False)
    # The sheet sorts the chip as a check: met or not, a device with another check stays at needs-exception.
    assert without("tpm.state", cpu__model="Quern Q3-410").state is State.NEEDS_EXCEPTION
    # An unread floor could still sink it.
    assert without("cpu.arch", cpu__model="Quern Q3-410").state is State.UNSETTLED


def test_situation_2_two_tools_disagree_side_by_side() -> None:
    held = {name: value for name, value in GOOD.items() if name != "tpm.state"}
    base = view(held)
    said = settled(
        reading("collector", "2027-01-15T08:00", tpm__state="off"),
        reading("assessor", "2027-01-16T08:00", tpm__state="on"),
    )
    found = assess(tarn(), "9.1", View(TODAY, {**base.facts, **said.facts}))
    chip = found.of("security-chip")
    assert chip is not None
    assert chip.finding is Finding.DISPUTED
    assert [(r.source, r.value, r.outcome) for r in chip.rivals] == [
        ("collector", "off", Outcome.UNMET),
        ("assessor", "on", Outcome.MET),
    ]
    assert found.state is State.UNSETTLED


def test_a_disagreement_that_changes_nothing_bothers_nobody() -> None:
    said = settled(
        reading("collector", "2027-01-15T08:00", memory__mib=8192),
        reading("assessor", "2027-01-16T08:00", memory__mib=16384),
    )
    found = assess(tarn(), "9.1", View(TODAY, {**view(GOOD).facts, **said.facts}))
    assert found.state is State.CLEAR
    assert said.facts["memory.mib"].rivals


def test_a_verdict_against_the_facts_is_a_dispute() -> None:
    base = view(GOOD)
    no = Verdict("processor-listed", False, "assessor", NOON)
    found = assess(tarn(), "9.1", View(TODAY, base.facts, verdicts=(no,)))
    listed = found.of("processor-listed")
    assert listed is not None
    assert (listed.finding, listed.against) == (Finding.DISPUTED, (no,))
    yes = Verdict("processor-listed", True, "assessor", NOON)
    assert assess(tarn(), "9.1", View(TODAY, base.facts, verdicts=(yes,))).state is State.CLEAR


def test_too_many_combinations_are_a_dispute() -> None:
    # Seven sources that disagree on two facts give 7 x 7 = 49 worlds; nine give 81, over the limit of 64.
    def chip_of(sources: int) -> Finding:
        readings = [
            reading(f"tool-{n}", "2027-01-15T08:00", tpm__version=f"2.{n}", tpm__state="on") for n in range(sources)
        ]
        more = [reading(f"tool-{n}", "2027-01-15T08:00", tpm__state="on") for n in range(sources)]
        said = settled(*readings, *more)
        found = assess(tarn(), "9.1", View(TODAY, {**view(GOOD).facts, **said.facts})).of("security-chip")
        assert found is not None
        return found.finding

    assert chip_of(64) is Finding.MET
    assert chip_of(65) is Finding.DISPUTED


def test_decisions_take_precedence_device_then_model_then_release_then_sheet() -> None:
    requirement = tarn().requirement("processor-listed")
    sheet = (Sort.CHECK, "the sheet")
    release = decision(Sort.FLOOR, Scope.RELEASE, number=1)
    model = decision(Sort.CHECK, Scope.MODEL, "Fallow 310", number=2)
    device = decision(Sort.UNSORTED, Scope.DEVICE, "nbt-012", number=3)

    def sort(*known: Decision, device: str = "nbt-012", model: str = "Fallow 310") -> tuple[Sort, str]:
        return effective_sort(tarn(), requirement, "9.1", known, device, model)

    assert sort() == sheet
    assert sort(release) == (Sort.FLOOR, "decision SD-0001 for this release")
    assert sort(release, model) == (Sort.CHECK, "decision SD-0002 for this model")
    assert sort(model, device, release) == (Sort.UNSORTED, "decision SD-0003 for this device")
    assert sort(release, model, device, device="nbt-013", model="Fallow 90") == (
        Sort.FLOOR,
        "decision SD-0001 for this release",
    )
    assert effective_sort(tarn(), requirement, "9.2", [release], "nbt-012", "")[0] is Sort.CHECK


def test_the_newest_of_two_decisions_counts() -> None:
    older = decision(Sort.FLOOR, Scope.RELEASE, at="2027-01-09T09:00", number=2)
    newer = decision(Sort.CHECK, Scope.RELEASE, at="2027-01-10T09:00", number=1)
    requirement = tarn().requirement("processor-listed")
    assert effective_sort(tarn(), requirement, "9.1", [newer, older], "", "")[0] is Sort.CHECK


def test_an_unsorted_failure_unsettles_a_device() -> None:
    nobody = [decision(Sort.UNSORTED, Scope.RELEASE)]
    found = assess(tarn(), "9.1", view({**GOOD, "cpu.model": "Quern Q3-410"}), nobody)
    assert found.state is State.UNSETTLED
    assert marks(found) == {"processor-listed": "unsorted"}


CHOICES: dict[str, list[Any]] = {
    "tpm.state": ["on", "off", "absent"],
    "tpm.version": ["0", "1.2", "2.0"],
    "firmware.mode": ["uefi", "legacy"],
    "firmware.uefi_capable": [True, False],
    "firmware.secure_boot": ["on", "off", "absent"],
    "memory.mib": [2048, 4096, 8192],
    "memory.max_mib": [4096, 8192],
    "account.online": [True, False],
}


@given(st.fixed_dictionaries({name: st.sampled_from(values) for name, values in CHOICES.items()}))
def test_a_fix_that_is_applied_makes_its_requirement_met(facts: dict[str, Any]) -> None:
    seen = view({**GOOD, **facts})
    before = assess(tarn(), "9.1", seen)
    for finding in before.unmet("fixable"):
        after = assess(tarn(), "9.1", fixed_view(seen, [finding])).of(finding.requirement.id)
        assert after is not None
        assert after.finding is Finding.MET
    if before.state is State.FIXABLE:
        assert assess(tarn(), "9.1", fixed_view(seen, before.unmet())).state is State.CLEAR


def test_an_unknown_release_is_a_key_error() -> None:
    with pytest.raises(KeyError):
        assess(tarn(), "11", view(GOOD))
