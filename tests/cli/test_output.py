"""Every listing says at 60, 80, 100 and 130 columns what it says at 400: a table loses nothing."""

from __future__ import annotations

import csv
import io
import re

import pytest

from tests.running import Run

LISTINGS = (
    "sheet list", "sheet revisions tarn", "reading list", "reading show IM-0001", "reading problems IM-0001",
    "reading sources", "device list", "device show nbt-001", "device show nbt-045", "device show nbt-080",
    "dispute list", "dispute settled nbt-090", "sorting show", "sorting decisions", "sorting texts", "fix list",
    "fix show nbt-045", "fleet show", "fleet forecast",
    "exception uncovered", "device unplaced", "fleet compare -r 9.1 -r 9.2", "selection list", "exception list",
    "exception show EX-0001", "exception show EX-0005", "exception account nbt-101", "exception consequences EX-0001",
    "media list", "media plan", "kit choose nbt-045", "kit routes nbt-045", "kit gates nbt-045", "kit sets nbt-045",
    "kit list", "attempt list", "attempt rates", "attempt draft nbt-101", "follow-up list nbt-102",
    "observe standing nbt-101", "forecast nbt-045", "forecast nbt-101", "scenarios nbt-101", "due", "ledger list",
    "person list", "person sign-ins", "token list", "me show", "webhook list",
)  # fmt: skip


def words_of(text: str) -> list[str]:
    return sorted(word for word in re.split(r"\s+", text) if word and not set(word) <= set("─│┃━"))


@pytest.mark.parametrize("listing", LISTINGS)
def test_a_listing_loses_nothing_at_any_width(look: Run, listing: str) -> None:
    wide = look(*listing.split(), by="wilhelmina", COLUMNS="400")
    assert wide.returncode == 0, wide.stderr
    for columns in (60, 80, 100, 130):
        narrow = look(*listing.split(), by="wilhelmina", COLUMNS=str(columns))
        assert max(map(len, narrow.stdout.splitlines()), default=0) <= columns
        missing = set(words_of(wide.stdout)) - set(words_of(narrow.stdout))
        assert not missing, (columns, sorted(missing)[:10])


@pytest.mark.parametrize("listing", LISTINGS)
def test_csv_of_a_listing_holds_words_and_numbers_and_no_marks(look: Run, listing: str) -> None:
    found = look(*listing.split(), "--format", "csv", by="wilhelmina")
    assert found.returncode == 0, found.stderr
    rows = list(csv.reader(io.StringIO(found.stdout)))
    assert len({len(row) for row in rows}) <= 1
    assert all(rows[0])  # every column has a name
    for cell in (cell for row in rows for cell in row):
        assert not set(cell) & set("●◆▲■○≠…–"), cell
