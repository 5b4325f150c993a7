"""Records from files as people have them: foreign columns, other dates, marks and encodings; all rows, or none."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.running import Run, data

MAP = """
format = 1
others = "ignore"
encoding = "windows-1252"
dates = ["%d.%m.%Y %H:%M", "%d.%m.%Y"]
nothing = ["k. A."]
[constant]
release = "9.1"
tool_version = "set-up 9.1.3"
[[column]]
from = "Gerät"
to = "device"
[[column]]
from = "Beginn"
to = "started_at"
[[column]]
from = "Ende"
to = "ended_at"
[[column]]
from = "Ergebnis"
to = "outcome"
values = { "fertig" = "completed", "abgelehnt" = "refused" }
[[column]]
from = "Prüfung"
to = "refused_by"
separator = "+"
[[column]]
from = "Bemerkung"
to = "seen"
"""
HEAD = "Gerät;Beginn;Ende;Ergebnis;Prüfung;Bemerkung;Raum"


def attempts_of(run: Run, device: str) -> list[tuple[str, str, list[str], str]]:
    found = data(run("attempt", "list", "--device", device, "--format", "json", by="odile"))
    return [(a["outcome"], a["started_at"], a["refused_by"], a["seen"]) for a in found]


def test_a_foreign_table_of_attempts_is_tried_out_and_recorded(run: Run, tmp_path: Path) -> None:
    file, mapping = tmp_path / "woche 3.csv", tmp_path / "map.toml"
    mapping.write_text(MAP)
    refused = 'nbt-012; 11.01.2027 10:00 ;11.01.2027 10:20;abgelehnt;security-chip + processor-listed;"zwei; nein";E 5'
    rows = [HEAD, "nbt-064;11.01.2027 08:00;11.01.2027 09:10;Fertig;;läuft;E 4", "", refused]
    file.write_bytes("\r\n".join(rows).encode("cp1252"))
    how = ("attempt", "import", file, "--map", mapping, "--format", "json")
    tried, done = data(run(*how, "-n", by="petra")), data(run(*how, by="petra"))
    assert [(one["line"], one["device"], one["words"]) for one in done["items"]] == [
        (2, "nbt-064", "completed on 9.1, try 1"), (4, "nbt-012", "refused on 9.1, try 1"),
    ]  # fmt: skip
    assert tried["items"] == done["items"]
    assert attempts_of(run, "nbt-064") == [("completed", "2027-01-11T08:00:00Z", [], "läuft")]
    assert attempts_of(run, "nbt-012") == [
        ("refused", "2027-01-11T10:00:00Z", ["security-chip", "processor-listed"], "zwei; nein")
    ]


def test_everything_wrong_is_named_at_once_and_nothing_is_recorded(run: Run, tmp_path: Path) -> None:
    file = tmp_path / "wrong.csv"
    file.write_text(
        "device,outcome,started_at,ended_at,refused_by\n"
        "nbt-064,complete,2027-01-11T08:00,2027-01-11T09:00,\n"
        "nbt-999,completed,2027-01-11T08:00,2027-01-11T09:00,\n"
        "nbt-012,refused,11.1.2027,2027-01-11T09:00,no-such-check\n"
        "nbt-013,completed,2027-01-11T09:00,2027-01-11T08:00\n"
        "nbt-047,completed,2027-01-11T09:00,2027-01-11T08:00,\n"
        "nbt-064,completed,2027-01-11T08:00,2027-01-11T09:00,\n"
    )
    refused = run("attempt", "import", file, by="petra")
    said = " ".join(refused.stderr.split())
    assert refused.returncode == 4
    for words in (
        "Nothing was recorded",
        "line 5, row: 4 cells where the header has 5",
        "line 2, outcome: 'complete'",
        "Use one of completed, refused, carry-over-lost",
        "line 4, started_at: '11.1.2027'",
        "line 3, nbt-999: There is no device 'nbt-999'",
        "line 6, nbt-047:",
    ):
        assert words in said, words
    assert attempts_of(run, "nbt-064") == []
    unknown = tmp_path / "unknown.csv"
    unknown.write_text("device,outcom,started_at,ended_at\nnbt-064,completed,x,y\n")
    assert "Did you mean outcome?" in run("attempt", "import", unknown, by="petra").stderr
    empty = tmp_path / "empty.csv"
    empty.write_text("device,outcome\n")
    assert "There is no row in it" in run("attempt", "import", empty, by="petra").stderr
    assert run("attempt", "import", unknown, by="odile").returncode == 6


@pytest.mark.parametrize(
    ("group", "row", "words"),
    [
        ("observe", {"device": "nbt-101", "seen_on": "2027-01-17", "update_class": "Release", "result": "Not offered",
                     "reason": "phased"}, "release not offered phased"),
        ("fix", {"device": "nbt-007", "title": "Switch the security chip on in firmware set-up"},
         "Switch the security chip on in firmware set-up: done"),
        ("device", {"device": "nbt-103", "life": " Retired", "reason": "Its board is broken."},
         "retired, EX-0003 ended"),
        ("dispute", {"device": "nbt-080", "subject": "tpm.state", "value": "on", "reason": "Seen in set-up."},
         "tpm.state is on"),
        ("follow-up", {"device": "nbt-102", "step": "previous-release", "state": "skipped", "reason": "Kept for now."},
         ": skipped"),
    ],
)  # fmt: skip
def test_every_kind_of_record_comes_by_file(
    run: Run, tmp_path: Path, group: str, row: dict[str, str], words: str
) -> None:
    if group == "follow-up":
        steps = data(run("follow-up", "list", "nbt-102", "--format", "json", by="odile"))["steps"]
        row["step"] = next(one["name"] for one in steps if one["state"] == "open")
    file = tmp_path / "rows.ndjson"
    file.write_text(json.dumps(row) + "\n")
    done = data(run(group, "import", file, "--format", "json", by="petra"))
    assert [(one["device"], one["line"]) for one in done["items"]] == [(row["device"], 1)]
    assert words in done["items"][0]["words"]
    again = run(group, "import", file, "--format", "json", by="petra")
    if group == "observe":
        assert (data(again)["recorded"], data(again)["known"]) == (0, 1)


def test_a_mapping_that_cannot_be_used_names_each_place(run: Run, tmp_path: Path) -> None:
    file, mapping = tmp_path / "rows.csv", tmp_path / "map.toml"
    file.write_text("Host,Why\nnbt-103,broken\n")
    mapping.write_text('format = 1\n[[column]]\nfrom = "Host"\nto = "devise"\n')
    wrong = " ".join(run("device", "import", file, "-m", mapping, by="petra").stderr.split())
    assert "The mapping cannot be used" in wrong
    assert "Did you mean device?" in wrong
    mapping.write_text('format = 1\n[[column]]\nfrom = "Host"\nto = "device"\n')
    wrong = " ".join(run("device", "import", file, "-m", mapping, by="petra").stderr.split())
    assert "Nothing is said about 'Why'" in wrong


def test_a_retry_with_the_same_key_records_nothing_twice(as_role: object) -> None:
    assert callable(as_role)
    client = as_role("technician")
    body = {"form": "json", "text": json.dumps({"device": "nbt-103", "life": "retired", "reason": "It is broken."}),
            "mapping": ""}  # fmt: skip
    call = {"json": body, "headers": {"Idempotency-Key": "k-1"}}
    first = client._http.post("/api/v1/records/lives", **call)
    second = client._http.post("/api/v1/records/lives", **call)
    assert (first.status_code, second.status_code, first.json()) == (201, 201, second.json())
    assert len(client.device_lives("nbt-103")) == 1
    missing = client._http.post("/api/v1/records/hopes", json=body)
    assert missing.status_code == 404
    assert "attempts, observations" in missing.json()["hint"]
