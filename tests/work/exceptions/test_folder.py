"""Exceptions as files: what is written out is read back; what a reviewed folder changes is asked for, never decided."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.exceptions.folder import FileCondition, FileTerms, FolderDeed, compare_folder
from doorstone.formats.exception_files import read_exception, write_exception
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.exceptions import decisions, folder, requests
from doorstone.work.exceptions.folder import Acknowledged
from tests.asking import ANSELM, NOTICE, PETRA, RISK, asked, granted, line, on, read
from tests.build import CHIPLESS

SEEN = Acknowledged(RISK, (NOTICE,))
REVISION = "policy 3f2a91c"
D = date.fromisoformat

lines = st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=40)
names = st.lists(st.from_regex(r"[a-z][a-z0-9-]{0,12}", fullmatch=True), min_size=1, max_size=3, unique=True).map(
    lambda held: tuple(sorted(held))
)
days = st.dates(date(2027, 1, 1), date(2030, 1, 1))
conditions = st.one_of(
    st.builds(FileCondition, st.text("abc äöü'\"\\", min_size=1).filter(lambda t: t.strip().rstrip(".") == t),
              st.none(), days, st.one_of(st.none(), st.integers(1, 400))),
    st.builds(FileCondition, st.just(""), st.just({"fact": "disk.encrypted", "is": True}), st.none(), st.none()),
)  # fmt: skip
terms = st.builds(
    FileTerms, st.just("EX-0001"), st.integers(1, 99), st.just("requested"), st.just("tarn"), st.just("9.1"),
    st.booleans(), names, names, lines.map(str.strip), st.just("petra"), days, days, days,
    st.lists(conditions, max_size=3).map(tuple),
)  # fmt: skip


@given(terms)
def test_what_is_written_is_read_back(one: FileTerms) -> None:
    assert read_exception(write_exception(one)) == one
    assert compare_folder({"EX-0001": one}, {"EX-0001.toml": one}) == []


def deeds(context: Context, files: dict[str, str]) -> dict[tuple[str, str], list[str]]:
    return {(one.file, one.exception): [deed.value for deed in one.deeds] for one in folder.compare(context, files)}


def changed(text: str, **fields: object) -> str:
    return write_exception(replace(read_exception(text), **fields))  # type: ignore[arg-type]


def test_each_difference_leads_to_what_a_person_would_do(context: Context) -> None:
    read(context, *(line(name, CHIPLESS) for name in ("d1", "d2", "d3", "d4", "d5")))
    owned, longer, scope = granted(context, "d1"), granted(context, "d2"), granted(context, "d3")
    waits = requests.request(context, PETRA, asked("d4")).id
    files = folder.folder_files(context)
    assert sorted(files) == [f"{name}.toml" for name in (owned, longer, scope, waits)]
    assert folder.compare(context, files) == []
    reviewed = {
        f"{owned}.toml": changed(files[f"{owned}.toml"], owner="anselm", review=D("2027-06-01")),
        f"{longer}.toml": changed(files[f"{longer}.toml"], expires=D("2027-12-31")),
        f"{waits}.toml": changed(files[f"{waits}.toml"], reason="It works and is replaced in autumn."),
        "new.toml": changed(files[f"{waits}.toml"], exception="", version=0, devices=("d5",)),
    }
    assert deeds(context, reviewed) == {
        (f"{owned}.toml", owned): ["review", "transfer"],
        (f"{longer}.toml", longer): ["request-anew"],
        (f"{waits}.toml", waits): ["edit"],
        ("new.toml", ""): ["request"],
        ("", scope): ["by-hand"],
    }
    done = folder.request_from_folder(context, PETRA, reviewed, REVISION, SEEN)
    assert [(one.file, one.deed.value) for one in done] == [
        (f"{owned}.toml", "review"), (f"{owned}.toml", "transfer"), (f"{longer}.toml", "request-anew"),
        (f"{waits}.toml", "edit"), ("new.toml", "request"),
    ]  # fmt: skip
    anew, new = done[2].exception, done[4].exception
    views = {name: requests.get_exception(context, name) for name in (owned, longer, scope, waits, anew, new)}
    assert [views[name].state for name in (owned, longer, scope, waits, anew, new)] == [
        "approved", "approved", "approved", "requested", "requested", "requested",
    ]  # fmt: skip
    assert (views[owned].row.owner, views[owned].row.review_on) == ("anselm", "2027-06-01")
    assert views[longer].row.expires_on == "2027-09-30"  # what is approved stands until the other is approved
    assert (views[anew].renews, views[anew].row.expires_on, views[anew].row.start_on) == (
        longer, "2027-12-31", "2027-01-18",
    )  # fmt: skip
    assert views[waits].row.reason == "It works and is replaced in autumn."
    for name in (owned, waits, anew, new):
        assert REVISION in views[name].row.comments[-1].text
        assert "SHA-256" in views[name].row.comments[-1].text


def test_a_folder_that_was_asked_for_asks_for_nothing_again(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    held = granted(context, "d1")
    text = changed(folder.folder_files(context)[f"{held}.toml"], expires=D("2027-12-31"))
    new = changed(text, exception="", version=0, devices=("d2",))
    files = {"a.toml": text, "b.toml": new}
    assert len(folder.request_from_folder(context, PETRA, files, REVISION, SEEN)) == 2
    again = folder.compare(context, files)
    assert [(one.file, one.deeds) for one in again] == [("a.toml", (FolderDeed.BY_HAND,))]
    assert "EX-0002 asks for it already" in again[0].hint
    assert folder.request_from_folder(context, PETRA, files, REVISION, SEEN) == []


def test_drift_of_the_register_is_seen_and_no_file_decides(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    waits = requests.request(context, PETRA, asked("d1")).id
    files = folder.folder_files(context)
    approved = {name: changed(text, state="approved") for name, text in files.items()}
    assert deeds(context, approved) == {(f"{waits}.toml", waits): ["by-hand"]}
    decisions.decide(context, ANSELM, waits, "approve", "", None)
    (drift,) = folder.compare(context, files)
    assert (drift.deeds, [(one.name, one.in_register, one.in_file) for one in drift.changes]) == (
        (FolderDeed.BY_HAND,), [("state", "approved", "requested")],
    )  # fmt: skip
    assert "write the folder anew" in drift.hint
    assert folder.request_from_folder(context, PETRA, files, REVISION, SEEN) == []
    later = on(context, "2027-10-05")
    assert folder.folder_files(later) == {}
    assert list(folder.folder_files(later, every=True)) == [f"{waits}.toml"]


def test_everything_wrong_with_a_folder_is_named_with_its_line(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    good = folder.folder_files(context)["EX-0001.toml"]
    bad = good.replace("format = 1", "format = 1\nexpire = 2027-12-31")
    with pytest.raises(BadInputError, match="folder cannot be read") as error:
        folder.compare(context, {"a.toml": good, "b.toml": good, "c.toml": bad, "d.toml": "format = ["})
    pointers = [entry.pointer for entry in error.value.errors]
    assert pointers[0] == "b.toml, exception"
    assert any(pointer.startswith("c.toml, line 3") for pointer in pointers)
    assert any(pointer.startswith("d.toml") for pointer in pointers)
    wrong = changed(good, exception="", version=0, devices=("d9",))
    with pytest.raises(BadInputError, match="Nothing was recorded") as error:
        folder.request_from_folder(context, PETRA, {"n.toml": wrong}, REVISION, SEEN)
    assert "d9" in error.value.errors[0].detail
    new = changed(good, exception="", version=0, reason="Another reason than before.")
    with pytest.raises(BadInputError) as error:
        folder.request_from_folder(context, PETRA, {"n.toml": new}, REVISION, Acknowledged(""))
    assert "not acknowledged" in error.value.errors[0].detail
