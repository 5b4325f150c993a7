"""The situations of readings and sorting, each on its device of the demo, by values that were worked out by hand."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.demo.seed import ANSELM, PETRA, SMALL_DISKS
from doorstone.work import fleet, media, sorting
from doorstone.work.context.context import Context
from doorstone.work.context.errors import RefusedError
from doorstone.work.devices import disputes
from doorstone.work.devices import views as devices
from doorstone.work.devices.selections import list_selections
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.fixes import plans as fixes
from doorstone.work.kits import kits
from doorstone.work.kits.overrides import overrides_for
from doorstone.work.readings import failure_messages, import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.failure_messages import list_messages
from doorstone.work.snapshot.snapshot import assess_device


def marks(context: Context, device: str, release: str = "9.1") -> dict[str, str]:
    found = assess_device(context, device, release)
    return {f.requirement.id: f.mark for f in found.findings if f.mark != "met"}


def state(context: Context, device: str, release: str = "9.1") -> str:
    return assess_device(context, device, release).state


def read(context: Context, device: str, at: str, source: str = "collector", **facts: object) -> None:
    named = {name.replace("__", "."): value for name, value in facts.items()}
    line = json.dumps({"device": device, "source": source, "taken_at": at, "facts": named})
    import_job.import_readings(context, PETRA, line, ImportOptions("ndjson"))


def test_situation_1_a_chip_switched_off_is_a_fix_and_no_exception(demo: Context) -> None:
    assert marks(demo, "nbt-007") == {"security-chip": "fixable"}
    plan = fixes.device_fixes(demo, "nbt-007", "9.1")
    assert [step.fix.title for step in plan.plan.steps] == ["Switch the security chip on in firmware set-up"]
    assert (plan.plan.minutes, plan.plan.cost, plan.state, plan.after) == (15, Decimal(0), "fixable", "clear")


def test_situation_2_two_tools_disagree_side_by_side_settled_undone_by_a_newer_reading(demo: Context) -> None:
    one = disputes.list_disputes(demo, "tarn", "9.1", "nbt-080")[0]
    assert (one.kind, one.subject, one.requirements) == ("fact", "tpm.state", ("security-chip",))
    sides = [(s.source, s.value, s.outcome, s.believed, s.taken_at.date().isoformat()) for s in one.sides]
    assert sides == [
        ("collector", "off", "unmet", True, "2027-01-13"),
        ("assessor", "on", "met", False, "2027-01-11"),
    ]
    disputes.settle_dispute(demo, PETRA, "nbt-080", "fact", "tpm.state", "on", "Seen in firmware set-up.")
    assert (state(demo, "nbt-080"), disputes.list_disputes(demo, "tarn", "9.1", "nbt-080")) == ("clear", [])
    read(demo, "nbt-080", "2027-01-17T08:00:00", tpm__state="off")  # read before the settlement, arrived after it
    assert marks(demo, "nbt-080") == {}
    read(demo, "nbt-080", "2027-01-18T09:30:00", tpm__state="off")
    assert marks(demo, "nbt-080") == {"security-chip": "disputed"}
    assert [s.stands for s in disputes.list_settlements(demo, "nbt-080")] == [False]


def test_situation_2_the_settled_one_stands(demo: Context) -> None:
    assert state(demo, "nbt-090") == "clear"
    words = [(s.subject, s.value, s.by, s.stands) for s in disputes.list_settlements(demo, "nbt-090")]
    assert words == [("tpm.state", "on", "petra", True)]


def test_situation_3_fine_says_the_assessor_not_eligible_says_the_update_page(demo: Context) -> None:
    said = devices.get_device(demo, "nbt-110", "9.1").verdicts
    found = {(v.source, v.requirement): (v.passed, v.taken_at.date().isoformat()) for v in said}
    assert found[("assessor", "security-chip")] == (True, "2027-01-13")
    assert found[("file", "security-chip")] == (False, "2027-01-14")
    assert marks(demo, "nbt-110") == {"processor-listed": "disputed", "security-chip": "disputed"}
    reason = "The assessor looks at the settings, not at the chip."
    disputes.settle_dispute(demo, PETRA, "nbt-110", "requirement", "security-chip", "unmet", reason)
    disputes.settle_dispute(demo, PETRA, "nbt-110", "requirement", "processor-listed", "unmet", reason)
    assert marks(demo, "nbt-110") == {"processor-listed": "installer-check", "security-chip": "installer-check"}


def test_situation_4_the_list_says_no_the_instructions_yes_and_the_reverse_is_a_floor(demo: Context) -> None:
    assert marks(demo, "nbt-021") == {"processor-listed": "installer-check"}
    row = next(r for r in sorting.sorting_table(demo, "tarn", "9.1") if r.requirement == "processor-listed")
    assert [(t.model, t.ran) for t in row.tallies] == [("Fallow 310", 2)]
    assert marks(demo, "nbt-140") == {"instruction-level": "floor"}
    assert state(demo, "nbt-140") == "floored"


def test_situation_5_buy_the_part_read_again_and_carry_on(demo: Context) -> None:
    assert marks(demo, "nbt-120")["memory-start"] == "fixable"
    assert [p.title for p in fixes.fix_round(demo, "tarn", "9.1", DeviceFilter(words="nbt-120")).parts] == [
        "Fit 8 GiB of memory"
    ]
    read(demo, "nbt-120", "2027-01-17T08:00:00", "assessor", memory__mib=8192)
    assert "memory-start" not in marks(demo, "nbt-120")
    assert "memory-set-up" not in marks(demo, "nbt-120")
    older = devices.device_readings(demo, "nbt-055").readings
    assert [r.facts["memory.mib"] for r in older if "memory.mib" in r.facts][-1] == 4032
    assert state(demo, "nbt-055") == "clear"


def test_situation_6_an_override_covers_two_checks_but_not_the_rest(demo: Context) -> None:
    found = overrides_for(demo, "nbt-058", "9.1", "in-place")
    assert found.checks == ("processor-listed", "memory-set-up", "storage", "graphics-level")
    assert found.choice.best is not None
    chosen = [o.id for o in found.choice.best.overrides]
    assert chosen == ["listed-grace", "plain-graphics", "small-disk", "small-memory"]
    partial = dict(found.choice.partial)
    assert partial["compat-drop-in"] == ("processor-listed",)


def test_situation_9_the_demo_has_another_base_language_than_it_displays(demo: Context) -> None:
    gates = {g.gate.id: g.result for g in kits.device_gates(demo, "nbt-088", "in-place", "9.1")}
    assert gates["base-language"] == "stops"
    files = {g.gate.id: g.result for g in kits.device_gates(demo, "nbt-088", "in-place", "9.1", "files")}
    assert files["base-language"] == "holds"


def test_situations_10_33_and_37_the_media_of_the_demo_and_their_plan(demo: Context) -> None:
    defects = {view.id: view.defects for view in media.list_media(demo, "tarn")}
    assert defects == {
        "MD-0001": (),
        "MD-0002": (),
        "MD-0003": ("it holds 9.0, though 9.1 was asked for",),
        "MD-0004": ("its SHA-256 is not verified", "its link expired on 2026-12-31: ask for it again"),
    }
    plan = media.plan_media(demo, ["nbt-012", "nbt-013", "nbt-088", "nbt-114"], "9.1")
    assert [(use.media.id, use.devices) for use in plan.uses] == [
        ("MD-0001", ("nbt-012",)),
        ("MD-0002", ("nbt-013",)),
        ("MD-0004", ("nbt-114",)),
    ]
    assert [(m.devices, m.why) for m in plan.mismatches] == [(("nbt-088",), "no media of 9.1 with desk is in cy")]


def test_situation_26_a_station_that_its_maker_left_behind_is_carried_by_a_loader(demo: Context) -> None:
    found = overrides_for(demo, "nbt-184", "7", "in-place")
    assert found.checks == ("model-listed",)  # a larger disk can be fitted
    assert found.choice.best is not None
    assert found.choice.best.ids == ("bridge-loader",)
    left = {one.override.id: one.why for one in found.choice.left_out}
    assert left["any-model"] == "ended at release 7"


def test_situation_34_a_clean_route_says_that_it_wipes_and_asks_for_a_backup(demo: Context) -> None:
    made = kits.make_kit(demo, PETRA, "nbt-145", "9.1", "clean", "nothing")
    runbook = next(file.text for file in made.files if file.path == "runbook.md")
    assert "**This wipes the system disk.**" in runbook
    read(demo, "nbt-145", "2027-01-17T08:00:00", "operator", care__last_backup="2026-12-01")
    with pytest.raises(RefusedError) as refused:
        kits.make_kit(demo, PETRA, "nbt-145", "9.1", "clean", "nothing", {"backup": "There is nothing on it."})
    assert [t.detail for t in refused.value.errors] == [
        "A recent backup: care.last_backup 2026-12-01",
        "A recent backup is a stop and cannot be waived",
    ]


def test_situation_38_the_demo_has_settings_for_afterwards(demo: Context) -> None:
    found = {one.id: one.in_place for one in kits.device_sets(demo, "nbt-101")}
    assert found == {"quiet-start": "not-stated", "locked-disk": "in-place"}


def test_situation_11_no_path_in_place_from_a_32_bit_system(demo: Context) -> None:
    assert state(demo, "nbt-145") == "clear"
    with pytest.raises(RefusedError) as refused:
        kits.make_kit(demo, PETRA, "nbt-145", "9.1", "in-place", "everything")
    assert [(t.pointer, t.hint) for t in refused.value.errors] == [
        ("nbt-145, word-size-path", "There is no in-place path between word sizes: take the clean route.")
    ]
    assert kits.make_kit(demo, PETRA, "nbt-145", "9.1", "clean", "nothing").row.route == "clean"
    sides = fleet.compare(demo, "tarn", ("9.1", "in-place"), ("9.1", "clean"), DeviceFilter(words="nbt-145"))
    assert (sides.one.outcomes, sides.other.outcomes) == ({"no-path": 1}, {"clear": 1})
    assert sides.one.uncovered == {"word-size-path": 1}


def test_situation_39_an_account_question_is_a_check_whose_override_is_an_answer(demo: Context) -> None:
    assert marks(demo, "nbt-046") == {"online-account": "fixable"}
    terms = exceptions.get_exception(demo, "EX-0003").row
    asked = exceptions.NewException(
        "9.1",
        False,
        ("online-account",),
        ("nbt-046",),
        terms.risk_text,
        exceptions.NewTerms(
            "The hall display has no account.",
            (),
            "petra",
            demo.today(),
            demo.today().replace(month=9),
            demo.today().replace(month=5),
        ),
        terms.notice_text,
    )
    name = exceptions.request(demo, PETRA, asked).id
    decisions.decide(demo, ANSELM, name, "approve", "", 1)
    made = kits.make_kit(demo, PETRA, "nbt-046", "9.1", "in-place", "everything")
    assert made.row.overrides == ("offline-answer",)


def test_situation_40_one_of_the_approved_was_read_again_and_is_stale_the_others_stand(demo: Context) -> None:
    found = exceptions.get_exception(demo, "EX-0005")
    assert sorted(found.row.devices) == sorted(SMALL_DISKS)
    assert found.stale == {"nbt-047": ["storage: disk.system_gib was 58 GiB, is 29 GiB"]}


# ------------------------------------------------------- the rest of readings


def test_a_text_that_nobody_foresaw_waits_and_becomes_an_unsorted_requirement(demo: Context) -> None:
    waiting = list_messages(demo, "tarn", waiting=True)
    camera = "The camera module is not ready for release 9"
    assert [(t.text, t.devices, t.sources) for t in waiting] == [(camera, 2, ("assessor",))]
    assert state(demo, "nbt-064") == "clear"
    failure_messages.new_requirement(
        demo, ANSELM, "tarn", camera, "camera-module", "A camera module that 9 knows", "9.1"
    )
    assert marks(demo, "nbt-064") == {"camera-module": "unsorted"}
    assert state(demo, "nbt-064") == "unsettled"
    assert state(demo, "nbt-071") == "clear"
    assert list_messages(demo, "tarn", waiting=True) == []
    row = next(r for r in sorting.sorting_table(demo, "tarn", "9.1") if r.requirement == "camera-module")
    assert (row.sort, row.reported, row.marks) == ("unsorted", True, {"met": 178, "unsorted": 2})
    sorting.decide(demo, ANSELM, "tarn", "camera-module", "9.1", "release", "", "floor", "report", "It does not start.")
    assert state(demo, "nbt-064") == "floored"


def test_texts_that_are_foreseen_or_matched_are_verdicts(demo: Context) -> None:
    every = {t.text: (t.requirement, t.foreseen) for t in list_messages(demo, "tarn")}
    assert every["No TPM 2.0 was found."] == ("security-chip", True)
    assert every["This processor is of an older generation"] == ("processor-listed", False)
    said = {(v.requirement, v.passed) for v in devices.get_device(demo, "nbt-103", "9.1").verdicts}
    assert said == {("security-chip", False)}


def test_the_second_platform_sorts_by_its_model_table(demo: Context) -> None:
    found = fleet.fleet_view(demo, "brindle", "7", by="model")
    assert {g.name: dict(g.states) for g in found.groups} == {
        "Plate Station 1": {"floored": 3},
        "Plate Station 2": {"excepted": 1, "needs-exception": 2},
        "Plate Station 3": {"clear": 3},
        "Plate Station 4": {"clear": 3},
    }
    sides = fleet.compare(demo, "brindle", ("7", "in-place"), ("8", "in-place"))
    assert sides.one.outcomes == {"floored": 3, "carried": 3, "clear": 6}
    assert sides.other.outcomes == {"floored": 9, "clear": 3}


def test_an_export_in_foreign_columns_is_read_and_its_bad_lines_are_told(demo: Context) -> None:
    row = import_job.get_import(demo, "IM-0004").row
    assert (row.state, row.readings, row.rejected, row.added) == ("done", 5, 2, 0)
    problems = [(p.line, p.place) for p in import_job.import_problems(demo, "IM-0004")]
    assert problems == [(6, "Security chip"), (7, "RAM (GB)")]
    facts = {f.name: f for f in devices.get_device(demo, "nbt-007", "9.1").facts}
    assert facts["tpm.state"].believed.value == "off"
    assert facts["memory.mib"].rivals == ()


def test_selections_are_saved_and_chosen(demo: Context) -> None:
    assert [s.name for s in list_selections(demo)] == ["Palm house slates", "To be excepted"]
    found = fleet.fleet_view(demo, "tarn", selection="Palm house slates", by="model")
    assert [(g.name, g.devices) for g in found.groups] == [("Tern Slate 2", found.roll_up.devices)]
