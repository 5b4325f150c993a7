"""The command line, as a process, against a real service: what it prints, its exit codes, its next steps."""

from __future__ import annotations

import csv
import io
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from click import Context
from typer.core import TyperGroup
from typer.main import get_command

from doorstone.cli.main import JobOrder, app
from tests.running import Run, data

# ------------------------------------------------------------ without a service


def test_help_teaches_in_the_jobs_order(look: Run) -> None:
    text = look("--help").stdout
    order = ["1. Describe:", "  sheet ", "2. Read:", "  device ", "3. Sort:", "  sort ", "  sorting ", "4. Except:",
             "  exception ", "5. Upgrade:", "  kit ", "  attempt ", "6. Follow:", "  observe ", "  forecast ",
             "7. Account:", "  ledger "]  # fmt: skip
    places = [text.index(f"\n{word}") for word in order]
    assert places == sorted(places)
    assert "Exit codes: 0 done" in text


def test_help_of_a_group_leaves_no_word_out(look: Run) -> None:
    said = " ".join(look("exception", "--help").stdout.split())
    assert (
        "show Show one exception: who allowed it and why, until when, on what conditions, and whether it still" in said
    )
    assert "..." not in said.partition("Commands:")[2]


@pytest.mark.parametrize("group", ["sheet", "device", "sorting", "exception", "kit", "attempt", "observe", "ledger"])
def test_every_group_has_help(look: Run, group: str) -> None:
    assert "Usage: doorstone" in look(group, "--help").stdout


def test_the_first_administrator_is_made_on_the_data_folder(look: Run, tmp_path: Path) -> None:
    done = look("person", "add", "first", "--role", "administrator", "--data", tmp_path / "new")
    assert done.returncode == 0
    assert "Added first, administrator" in done.stderr
    again = look("person", "add", "first", "--role", "administrator", "--data", tmp_path / "new")
    assert (again.returncode, "There is an administrator already" in again.stderr) == (4, True)


# ---------------------------------------------------------------- with one


def test_tables_fit_the_terminal(look: Run) -> None:
    for words in (["device", "list", "--state", "floored"], ["exception", "list"], ["forecast", "nbt-021"]):
        done = look(*words, by="odile", COLUMNS="80")
        assert max(map(len, done.stdout.splitlines())) <= 80


def test_a_device_that_fails_a_floor_is_told_so_with_its_course(look: Run) -> None:
    text = " ".join(look("device", "show", "nbt-030", by="odile").stdout.split())
    assert "instruction-level ■ floor" in text
    assert "Course: retire by 2027-02-28. floor at 9.1: Instruction level x86-64-v3." in text
    done = look(
        "exception", "request", "-d", "nbt-030", "-q", "instruction-level", "-r", "9.1", "--reason",
        "Needed for the season.", "--expires", "2027-09-01", "--acknowledge-risk", by="petra",
    )  # fmt: skip
    assert done.returncode == 3
    assert "nbt-030, instruction-level" in done.stderr
    assert "is a floor" in done.stderr


def test_lists_come_as_table_json_and_csv(look: Run) -> None:
    table = look("device", "list", "--state", "unsettled", by="odile")
    assert "nbt-080" in table.stdout
    assert "4 devices" in table.stderr
    found = data(look("device", "list", "--state", "unsettled", "--format", "json", by="odile"))
    assert isinstance(found, list)
    assert [d["id"] for d in found] == ["nbt-080", "nbt-088", "nbt-110", "nbt-160"]
    rows = list(
        csv.reader(io.StringIO(look("device", "list", "--state", "unsettled", "--format", "csv", by="odile").stdout))
    )
    assert [row[0] for row in rows] == ["device", "nbt-080", "nbt-088", "nbt-110", "nbt-160"]


def test_the_choice_of_overrides_is_explained(look: Run) -> None:
    text = " ".join(look("kit", "choose", "nbt-012", by="odile").stdout.split())
    assert "chosen compat-drop-in" in text
    assert "needs os.edition estate, which is unmet here" in text


@pytest.mark.parametrize(
    ("words", "by", "code", "message"),
    [
        (["device", "show", "gone"], "odile", 5, "There is no device 'gone'"),
        (["device", "list"], "", 6, "Nobody is signed in"),
        (["kit", "make", "nbt-012"], "odile", 6, "a viewer may not"),
        (["kit", "make", "nbt-012"], "petra", 3, "has no approved exception in force"),
        (["exception", "approve", "EX-0003"], "petra", 6, "a technician may not"),
        (["device", "list", "--state", "odd"], "odile", 4, "'odd' is not a state"),
        (["kit", "show", "KT-0001", "--file", "x"], "odile", 4, "has no file 'x'"),
        (["token", "issue", "x", "--role", "king"], "odile", 2, "An option cannot be used as given"),
        (["nonsense"], "", 2, "No such command"),
        (["exceptio", "list"], "", 2, "No such command 'exceptio'. Did you mean 'exception'?"),
    ],
)
def test_errors_have_their_exit_code_and_a_next_step(
    look: Run, words: list[str], by: str, code: int, message: str
) -> None:
    done = look(*words, by=by)
    assert done.returncode == code
    assert message in " ".join(done.stderr.split())


