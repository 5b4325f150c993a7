"""Characters that change a terminal or the direction of text: refused, or shown as escapes, wherever they come from."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable

import pytest

from doorstone.cli.output import PlainConsole
from doorstone.client import BadInputError, Client
from doorstone.core.text import escaped, hidden_character
from doorstone.work.context.context import Context
from tests.build import GOOD

TITLE = "\x1b]0;approve me\x07"
HIDDEN = [TITLE, "\x00", "\u202egnp.exe", "\x9b31m", "\u2066x"]


def test_what_is_hidden_and_how_it_is_shown() -> None:
    assert [hidden_character(text) for text in HIDDEN] == ["U+001B", "U+0000", "U+202E", "U+009B", "U+2066"]
    assert hidden_character("Zwölf Geräte\nin 2 Räumen\t✓ 家") == ""
    assert escaped("a\x1b[2Jb\u202e") == "a\\u001b[2Jb\\u202e"


@pytest.mark.parametrize("text", HIDDEN, ids=ascii)
def test_no_text_that_is_sent_may_have_them(as_role: Callable[[str], Client], text: str) -> None:
    for path, body in (
        ("/exceptions/EX-0003/comments", {"text": f"Fine.{text}"}),
        ("/observations", {"device": "nbt-001", "detail": text}),
        ("/attempts", {"device": "nbt-001", "seen": [{"words": text}]}),
    ):
        answer = as_role("technician")._http.post(f"/api/v1{path}", json=body)
        assert answer.status_code == 400
        assert "changes how text is shown" in answer.text


def test_no_reading_brings_them_into_the_records(as_role: Callable[[str], Client], demo: Context) -> None:
    row = {"device": "nbt-900", "source": "collector", "taken_at": "2027-01-17T08:00:00", "facts": GOOD}
    wrong = [
        {"device": f"nbt{TITLE}"}, {"source": f"col{TITLE}"}, {"site": TITLE}, {"name": f"\u202e{TITLE}"},
        {"role": TITLE},
        {"facts": {**GOOD, "machine.model": TITLE}}, {"facts": {**GOOD, "cpu.features": [TITLE]}},
        {"facts": {**GOOD, "care.applications": [f"seed{TITLE}"]}}, {"texts": [TITLE]}, {"verdicts": {TITLE: "fail"}},
        {"unread": {"tpm.state": TITLE}},
    ]  # fmt: skip
    for more in wrong:
        text = json.dumps({**row, **more}) + "\n"
        try:
            as_role("technician").import_readings(text, "ndjson")
        except BadInputError:
            continue
        assert "unread" in more  # reasons are kept, as escapes
    assert columns_with_hidden_characters(demo) == []


def columns_with_hidden_characters(context: Context) -> list[str]:
    found = []
    with context.database.read() as db:
        tables = [row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        for table in tables:
            for row in _rows(db, table):
                found += [f"{table}: {value!r}" for value in row if isinstance(value, str) and hidden_character(value)]
    return found


def _rows(db: sqlite3.Connection, table: str) -> list[tuple[object, ...]]:
    return [tuple(row) for row in db.execute(f"SELECT * FROM {table}")]  # noqa: S608 - a name of our own


def test_what_older_records_hold_is_shown_as_escapes(capsys: pytest.CaptureFixture[str]) -> None:
    PlainConsole(width=80).print(f"note: {TITLE}")
    assert capsys.readouterr().out == "note: \\u001b]0;approve me\\u0007\n"
