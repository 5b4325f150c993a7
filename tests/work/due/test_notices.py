"""What an administrator must notice is due at the next look, says what to do, and is gone once that is done."""

from __future__ import annotations

from datetime import date, datetime

from doorstone.core.platforms.platform import Standing, UpdateClass
from doorstone.core.updates import Observation, standing
from doorstone.work import attempts, followups, sorting
from doorstone.work.context.context import Context
from doorstone.work.due import due_list as due
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes.done import NewFixResult
from doorstone.work.kits import kits
from doorstone.work.readings import failure_messages
from tests.asking import ADMIN, PETRA, granted, line, on, read
from tests.build import CHIPLESS, GOOD, tarn, view
from tests.work.fixes.test_done import OFF, SWITCH, refused
from tests.work.test_followups import carried, tried

AT = datetime(2027, 1, 18, 8)


def words(context: Context, kind: str) -> list[str]:
    return [item.words for item in due.due_list(context) if item.kind == kind]


def test_a_device_that_runs_by_a_lapsed_exception_is_uncovered_from_the_day_after(context: Context) -> None:
    carried(context)
    assert words(on(context, "2027-09-30"), "uncovered") == []  # its last day
    assert words(on(context, "2027-10-01"), "uncovered") == [
        "d1: on 9.1 with processor-listed, security-chip unmet and no exception in force: renew or ask, fix, or go back"
    ]


