"""Kits as use cases: one for several devices, gates and waivers, handed out while they stand, signed, compared."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.kits.check import kit_faults
from doorstone.core.kits.options import KitOptions
from doorstone.core.media import Media, Need, fitting, shared_media
from doorstone.formats.signature import fits, new_key, public_key, sign
from doorstone.work import attempts
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, RefusedError
from doorstone.work.due.due_list import due_list
from doorstone.work.exceptions import decisions
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes.done import NewFixResult
from doorstone.work.kits import kits
from doorstone.work.ledger import entries as ledger
from doorstone.work.platforms import revisions, tasks
from doorstone.work.platforms.impact import sheet_impact
from doorstone.work.snapshot.kit_standing import KitStanding
from tests.asking import ADMIN, ANSELM, CHIP, PETRA, D, changed_sheet, granted, line, on, read
from tests.build import CHIPLESS, GOOD

SMALL = {**GOOD, "disk.system_gib": 29}
PENDING = {**GOOD, "os.pending_updates": 2}


def make(context: Context, *devices: str, **how: Any) -> kits.Kit:
    return kits.make_kit(
        context, PETRA, devices, "9.1", how.pop("route", "in-place"), how.pop("carry", "everything"), **how
    )


def refused(context: Context, *devices: str, **how: Any) -> list[tuple[str, str]]:
    with pytest.raises(RefusedError) as error:
        make(context, *devices, **how)
    return [(entry.pointer, entry.detail) for entry in error.value.errors]


def files(context: Context, name: str) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(kits.kit_archive(context, name))) as bundle:
        return {path.partition("/")[2]: bundle.read(path) for path in bundle.namelist()}


def manifest(context: Context, name: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(files(context, name)["manifest.json"])
    return found


# ---------------------------------------------------------- one kit, many devices


def test_devices_of_the_same_case_share_a_kit_and_its_runbook_names_each(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", SMALL), line("d3", SMALL))
    granted(context, "d1", "d2", "d3", requirements=("storage",))
    kit = make(context, "d3", "d1", "d2", "d1")
    assert (kit.row.devices, kit.row.device, kit.row.overrides) == (("d1", "d2", "d3"), "d1", ("small-disk",))
    assert manifest(context, kit.id)["devices"] == ["d1", "d2", "d3"]
    runbook = files(context, kit.id)["runbook.md"].decode()
    assert "# Runbook: Tarn Desktop 9.1 on d1, d2, d3" in runbook
    assert "- [ ] A recent backup: holds on all 3 (care.last_backup 2027-01-15)" in runbook
    assert [k.id for k in kits.list_kits(context, "d2")] == [kit.id]


def test_devices_of_different_cases_are_told_apart_into_the_fewest_kits(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", CHIPLESS), line("d3", SMALL), line("d4", GOOD), line("d5", CHIPLESS))
    granted(context, "d1", "d3", requirements=("storage",))
    granted(context, "d2")
    assert refused(context, "d1", "d2", "d3", "d4") == [
        ("d1, d3", "they need small-disk, from MD-0001"),
        ("d2", "it needs compat-drop-in, from MD-0001"),
        ("d4", "it needs no override, from MD-0001"),
    ]
    cases, not_yet = kits.shared_cases(context, KitOptions(("d1", "d2", "d3", "d5"), "9.1"))
    assert [(c.devices, c.overrides) for c in cases] == [
        (("d1", "d3"), ("small-disk",)),
        (("d2",), ("compat-drop-in",)),
    ]
    assert {t.pointer for t in not_yet} == {"d5, processor-listed", "d5, security-chip"}


def test_one_device_that_may_have_none_keeps_the_others_from_theirs(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", SMALL))
    granted(context, "d1", requirements=("storage",))
    assert refused(context, "d1", "d2") == [("d2, storage", "64 GB system disk has no approved exception in force")]
    assert kits.list_kits(context) == []


# ---------------------------------------------------------------- gates, waivers


def test_situation_20_a_warning_is_waived_with_a_reason_that_is_written_down(context: Context) -> None:
    read(context, line("d1", PENDING))
    assert refused(context, "d1") == [("d1, pending-updates", "No updates pending: os.pending_updates 2 (a warning)")]
    with pytest.raises(BadInputError, match="To waive pending-updates takes a reason"):
        make(context, "d1", waive={"pending-updates": "no"})
    with pytest.raises(BadInputError, match="There is no gate 'weather'"):
        make(context, "d1", waive={"weather": "It rains today."})
    kit = make(context, "d1", waive={"pending-updates": "They are drivers only."})
    assert (kit.row.waived, manifest(context, kit.id)["waived"]) == (
        {"pending-updates": "They are drivers only."},
        {"pending-updates": "They are drivers only."},
    )
    assert "Waived: They are drivers only." in files(context, kit.id)["runbook.md"].decode()
    assert ledger.list_entries(context, obj=kit.id)[0].body["waived"] == {"pending-updates": "They are drivers only."}


def test_situation_34_the_backup_gate_of_a_destructive_route_cannot_be_waived(context: Context) -> None:
    read(context, line("d1", {**GOOD, "care.last_backup": "2026-12-01"}))
    found = refused(context, "d1", route="clean", carry="nothing", waive={"backup": "It holds nothing of worth."})
    assert found == [
        ("d1, backup", "A recent backup: care.last_backup 2026-12-01"),
        ("d1, backup", "A recent backup is a stop and cannot be waived"),
    ]


def test_situation_27_gates_are_stricter_before_a_critical_device(context: Context) -> None:
    facts = {**GOOD, "care.last_backup": "2027-01-06", "disk.free_gib": 12}
    read(context, line("d1", facts), line("d2", facts, critical=True))
    seen = {
        d: {g.gate.id: (g.result, g.waivable) for g in kits.device_gates(context, d, "in-place")} for d in ("d1", "d2")
    }
    assert (seen["d1"]["backup"], seen["d1"]["free-space"]) == (("holds", False), ("warns", True))
    assert (seen["d2"]["backup"], seen["d2"]["free-space"]) == (("stops", False), ("stops", False))
    assert make(context, "d1", waive={"free-space": "The release is small."}).row.devices == ("d1",)
    assert [place for place, _ in refused(context, "d2", waive={"free-space": "The release is small."})] == [
        "d2, backup",
        "d2, free-space",
        "d2, free-space",
    ]


def test_situation_30_no_kit_while_the_recovery_key_of_an_encrypted_disk_is_not_saved(context: Context) -> None:
    read(context, line("d1", {**GOOD, "disk.encrypted": True, "care.recovery_key_saved": False}))
    assert [place for place, _ in refused(context, "d1")] == ["d1, recovery-key"]


# ------------------------------------------------------------ while they stand


def test_a_kit_ends_with_the_first_of_its_exceptions(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, "disk.system_gib": 29}))
    granted(context, "d1")
    granted(context, "d1", requirements=("storage",), expires_on=D("2027-06-30"), review_on=D("2027-04-01"))
    kit = make(context, "d1")
    assert (kit.row.expires_on, manifest(context, kit.id)["expires"]) == ("2027-06-30", "2027-06-30")
    assert "Not to be used after 2027-06-30" in files(context, kit.id)["runbook.md"].decode()
    assert list(kit_faults(files(context, kit.id), D("2027-06-30"))) == []
    assert list(kit_faults(files(context, kit.id), D("2027-07-01"))) == [
        "it was to be used through 2027-06-30: an exception that it rests on has lapsed"
    ]


@pytest.mark.parametrize(
    ("event", "reason"),
    [
        ("revoke", "EX-0001 is revoked"),
        ("stale", "EX-0001 is stale for d2"),
        ("sheet", "override small-disk has other arguments"),
        ("lapse", "EX-0001 is lapsed"),
    ],
)
def test_what_it_rests_on_has_changed_so_it_is_no_longer_handed_out_and_flagged_where_it_was_used(
    context: Context, event: str, reason: str
) -> None:
    read(context, line("d1", SMALL), line("d2", SMALL))
    granted(context, "d1", "d2", requirements=("storage",))
    kit = make(context, "d1", "d2")
    now = context.clock.now()
    given_ = NewAttempt("d2", kit.id, "9.1", "in-place", "everything", "refused", (), "", "", "", now, now)
    attempts.record_attempt(context, PETRA, given_)
    assert kits.get_kit(context, kit.id).standing == KitStanding((), ("AT-0001",))
    later = context
    if event == "revoke":
        decisions.decide(context, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    elif event == "stale":
        read(context, line("d2", {**SMALL, "disk.system_gib": 58}, "2027-01-17T08:00:00"))
    elif event == "sheet":
        revisions.load_sheet(context, ADMIN, *changed_sheet('"--layout", "small"', '"--layout", "tiny"'), "tarn.toml")
    else:
        later = on(context, "2027-10-01")
    assert reason in kits.get_kit(later, kit.id).standing.reasons
    with pytest.raises(RefusedError, match=f"{kit.id} is no longer handed out") as error:
        kits.kit_archive(later, kit.id)
    assert reason in [entry.detail for entry in error.value.errors]


# ------------------------------------------------------------- signed, compared


def test_a_kit_is_signed_and_every_change_of_it_is_found(context: Context) -> None:
    read(context, line("d1", SMALL))
    granted(context, "d1", requirements=("storage",))
    kit = files(context, make(context, "d1").id)
    key = kits.signing_key(context)

    def faults(changed: dict[str, bytes], public: bytes = key) -> list[str]:
        return list(kit_faults(changed, D("2027-02-01"), lambda data, signature: fits(public, data, signature)))

    assert faults(kit) == []
    assert faults({**kit, "apply": kit["apply"] + b"# more\n"}) == ["apply was changed"]
    assert faults({name: data for name, data in kit.items() if name != "undo"}) == ["undo is missing"]
    assert faults({**kit, "settings/extra.ini": b"x"}) == ["settings/extra.ini does not belong to it"]
    forged = kit["manifest.json"].replace(b'"d1"', b'"d9"')
    wrong = "its signature does not fit: the manifest was changed, or another service made it"
    assert faults({**kit, "manifest.json": forged}) == [wrong]
    assert faults(kit, public_key(new_key())) == [wrong]
    assert faults({name: data for name, data in kit.items() if name != "manifest.sig"}) == ["it is not signed"]
    assert faults({}) == ["manifest.json is missing or cannot be read: this is no kit"]


@pytest.mark.process
def test_a_kit_is_checked_on_the_command_line_with_no_service(context: Context, tmp_path: Path) -> None:
    read(context, line("d1", SMALL))
    granted(context, "d1", requirements=("storage",))
    kit = make(context, "d1").id
    (tmp_path / "kit.zip").write_bytes(kits.kit_archive(context, kit))
    (tmp_path / "key.pem").write_bytes(kits.signing_key(context))

    def check(*words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "doorstone.cli.main", "kit", "check", str(tmp_path / "kit.zip"), *words]
        return subprocess.run([*command, "--format", "json"], capture_output=True, text=True, timeout=60)

    good = check("--key", str(tmp_path / "key.pem"), "--as-of", "2027-02-01")
    assert (good.returncode, json.loads(good.stdout)["faults"]) == (0, [])
    assert check("--key", str(tmp_path / "key.pem"), "--as-of", "2028-02-01").returncode == 1
    (tmp_path / "key.pem").write_text("nonsense")
    assert check("--key", str(tmp_path / "key.pem")).returncode == 4


def test_same_inputs_same_bytes_and_what_differs_between_two_is_named(context: Context) -> None:
    read(context, line("d1", SMALL), line("d2", CHIPLESS))
    granted(context, "d1", requirements=("storage",))
    granted(context, "d2")
    one, again, other = make(context, "d1").id, make(context, "d1").id, make(context, "d2").id
    strip = {name: data.replace(again.encode(), one.encode()) for name, data in files(context, again).items()}
    same = {name: data for name, data in files(context, one).items() if name not in ("SHA256SUMS", "manifest.sig")}
    hashes = {"manifest.json", "SHA256SUMS", "manifest.sig"}
    assert {n: d for n, d in strip.items() if n not in hashes} == {n: d for n, d in same.items() if n not in hashes}
    assert kits.differences(context, one, again) == []
    found = {what: (first, second) for what, first, second in kits.differences(context, one, other)}
    assert found["overrides"] == ("small-disk", "compat-drop-in")
    assert found["devices"] == ("d1", "d2")
    assert found["settings"] == ("none", "setup/compat/accept = security-chip; processor-listed")


@given(st.binary(max_size=200), st.binary(max_size=200))
def test_a_signature_fits_its_data_alone(data: bytes, other: bytes) -> None:
    key = PRIVATE
    assert fits(public_key(key), data, sign(key, data))
    assert fits(public_key(key), other, sign(key, data)) is (data == other)
    assert not fits(public_key(key), data, other)


PRIVATE = new_key()


def test_two_who_make_the_same_kit_get_two_numbers(context: Context) -> None:
    read(context, line("d1", GOOD))
    first = make(context, "d1")
    assert (first.id, make(context, "d1").id) == ("KT-0001", "KT-0002")
    assert replace(first.row, id=2, made_at="") != first.row


def test_the_runbook_prints_with_boxes_and_what_was_typed_stays_text(context: Context) -> None:
    read(context, line("d1", PENDING))
    kit = make(context, "d1", waive={"pending-updates": "<script>alert(1)</script> & more"})
    text, style = kits.runbook(context, kit.id)
    assert "<li>☐ No updates pending: warns (os.pending_updates 2)" in text
    assert "&lt;script&gt;alert(1)&lt;/script&gt; &amp; more" in text
    assert "<script" not in text
    assert "<h2>3. Put the settings in</h2>" in text
    assert style.startswith("sha256-")


def test_situation_11_the_routes_of_a_device_stand_side_by_side(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, "os.arch": "x86-32"}), line("d2", GOOD))
    in_place, clean = kits.compare_routes(context, "d1", "9.1")
    assert (in_place.chosen, in_place.stops, in_place.restart) == (
        ("compat-drop-in",),
        ("A 64-bit system to upgrade from",),
        True,
    )
    assert (clean.chosen, clean.stops, clean.keeps) == (("loose-table",), (), ("nothing",))
    assert clean.excess == ()
    assert [route.chosen for route in kits.compare_routes(context, "d2", "9.1")] == [(), ()]


def test_the_fewest_kits_for_many_devices_and_the_others_named(context: Context) -> None:
    facts = {"d1": CHIPLESS, "d2": CHIPLESS, "d3": SMALL, "d4": GOOD, "d5": CHIPLESS}
    read(context, *(line(name, one) for name, one in facts.items()))
    chips, disk = granted(context, "d1", "d2"), granted(context, "d3", requirements=("storage",))
    wanted = KitOptions(("d1", "d2", "d3", "d4", "d5"), "9.1")
    cases, _ = kits.shared_cases(context, wanted)
    made, others = kits.make_each(context, PETRA, wanted)
    assert [case.devices for case in cases] == [kit.row.devices for kit in made] == [("d1", "d2"), ("d3",), ("d4",)]
    assert [kit.row.exceptions for kit in made] == [(chips,), (disk,), ()]
    assert {entry.pointer for entry in others} == {"d5, processor-listed", "d5, security-chip"}
    alone = make(context, "d1", "d2")
    assert alone.row.overrides == made[0].row.overrides
    with pytest.raises(RefusedError, match="No kit can be made for any of them") as error:
        kits.make_each(context, PETRA, KitOptions(("d5",), "9.1"))
    assert len(error.value.errors) == 2
    with pytest.raises(BadInputError, match="5,001 devices at once"):
        kits.make_each(context, PETRA, KitOptions(tuple(f"d{n}" for n in range(5_001)), "9.1"))


def test_a_case_of_more_devices_than_a_kit_may_serve_is_split(context: Context) -> None:
    names = tuple(f"d{n:03d}" for n in range(501))
    read(context, *(line(name, GOOD) for name in names))
    made, others = kits.make_each(context, PETRA, KitOptions(names, "9.1"))
    assert [(len(kit.row.devices), kit.row.devices[0]) for kit in made] == [(500, "d000"), (1, "d500")]
    assert others == []


# --------------------------------------------------------------- a changed sheet


def load(context: Context, old: str = "", new: str = "") -> None:
    tasks.load_with_tasks(context, ADMIN, *changed_sheet(old, new), "tarn.toml")


def test_a_kit_outlives_a_sheet_that_changes_nothing_in_it_and_comes_back_with_the_earlier_one(
    context: Context,
) -> None:
    read(context, line("d1", SMALL), line("d2", CHIPLESS))
    granted(context, "d1", requirements=("storage",))
    kit = make(context, "d1")
    load(context, "minutes = 15", "minutes = 20")
    assert kits.get_kit(context, kit.id).standing.reasons == ()
    other = changed_sheet('"--layout", "small"', '"--layout", "tiny"')
    (named,) = sheet_impact(context, *other, "tarn.toml").kits
    reason = "override small-disk has other arguments"
    assert (named.id, named.devices, named.words) == (kit.id, ("d1",), (reason,))
    tasks.load_with_tasks(context, ADMIN, *other, "tarn.toml")
    assert kits.get_kit(context, kit.id).standing.reasons == (reason,)
    with pytest.raises(RefusedError):
        kits.kit_archive(context, kit.id)
    (task,) = [one for one in tasks.list_tasks(context, "open") if one.row.kind == "make-anew"]
    assert task.row.object == kit.id
    assert task.id in {item.object for item in due_list(context)}
    load(context)
    assert kits.get_kit(context, kit.id).standing.reasons == ()
    assert [one.row.state for one in tasks.list_tasks(context) if one.id == task.id] == ["done"]


def test_the_earlier_sheet_ends_staleness_and_closes_its_task(context: Context) -> None:
    read(context, line("d1", SMALL))
    granted(context, "d1", requirements=("storage",))
    kit = make(context, "d1")
    asks = 'fact = "disk.system_gib", at_least = 60'
    other = changed_sheet(asks, 'fact = "disk.system_gib", at_least = 62')
    found = sheet_impact(context, *other, "tarn.toml")
    assert [(one.id, one.restored) for one in found.exceptions] == [("EX-0001", False)]
    assert [one.words for one in found.kits] == [("EX-0001 is stale for d1",)]
    tasks.load_with_tasks(context, ADMIN, *other, "tarn.toml")
    assert kits.get_kit(context, kit.id).standing.reasons == ("EX-0001 is stale for d1",)
    assert {one.row.kind for one in tasks.list_tasks(context, "open")} >= {"look-again", "make-anew"}
    back = sheet_impact(context, *changed_sheet("", ""), "tarn.toml")
    assert [(one.id, one.words, one.restored) for one in back.exceptions] == [
        ("EX-0001", ("the approval applies again",), True)
    ]
    load(context)
    assert kits.get_kit(context, kit.id).standing.reasons == ()
    assert not {one.row.kind for one in tasks.list_tasks(context, "open")} & {"look-again", "make-anew"}


def test_a_condition_in_another_order_changes_nothing(context: Context) -> None:
    read(context, line("d1", {**SMALL, **CHIPLESS, "disk.system_gib": 29}))
    granted(context, "d1", requirements=("storage", *CHIP))
    first, second = '{ fact = "tpm.version", at_least_version = "2.0" }', '{ fact = "tpm.state", is = "on" }'
    text, _ = changed_sheet(first, first)
    between = text[text.index(first) + len(first) : text.index(second)]
    found = sheet_impact(context, *changed_sheet(first + between + second, second + between + first), "tarn.toml")
    assert (found.changes, found.exceptions, found.moves, found.runways) == ((), (), (), ())


def test_a_runbook_asks_for_a_fix_that_no_reading_has_confirmed(context: Context) -> None:
    read(context, line("d1", {**SMALL, "tpm.state": "off"}))
    granted(context, "d1", requirements=("storage",))
    fixes_done.record_fix(context, PETRA, "d1", NewFixResult("Switch the security chip on in firmware set-up"))
    runbook = files(context, make(context, "d1").id)["runbook.md"].decode()
    assert "d1: tpm.state is on, recorded as fixed on 2027-01-18. No reading has confirmed it: check it." in runbook
    read(context, line("d1", {"tpm.state": "on"}, at="2027-01-18T20:00:00"))
    assert "recorded as fixed" not in files(context, make(context, "d1").id)["runbook.md"].decode()


def test_a_runbook_names_the_steps_that_will_be_due_and_no_others(context: Context) -> None:
    facts = {**SMALL, "disk.encrypted": False, "care.applications": ["seed register"]}
    read(context, line("d1", facts), line("d2", {**facts, "care.applications": []}))
    granted(context, "d1", "d2", requirements=("storage",))
    after = files(context, make(context, "d1", "d2").id)["runbook.md"].decode().split("After\n")[1]
    assert "**Blocking.** seed register works (d1)." in after
    assert "The disk is still encrypted" not in after
    assert "removing it ends rollback" in after
    wiped = kits.make_kit(context, PETRA, "d1", "9.1", "clean", "nothing")
    after = files(context, wiped.id)["runbook.md"].decode().split("After\n")[1]
    assert "ends rollback" not in after
    assert "where they were" not in after


def test_media_are_chosen_for_the_group_so_that_one_kit_serves_it() -> None:
    def one(name: str, *editions: str) -> Media:
        return Media(name, "tarn", "9.1", "9.1", editions, "en", "x86-64", 10**9, "0" * 64, True, "", "gpt", 8, None)

    media = [one("MD-0001", "a", "b"), one("MD-0002", "b", "c"), one("MD-0003", "a", "c")]
    needs = [Need("d1", "", "a", "en", "x86-64"), Need("d2", "", "b", "en", "x86-64")]
    # The newest that fits each device alone: MD-0003 and MD-0002. MD-0001 serves both.
    assert [getattr(fitting(media, "9.1", need, D("2027-01-18")), "id", "") for need in needs] == ["MD-0003", "MD-0002"]
    shared = shared_media(media, "9.1", needs, D("2027-01-18"))
    assert {device: found.id for device, found in shared.items()} == {"d1": "MD-0001", "d2": "MD-0001"}
    assert shared_media(media, "9.2", needs, D("2027-01-18")) == {}
