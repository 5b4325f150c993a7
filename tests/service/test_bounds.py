"""Bounds at the edge: dates, sizes, depth, time, names; refused with the place and the hint, never a crash."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest

from doorstone.client import Client
from doorstone.demo.seed import sheet_text
from doorstone.formats.mapping import MappingError, read_mapping
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.service.app import api_document
from doorstone.service.config import Config, ConfigError
from doorstone.service.scheduler import Scheduler
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.sheets import get_sheet
from tests.asking import ADMIN, PETRA, line, read
from tests.build import GOOD, tarn


@pytest.mark.parametrize(
    ("old", "new", "place"),
    [
        ("desk = 2027-11-30", "desk = 9999-12-31", "servicing_ends.desk"),
        ("published = 2026-05-12", "published = 0001-01-01", "published"),
        ("rollback_days = 14", "rollback_days = 999999999", "rollback_days"),
        ("within_days = 14", "within_days = 99999999999", "within_days"),
    ],
)
def test_dates_and_days_with_which_nobody_can_reckon_are_refused(old: str, new: str, place: str) -> None:
    text, lists = sheet_text()
    assert old in text
    with pytest.raises(SheetError) as caught:
        read_sheet(text.replace(old, new, 1), lists)
    (problem,) = caught.value.problems
    assert place in problem.place
    assert problem.line == next(n for n, one in enumerate(text.replace(old, new, 1).splitlines(), 1) if new in one)


@pytest.mark.parametrize(
    "text", ["a" + ".a" * 20_000 + " = 1", "[" + "a." * 20_000 + "a]", "a = " + "[" * 20_000 + "]" * 20_000]
)
def test_toml_that_would_take_minutes_is_refused_at_once(text: str) -> None:
    with pytest.raises(SheetError, match="Write it flatter"):
        read_sheet(text, {})
    with pytest.raises(MappingError, match="Write it flatter"):
        read_mapping(text, tarn().specs)


@pytest.mark.parametrize("at", ["9999-12-31T23:59:59", "2027-01-19T09:00:01", "1971-01-01T00:00:00"])
def test_readings_from_the_future_are_refused_with_a_days_slack(context: Context, at: str) -> None:
    begun = import_job.begin(context, PETRA, ImportOptions("ndjson", skip=True))
    lines = line("d1", GOOD, at=at) + line("d2", GOOD, at="2027-01-19T08:59:59")
    import_job.receive(context, PETRA, begun.id, __import__("io").BytesIO(lines.encode()))
    done = import_job.run(context, begun.id)
    assert (done.row.state, done.row.readings) == ("done", 1)
    (problem,) = import_job.import_problems(context, done.id)
    assert (problem.line, problem.place, "lies" in problem.message) == (1, "taken_at", True)


def test_values_that_no_sheet_knows_are_reported_once_and_kept(context: Context) -> None:
    lines = [line(f"d{n}", {**GOOD, "os.release": "Wren OS 4"}) for n in range(3)]
    lines.append(line("d9", {**GOOD, "os.edition": "dsek"}))
    done = import_job.import_readings(context, PETRA, "".join(lines), ImportOptions("ndjson"))
    assert (done.row.readings, done.row.rejected) == (4, 0)
    notes = [(n.line, n.place, n.message, n.hint) for n in import_job.import_problems(context, done.id)]
    assert notes == [
        (1, "os.release", "No sheet knows 'Wren OS 4'; it is kept as it is", "Known: 8, 9.0, 9.1, 9.2, 9.3"),
        (4, "os.edition", "No sheet knows 'dsek'; it is kept as it is", "Is desk meant?"),
    ]


def test_a_misspelt_setting_is_refused_with_the_near_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "doorstone.toml"
    file.write_text("two_aprovers = 'all'\n")
    monkeypatch.setenv("DOORSTONE_CONFIG", str(file))
    with pytest.raises(ConfigError, match=r"There is no setting 'two_aprovers'. Is two_approvers meant\?"):
        Config()
    file.write_text("port = 9001\n")
    monkeypatch.setenv("DOORSTONE_MOST_DAY", "9")
    with pytest.raises(ConfigError, match=r"'DOORSTONE_MOST_DAY'. Is most_days meant\?"):
        Config()
    file.write_text("port = [")
    with pytest.raises(ConfigError, match="is not TOML"):
        Config()


@pytest.mark.long
def test_no_read_writes_and_none_fails_across_midnight(demo: Context, as_role: Callable[[str], Client]) -> None:
    client = as_role("administrator")
    values = {
        "device": "nbt-101", "platform": "tarn", "name": "IM-0001", "exception": "EX-0001", "kit": "KT-0001",
        "release": "9.1", "requirement": "security-chip", "number": "1",
    }  # fmt: skip
    demo.clock = FixedClock(datetime(2027, 2, 16, 0, 0, 1))  # words have aged out, exceptions come due
    before, answered = demo.stamp(), 0
    for path, item in api_document()["paths"].items():
        if "get" not in item or path.endswith("/events") or "calendars" in path:
            continue
        asked = "&".join(f"{p['name']}={values.get(p['name'], '1')}" for p in item["get"].get("parameters", ())
                         if p["in"] == "query" and p.get("required"))  # fmt: skip
        filled = re.sub(r"{(\w+)}", lambda found: values.get(found[1], values["name"]), path)
        answer = client._http.get(f"{filled}?{asked}")
        assert answer.status_code < 500, (path, answer.text)
        answered += answer.status_code == 200
    assert answered > 50
    assert demo.stamp() == before
    rounds = Scheduler(demo, lambda *_: "", None)
    rounds.once()
    assert demo.stamp().day == "2027-02-16"


def test_a_sheet_that_comes_back_is_its_newest_revision_everywhere(context: Context) -> None:
    text, lists = sheet_text()
    revisions.load_sheet(
        context, ADMIN, text.replace("rollback_days = 14", "rollback_days = 15", 1), lists, "tarn.toml"
    )
    read(context, line("d1", GOOD))
    again = revisions.load_sheet(context, ADMIN, text, lists, "tarn.toml")
    assert (again.revision, get_sheet(context, "tarn").revision) == (3, 3)


@pytest.mark.parametrize(
    "path",
    [
        "/ledger?cursor=9223372036854775808",
        "/imports/IM-0001/problems?cursor=9223372036854775808",
        "/disputes?platform=brindle&device=nbt-095",
        "/devices?platform=tarn&cursor=9223372036854775808",
    ],
)
def test_questions_that_are_off_are_answered_in_words(as_role: Callable[[str], Client], path: str) -> None:
    client = as_role("administrator")
    answer = client._http.get(f"/api/v1{path}")
    assert answer.status_code < 500, answer.text
    if answer.status_code >= 400:
        assert json.loads(answer.text)["detail"]


def test_an_asset_with_a_name_of_thousands_of_letters_is_not_there(as_role: Callable[[str], Client]) -> None:
    client: Client = as_role("viewer")  # type: ignore[operator]
    assert client._http.get("/assets/" + "a" * 5000).status_code == 404
