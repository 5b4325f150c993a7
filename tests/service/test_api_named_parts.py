"""Lists on the wire whose entries have parts: each part has its name."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

from doorstone.api.platforms import VendorListRequest
from doorstone.client import Client
from doorstone.demo.seed import sheet_text

PLAN = "https://northmere.example/plans/stations-2027"


def test_who_attested_and_what_is_attached(as_role: Callable[[str], Client]) -> None:
    client = as_role("viewer")
    found = [(word.day, word.by, word.note) for one in client.exception("EX-0001").conditions for word in one.attested]
    assert found == [(date(2027, 1, 15), "petra", "Looked in with the cataloguers.")]
    for one in client.account("nbt-101").permissions:
        assert [(a.title, a.link, a.by) for a in one.attachments] == [("Replacement plan 2027", PLAN, "petra")]
        assert [word.by for kept in one.conditions for word in kept.attested] == ["petra"]


def test_what_a_vendor_renamed(as_role: Callable[[str], Client]) -> None:
    name, text = next(iter(sheet_text()[1].items()))
    names = [row for row in text.splitlines() if row and not row.startswith("#")]
    renamed = "\n".join([*names[1:], f"{names[0]}P"])
    found = as_role("administrator").match_list("tarn", name, VendorListRequest(text=renamed, other=[f"{names[0]}P"]))
    assert [(one.was, one.now) for one in found.renamed] == [(names[0], f"{names[0]}P")]
