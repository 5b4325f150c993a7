"""The register at the command line: a request to its end, disputes, fixes, selections, people, webhooks."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from typer.main import get_command

from doorstone.cli.main import app
from tests.running import Run, data

ASKED = [
    "-d", "nbt-012", "-d", "nbt-064", "-q", "security-chip", "-q", "processor-listed", "-r", "9.1",
    "--reason", "Runs the palm house until the new controller comes.", "--expires", "2027-09-30",
]  # fmt: skip


def plain(text: str) -> str:
    return " ".join(text.split())


def commands(group: Any, before: tuple[str, ...] = ()) -> Iterator[tuple[str, Any]]:
    """Every command by the words that call it."""
    for name in group.list_commands(None):
        found = group.get_command(None, name)
        if hasattr(found, "list_commands"):
            yield from commands(found, (*before, name))
        else:
            yield " ".join((*before, name)), found


def every_command() -> dict[str, Any]:
    return dict(commands(get_command(app)))


def test_whatever_tells_something_can_tell_it_as_json() -> None:
    """A command without --format writes a file or changes something without a word that a program could want."""
    silent = {
        name for name, command in every_command().items()
        if not any(option.name == "form" or "--format" in option.opts for option in command.params)
    }  # fmt: skip
    told = {name for name in silent if re.search(r"\b(list|show|compare|standing|plan|due|forecast)\b", name)}
    assert told == {"sheet show"}  # the sheet as it is written


def test_every_command_says_what_it_does_and_what_its_options_are() -> None:
    found = every_command()
    assert len(found) > 80
    for name, command in found.items():
        assert (command.help or "").strip().endswith((".", "?")), name
        for option in command.params:
            told = getattr(option, "help", None)
            assert told or option.name in ("help", "form", "version"), (name, option.name)


# ------------------------------------------------------------------ exceptions


def test_a_request_from_the_question_to_its_end(run: Run) -> None:
    tried = run("exception", "request", *ASKED, "--dry-run", "--format", "json", by="petra")
    assert tried.returncode == 3  # as the request itself would be: one of the two cannot have it
    could = json.loads(tried.stdout)
    assert isinstance(could, dict)
    assert "nbt-012" in could["devices"]
    held = run("exception", "list", "--format", "json", by="petra")
    before = data(held)
    asked = run("exception", "request", *ASKED, "--go-on", "--acknowledge-risk", "--format", "json", by="petra")
    (made,) = as_list(data(asked))
    name = made["id"]
    assert (made["state"], made["requester"]) == ("requested", "petra")
    assert len(as_list(data(run("exception", "list", "--format", "json", by="petra")))) == len(as_list(before)) + 1

    own = run("exception", "approve", name, "--note", "Fine.", by="petra")
    assert own.returncode == 6

    changed = run("exception", "edit", name, "--owner", "wilhelmina", "--expires", "2027-08-31", by="petra")
    assert changed.returncode == 0, changed.stderr
    run("exception", "comment", name, "--ask", "Is the controller ordered?", by="anselm")
    run("exception", "comment", name, "For September.", by="petra")
    approved = run("exception", "approve", name, "--note", "Until autumn.", by="anselm")
    assert approved.returncode == 0, approved.stderr
    assert "doorstone kit make" in plain(approved.stderr)
    (now,) = as_list(data(run("exception", "show", name, "--format", "json", by="odile")))
    assert (now["state"], now["owner"], now["expires_on"]) == ("approved", "wilhelmina", "2027-08-31")
    assert [one["text"] for one in now["comments"]] == ["Is the controller ordered?", "For September."]

    late = run("exception", "edit", name, "--owner", "petra", by="petra")
    assert late.returncode == 3
    ended = run("exception", "revoke", name, "--note", "The controller came.", "--yes", by="anselm")
    assert ended.returncode == 0, ended.stderr
    (gone,) = as_list(data(run("exception", "show", name, "--format", "json", by="odile")))
    assert gone["state"] == "revoked"
    again = run("exception", "revoke", name, "--note", "Twice.", "--yes", by="anselm")
    assert again.returncode == 3
    told = plain(run("ledger", "story", name, by="odile").stdout)
    assert told.index("petra asked to run") < told.index("anselm approved") < told.index("anselm revoked")


def as_list(found: object) -> list[dict[str, Any]]:
    return found if isinstance(found, list) else [dict(found)]  # type: ignore[call-overload]


def test_what_relies_on_an_exception_is_shown_before_it_is_revoked(look: Run) -> None:
    refused = look("exception", "revoke", "EX-0001", "--note", "No longer wanted.", by="anselm")
    text = plain(refused.stdout + refused.stderr)
    assert refused.returncode != 0
    assert "nbt-101" in text
    (still,) = as_list(data(look("exception", "show", "EX-0001", "--format", "json", by="odile")))
    assert still["state"] == "approved"


def test_the_register_leaves_as_table_json_and_oscal(run: Run, tmp_path: Path) -> None:
    for form, name in (("csv", "register.csv"), ("json", "register.json"), ("oscal", "plan.json")):
        done = run("exception", "export", "--format", form, "--into", tmp_path / name, by="odile")
        assert done.returncode == 0, done.stderr
    assert (tmp_path / "register.csv").read_text().startswith("exception")
    assert "plan-of-action-and-milestones" in json.loads((tmp_path / "plan.json").read_text())
    page = run("exception", "page", "EX-0001", "--into", tmp_path / "EX-0001.html", by="odile")
    assert page.returncode == 0
    assert "<script" not in (tmp_path / "EX-0001.html").read_text()


# ------------------------------------------------------ disputes, fixes, fleet


def test_a_dispute_is_seen_settled_and_seen_to_be_settled(run: Run) -> None:
    table = plain(run("dispute", "list", "--device", "nbt-080", by="petra").stdout)
    assert "tpm.state" in table
    unknown = run("dispute", "settle", "nbt-080", "tpm.state", "sideways", "--reason", "A guess.", by="petra")
    assert unknown.returncode == 4
    done = run("dispute", "settle", "nbt-080", "tpm.state", "on", "--reason", "Seen in firmware set-up.", by="petra")
    assert done.returncode == 0, done.stderr
    assert "doorstone device show nbt-080" in plain(done.stderr)
    assert as_list(data(run("dispute", "list", "--device", "nbt-080", "--format", "json", by="petra"))) == []
    (settled,) = as_list(data(run("dispute", "settled", "nbt-080", "--format", "json", by="petra")))
    assert (settled["subject"], settled["by"], settled["stands"]) == ("tpm.state", "petra", True)


def test_fixes_are_listed_by_site_and_shown_for_one_device(look: Run) -> None:
    rows = as_list(data(look("fix", "list", "--site", "Seed Vault", "--format", "json", by="odile")))
    assert rows
    one = data(look("fix", "show", "nbt-019", "--format", "json", by="odile"))
    assert isinstance(one, dict)
    assert one["device"] == "nbt-019"
    assert look("fix", "show", "gone", by="odile").returncode == 5


def test_a_selection_is_saved_counted_and_forgotten(run: Run) -> None:
    saved = run("selection", "save", "Gate", "--site", "Visitor Gate", "--state", "fixable", by="petra")
    assert saved.returncode == 0, saved.stderr
    shown = run("fleet", "show", "--selection", "Gate", "--format", "json", by="odile")
    listed = as_list(data(run("selection", "list", "--format", "json", by="odile")))
    assert "Gate" in [one["name"] for one in listed]
    assert shown.returncode == 0, shown.stderr
    assert run("selection", "delete", "Gate", by="petra").returncode == 0
    assert run("fleet", "show", "--selection", "Gate", by="odile").returncode == 5


def test_two_releases_are_compared_and_a_supposition_is_counted(look: Run) -> None:
    compared = look("fleet", "compare", "-r", "9.1", "-r", "9.3", by="odile")
    assert compared.returncode == 0, compared.stderr
    what_if = data(look("fleet", "what-if", "-r", "9.1", "--all-fixes", "--format", "json", by="odile"))
    assert isinstance(what_if, dict)
    assert sum(what_if["before"].values()) == sum(what_if["after"].values()) == 180
    assert what_if["after"].get("fixable", 0) == 0


# ------------------------------------------------------------- people and others


def test_people_come_change_and_go(run: Run) -> None:
    added = run(
        "person",
        "add",
        "hedda",
        "--role",
        "viewer",
        "--display",
        "Hedda Quill",
        "--password",
        "a-long-password-7",
        by="wilhelmina",
    )
    assert added.returncode == 0, added.stderr
    changed = run("person", "change", "hedda", "--at", "Herbarium=technician", by="wilhelmina")
    assert changed.returncode == 0, changed.stderr
    found = {one["name"]: one for one in as_list(data(run("person", "list", "--format", "json", by="wilhelmina")))}
    assert (found["hedda"]["role"], found["hedda"]["sites"]) == ("viewer", {"Herbarium": "technician"})
    assert (
        run("person", "add", "odd", "--role", "viewer", "--password", "a-long-password-7", by="petra").returncode == 6
    )


def test_a_hook_is_added_tried_and_removed(run: Run) -> None:
    added = run("webhook", "add", "http://127.0.0.1:9/told", "--event", "exception", by="wilhelmina")
    assert added.returncode == 0, added.stderr
    (webhook,) = as_list(data(run("webhook", "list", "--format", "json", by="wilhelmina")))
    assert webhook["kinds"] == ["exception"]
    assert run("webhook", "try", webhook["id"], by="wilhelmina").returncode == 0
    assert run("webhook", "log", webhook["id"], by="wilhelmina").returncode == 0
    assert run("webhook", "remove", webhook["id"], by="wilhelmina").returncode == 0
    (gone,) = as_list(data(run("webhook", "list", "--format", "json", by="wilhelmina")))
    assert (gone["id"], gone["active"]) == (webhook["id"], False)


def test_imports_are_listed_with_what_they_rejected(run: Run, tmp_path: Path) -> None:
    file = tmp_path / "wrong.ndjson"
    file.write_text('{"device": "nbt-012", "source": "collector", "taken_at": "2027-01-18T08:00:00"}\n')
    refused = run("reading", "import", file, by="petra")
    assert refused.returncode == 4
    assert "line 1" in plain(refused.stderr)
    newest = as_list(data(run("reading", "list", "--format", "json", by="petra")))[0]
    assert (newest["state"], newest["rejected"]) == ("refused", 1)
    problems = as_list(data(run("reading", "problems", newest["id"], "--format", "json", by="petra")))
    assert [(one["line"], one["place"]) for one in problems] == [(1, "facts")]
    assert run("reading", "cancel", newest["id"], by="petra").returncode == 3
    sources = as_list(data(run("reading", "sources", "--format", "json", by="petra")))
    assert "collector" in [one["name"] for one in sources]


@pytest.mark.parametrize("words", ["sheet list", "due", "ledger list", "media list", "kit list"])
def test_lists_are_json_that_a_program_can_read(look: Run, words: str) -> None:
    assert data(look(*words.split(), "--format", "json", by="odile"))