def test_a_part_taken_out_of_a_device_that_runs_the_release_is_uncovered_too(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1"}))
    assert words(context, "uncovered") == []
    read(context, line("d1", {"memory.mib": 4096}, at="2027-01-17T08:00:00"))
    assert words(context, "uncovered") == [
        "d1: on 9.1 with memory-set-up unmet and no exception in force: renew or ask, fix, or go back"
    ]


def test_a_floor_unmet_at_the_release_that_runs_contradicts_its_sort(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1", "cpu.features": ["avx"]}))
    (said,) = words(context, "floor-runs")
    assert said == (
        "d1: on 9.1 although “Instruction level x86-64-v3” is unmet and sorted as a floor there: sort it anew, "
        "or read again"
    )


def test_a_check_that_turned_out_to_be_a_floor_is_due_until_it_is_sorted(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    attempts.record_attempt(context, PETRA, tried("d1", "failed-to-start"))
    assert words(context, "floor-found") == [
        "d1 did not start on 9.1 with processor-listed, security-chip unmet (AT-0001): is one of them a floor? "
        "Sort it, or try again"
    ]
    for name in ("processor-listed", "security-chip"):
        sorting.decide(context, ADMIN, "tarn", name, "9.1", "release", "", "floor", "attempt", "It does not start.")
    assert words(context, "floor-found") == []


def test_an_override_that_ended_early_is_named_until_it_is_tried_again(context: Context) -> None:
    kit = refused(context)
    assert words(context, "refused") == [
        "compat-drop-in did not keep set-up from refusing d1 on 9.1 by security-chip (AT-0001): if it has ended, say "
        "so in the sheet; choose another"
    ]
    attempts.record_attempt(context, PETRA, tried("d1", "completed", kit))
    assert words(context, "refused") == []


def test_a_check_that_the_sheet_does_not_have_is_asked_about(context: Context) -> None:
    read(context, line("d1", GOOD))
    attempts.record_attempt(context, PETRA, tried("d1", "refused", seen="The sound module is not ready."))
    assert words(context, "refused") == [
        "set-up refused d1 on 9.1 by no check that was named (AT-0001): “The sound module is not ready.”: name it in a "
        "new attempt, or add the check to the sheet"
    ]
    assert words(context, "failure-unmatched") == [
        "tarn: “The sound module is not ready.” (1 device) match no requirement: say what they speak of"
    ]
    failure_messages.match_message(context, ADMIN, "tarn", "The sound module is not ready.", "storage")
    assert words(context, "failure-unmatched") == []


def test_a_fix_that_failed_and_one_that_is_not_seen_are_due(context: Context) -> None:
    read(context, line("d1", OFF), line("d2", OFF))
    fixes_done.record_fix(context, PETRA, "d1", NewFixResult(SWITCH, "failed", note="The menu is locked."))
    fixes_done.record_fix(context, PETRA, "d2", NewFixResult(SWITCH))
    assert [said.split(":")[0] for said in words(context, "fix-not-seen")] == ["d1"]
    then = on(context, "2027-01-19")
    read(then, line("d2", {"tpm.state": "off"}, at="2027-01-18T12:00:00"))
    assert [said.split(":")[0] for said in words(then, "fix-not-seen")] == ["d1", "d2"]


def test_a_release_that_is_late_is_asked_about_until_something_shows_it(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.release": "9.1"}))
    assert words(on(context, "2027-03-16"), "release-late") == []
    then = on(context, "2027-03-17")
    assert words(then, "release-late") == [
        "tarn: 9.2 was to be published on 2027-03-16, and nothing here shows it: record its media, or correct the "
        "sheet's date"
    ]
    read(then, line("d1", {"os.release": "9.2"}, at="2027-03-17T08:00:00"))
    assert words(then, "release-late") == []


def test_a_roll_back_is_due_until_the_device_is_tried_again(context: Context) -> None:
    kit = carried(context)
    attempts.record_attempt(context, PETRA, tried("d1", "rolled-back", kit))
    assert words(context, "went-back") == ["d1 went back from 9.1 (AT-0002): try again, or close its exception"]
    attempts.record_attempt(context, PETRA, tried("d1", "completed", kit))
    assert words(context, "went-back") == []


def test_a_setting_that_drifted_is_due_until_it_is_right_again(context: Context) -> None:
    kit = carried(context)
    row = {
        "place": "system",
        "section": "setup/compat",
        "name": "accept",
        "state": "missing",
        "expected": "",
        "found": "",
    }
    followups.add_verification(context, PETRA, kit, "d1", {"kit": kit, "ok": False, "settings": [row]})
    assert words(on(context, "2027-03-01"), "drift") == [
        "d1: setup/compat/accept missing since KT-0001 (2027-01-18): apply the kit again, and verify"
    ]
    followups.add_verification(
        context, PETRA, kit, "d1", {"kit": kit, "ok": True, "settings": [{**row, "state": "right"}]}
    )
    assert words(context, "drift") == []


def test_situation_of_silence_a_device_not_heard_from_is_asked_about_by_site(context: Context) -> None:
    read(context, line("d1", GOOD), line("d2", GOOD, site="Orrin Field Station"))  # read on 15 January
    assert words(on(context, "2027-03-01"), "not-heard-from") == []  # 45 days
    assert words(on(context, "2027-03-02"), "not-heard-from") == [
        "d1: nothing read since 2027-01-15 at Herbarium: read again, or find out where they are",
        "d2: nothing read since 2027-01-15 at Orrin Field Station: read again, or find out where they are",
    ]
    then = on(context, "2027-03-02")
    read(then, line("d1", {"disk.free_gib": 20}, at="2027-03-01T08:00:00"))
    assert [said[:2] for said in words(then, "not-heard-from")] == ["d2"]


# ------------------------------------------------------------------------ standing


def test_after_the_last_serviced_day_every_class_is_ended_and_nothing_is_worse() -> None:
    from doorstone.core.sorting.assessment import assess

    facts = {**GOOD, "os.release": "9.1"}
    day = date(2027, 12, 1)  # 9.1 is serviced through 2027-11-30 for edition desk
    seen = [
        Observation(day, UpdateClass.SECURITY, "not-offered", "unsupported"),
        Observation(day, UpdateClass.DRIVER, "arrived"),
        Observation(date(2027, 11, 30), UpdateClass.RELEASE, "not-offered", "unsupported"),
    ]
    found = {
        one.update_class: (one.expected, one.compared)
        for one in standing(tarn(), assess(tarn(), "9.1", view(facts, day)), seen, day, edition="desk")
    }
    assert found == {
        UpdateClass.SECURITY: (Standing.ENDED, "as-expected"),
        UpdateClass.DRIVER: (Standing.ENDED, "better"),
        UpdateClass.RELEASE: (Standing.ENDED, "worse"),  # seen on the last day, on which it was still promised
    }


def test_the_end_of_servicing_is_due_ninety_days_before_and_until_nobody_runs_the_release(context: Context) -> None:
    estate = {**GOOD, "os.edition": "Estate"}
    read(context, line("d1", GOOD), line("d2", GOOD), line("d3", estate))
    assert words(context, "servicing-ends") == [
        "tarn 8, desk: servicing ends with this day for 2 devices; take the next release"
    ]
    assert len(words(on(context, "2027-06-01"), "servicing-ends")) == 1
    assert words(on(context, "2027-06-02"), "servicing-ends") == [  # estate is serviced through 31 August
        "tarn 8, desk: servicing ended with this day for 2 devices; take the next release",
        "tarn 8, estate: servicing ends with this day for 1 device; take the next release",
    ]
    moved = {**GOOD, "os.release": "9.1"}
    read(context, line("d1", moved, "2027-01-17T08:00:00"), line("d2", moved, "2027-01-17T08:00:00"))
    assert words(context, "servicing-ends") == []


def test_a_kit_that_nobody_has_used_and_a_link_that_ends_are_due_before_they_end(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")  # through 30 September
    kit = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything").id
    assert words(context, "media-link-ends") == [
        "MD-0001: the link of tarn 9.1, en, ends with this day: ask for it again"
    ]
    assert words(on(context, "2027-08-30"), "kit-expires") == []
    said = f"{kit} for d1 may be used through this day: use it, or renew what it rests on"
    assert words(on(context, "2027-08-31"), "kit-expires") == [said]
    assert words(on(context, "2027-10-01"), "kit-expires") == []
    attempts.record_attempt(context, PETRA, tried("d1", kit=kit))
    assert words(on(context, "2027-08-31"), "kit-expires") == []


def test_what_runs_without_permission_stands_first(context: Context) -> None:
    read(context, line("d1", GOOD))
    later = on(context, "2027-03-10")
    read(later, line("d2", {**CHIPLESS, "os.release": "9.1"}, "2027-03-09T08:00:00"))
    kinds = [item.kind for item in due.due_list(later)]
    assert kinds[0] == "uncovered"
    assert min(item.on for item in due.due_list(later)) < due.due_list(later)[0].on