def test_a_service_that_does_not_answer_is_named(look: Run) -> None:
    done = look("device", "list", DOORSTONE_SERVER="http://127.0.0.1:1")
    assert done.returncode == 7
    assert "doorstone serve" in done.stderr


def test_the_risk_statement_is_shown_before_it_can_be_acknowledged(look: Run) -> None:
    done = look(
        "exception", "request", "-d", "nbt-012", "-q", "security-chip", "-r", "9.1", "--reason", "Needed for long.",
        "--expires", "2027-09-01", by="petra",
    )  # fmt: skip
    assert done.returncode == 2
    assert "I understand that a device on a release by exception" in done.stderr


def test_sorting_ledger_people_and_tokens(run: Run) -> None:
    table = data(run("sorting", "show", "--format", "json", by="odile"))
    assert isinstance(table, list)
    assert next(row for row in table if row["requirement"] == "security-chip")["ran"] == 2
    decided = run(
        "sorting", "decide", "storage", "floor", "--release", "9.3", "--note", "It failed on the bench.",
        "--model", "Orrin Box", by="wilhelmina",
    )  # fmt: skip
    assert "model Orrin Box" in " ".join(decided.stdout.split())
    assert "yes" in run("ledger", "verify", by="odile").stdout
    assert "EX-0001" in run("ledger", "list", "--object", "EX-0001", by="odile").stdout
    assert "Odile Marchbank" in run("person", "list", by="odile").stdout
    issued = run("token", "issue", "nightly", "--role", "viewer", by="petra").stdout
    secret = issued.strip().splitlines()[-1]
    assert secret.startswith("ds_")
    assert run("device", "list", "--state", "unsettled", DOORSTONE_TOKEN=secret).returncode == 0
    number = issued.split("TK-")[1][:4]
    assert run("token", "revoke", f"TK-{number}", by="wilhelmina").returncode == 0
    assert run("device", "list", DOORSTONE_TOKEN=secret).returncode == 6
    assert number in run("token", "list", by="wilhelmina").stdout


def test_observations_and_standing(run: Run) -> None:
    text = " ".join(run("observe", "standing", "nbt-101", by="odile").stdout.split())
    assert "security unpromised security-chip arrived on 2027-01-12 as-expected" in text
    seen = run(
        "observe", "record", "nbt-101", "--class", "driver", "--result", "arrived", "--on", "2027-01-18", by="petra"
    )
    assert seen.returncode == 0
    text = " ".join(run("observe", "standing", "nbt-101", by="odile").stdout.split())
    assert "driver unpromised processor-listed arrived on 2027-01-18 as-expected" in text


@pytest.mark.process
def test_completion_is_there(look: Run) -> None:
    assert "complete -o default -F _doorstone_completion doorstone" in look(_DOORSTONE_COMPLETE="source_bash").stdout


def test_nothing_that_may_be_left_out_is_called_required() -> None:
    def every(command: Any, words: tuple[str, ...]) -> Iterator[tuple[str, Any]]:
        if isinstance(command, TyperGroup):
            context = Context(command)
            for name in command.list_commands(context):
                yield from every(command.get_command(context, name), (*words, name))
        else:
            yield from ((" ".join((*words, p.name or "")), p) for p in command.params)

    found = list(every(get_command(app), ()))
    assert len(found) > 400
    for place, param in found:
        optional = "left out" in (getattr(param, "help", "") or "") or getattr(param, "prompt", None)
        assert not (param.required and optional), place


READING = set("""
sheet: check impact revisions explain preview new list show schema compare list-match
task: list; collect: -; device: list show readings unplaced lives
dispute: list settled; reading: list show problems sources; sort: -; sorting: show decisions texts
fix: list show; selection: list; fleet: show compare forecast what-if
exception: list show uncovered consequences account export page to-folder beside-folder; media: list check plan
kit: choose gates routes cases sets list show download page diff key check; attempt: rates draft list; follow-up: list
observe: standing; forecast: -; scenarios: -; suppose: -; plan: -; budget: -; due: -; ledger: list story export verify
evidence: make check
person: list sign-ins deputies; token: list; me: show; webhook: list log; serve: -; doctor: -; openapi: -
""".replace("\n", "; ").split("; "))  # fmt: skip
WITHOUT = {"sign-in"}
"""What writes and has no dry run: a token of the caller, kept on his own machine."""


def test_every_command_that_writes_has_a_dry_run() -> None:
    reading = {
        f"{group} {name}".removesuffix(" -")
        for entry in READING
        if entry.strip()
        for group, _, names in [entry.strip().partition(": ")]
        for name in names.split()
    }
    rehearsed, others = set(), set()
    for group, place in JobOrder.places.items():
        command = place.load(group)
        for name, leaf in getattr(command, "commands", {"": command}).items():
            options = {one for parameter in leaf.params for one in getattr(parameter, "opts", ())}
            (rehearsed if "--dry-run" in options else others).add(f"{group} {name}".strip())
    assert others == reading | WITHOUT
    assert not rehearsed & reading


@pytest.mark.process
def test_help_loads_no_library_of_a_command() -> None:
    asked = "import sys, doorstone.cli.main; print(*{'httpx', 'pydantic', 'doorstone.client'} & sys.modules.keys())"
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == ""
