"""Situations of the job in every interface: the same words stand in the API, the command line and the console."""

from __future__ import annotations

import json
import re
from typing import NamedTuple

import httpx
import pytest
from playwright.sync_api import expect

from tests.console.conftest import SignIn, go, settled
from tests.running import Run, Running


class Place(NamedTuple):
    """Where a situation of the demo is met: a call, a command, a page, and words that stand in each."""

    call: str
    command: str
    page: str
    words: tuple[str, ...]


SITUATIONS = {
    3: Place("devices/nbt-110", "device show nbt-110", "devices/nbt-110?tab=readings", ("file", "assessor")),
    6: Place("devices/nbt-019/overrides", "kit choose nbt-019", "devices/nbt-019?tab=kit", ("compat-drop-in",)),
    7: Place("devices/nbt-101/forecast", "forecast nbt-101", "devices/nbt-101?tab=forecast", ("ended at release 9.2",)),
    8: Place("kits/KT-0001", "kit show KT-0001", "kits/KT-0001", ("update download off",)),
    9: Place("devices/nbt-013/gates", "kit gates nbt-013", "devices/nbt-013?tab=kit", ("nl",)),
    11: Place("devices/nbt-145/routes", "kit routes nbt-145", "devices/nbt-145?tab=kit", ("clean",)),
    15: Place("kits/KT-0001/runbook", "kit show KT-0001", "kits/KT-0001", ("Accept it",)),
    16: Place("exceptions/EX-0001", "exception show EX-0001", "exceptions/EX-0001", ("Going on is at your own risk",)),
    18: Place("attempts?device=nbt-102", "attempt list --device nbt-102", "devices/nbt-102?tab=after",
              ("set-up 9.1.2", "set-up 9.1.3", "MD-0001")),
    19: Place("observations?device=nbt-064", "observe standing nbt-064", "devices/nbt-064?tab=after", ("phased",)),
    23: Place("due", "due", "due?all=1", ("nbt-102", "see which updates arrive")),
    25: Place("devices/nbt-186/follow-ups", "follow-up list nbt-186", "devices/nbt-186?tab=after", ("stick",)),
    27: Place("devices/nbt-102/follow-ups", "follow-up list nbt-102", "devices/nbt-102?tab=after",
              ("Sheet Catalogue 4", "Étiquettes Köln")),
    28: Place("devices/nbt-102/follow-ups", "follow-up list nbt-102", "devices/nbt-102?tab=after", ("slower",)),
    30: Place("devices/nbt-096/fixes", "fix show nbt-096", "devices/nbt-096?tab=fixes", ("recovery key",)),
    34: Place("devices/nbt-145/gates?route=clean", "kit gates nbt-145 --route clean", "devices/nbt-145?tab=kit",
              ("backup",)),
    35: Place("due?kind=drift", "due --kind drift", "due?all=1&kind=drift", ("setup/compat/accept missing",)),
    37: Place("media", "media plan", "media", ("MD-0002",)),
}  # fmt: skip


def plain(text: str) -> str:
    return re.sub(r"\s+", " ", text)


@pytest.mark.process
@pytest.mark.parametrize("number", SITUATIONS)
def test_a_situation_is_met_in_calls_and_commands(shown: Running, look: Run, number: int) -> None:
    place = SITUATIONS[number]
    headers = {"Authorization": f"Bearer {shown.tokens['petra']}"}
    answer = httpx.get(f"{shown.address}/api/v1/{place.call}", headers=headers)
    assert answer.status_code == 200, answer.text
    said = (
        answer.text if "json" not in answer.headers["Content-Type"] else json.dumps(answer.json(), ensure_ascii=False)
    )
    printed = look(*place.command.split(), by="petra", COLUMNS="300")
    assert printed.returncode == 0, printed.stderr
    for words in place.words:
        assert words in plain(said), (place.call, plain(said)[:900])
        assert words in plain(printed.stdout), printed.stdout


@pytest.mark.browser
def test_every_situation_is_met_on_its_page(visit: SignIn) -> None:
    page = visit("petra", at="/me")
    on_page: dict[str, set[str]] = {}
    for place in SITUATIONS.values():
        on_page.setdefault(place.page, set()).update(place.words)
    for path, every in on_page.items():
        go(page, f"/{path}")
        settled(page)
        for words in every:
            expect(page.get_by_text(words).first, path).to_be_visible()



def test_what_is_due_for_one_reason_is_a_list_of_its_own(shown: Running, look: Run) -> None:
    headers = {"Authorization": f"Bearer {shown.tokens['petra']}"}
    every = httpx.get(f"{shown.address}/api/v1/due", headers=headers).json()["items"]
    for kind in ("drift", "uncovered", "check"):
        some = httpx.get(f"{shown.address}/api/v1/due?kind={kind}", headers=headers).json()["items"]
        assert some == [one for one in every if one["kind"] == kind] != []
    assert "uncovered" not in look("due", "--kind", "drift", by="petra").stdout
    assert httpx.get(f"{shown.address}/api/v1/due?kind=odd", headers=headers).status_code == 400


@pytest.mark.browser
def test_the_ledger_is_checked_when_somebody_asks(visit: SignIn) -> None:
    page = settled(visit("petra", at="/ledger"))
    expect(page.get_by_text("entries hold")).to_have_count(0)
    page.get_by_role("button", name="Check every entry").click()
    expect(page.get_by_role("status").filter(has_text="entries hold")).to_be_visible()
