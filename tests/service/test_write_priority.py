"""Several people at the same moment, over real HTTP: one wins, the other is told, nothing is lost."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import httpx

from doorstone.api.exceptions import ExceptionTermsRequest
from doorstone.api.people import TokenRequest
from doorstone.api.sorting import DecisionRequest
from doorstone.client import Client, StaleEditError
from doorstone.demo.seed import PASSWORD

Act = Callable[[], Any]


def person(address: str, name: str) -> Client:
    client = Client(address)
    client.sign_in(name, PASSWORD)
    return client


def at_once(*acts: Act) -> list[Any]:
    """Run all acts from one starting gun; gives each one's result or error."""
    gun = threading.Barrier(len(acts))
    results: list[Any] = [None] * len(acts)

    def run(at: int, act: Act) -> None:
        gun.wait(60)
        try:
            results[at] = act()
        except Exception as error:
            results[at] = error

    threads = [threading.Thread(target=run, args=(at, act)) for at, act in enumerate(acts)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    return results


def terms(owner: str) -> ExceptionTermsRequest:
    return ExceptionTermsRequest.model_validate(
        {
            "reason": "Same case as nbt-101, which runs well.",
            "owner": owner,
            "start_on": "2027-01-18",
            "expires_on": "2027-09-01",
            "review_on": "2027-05-01",
        }
    )


def test_an_edit_and_two_approvals_at_the_same_moment(live: str) -> None:
    petra, anselm, wilhelmina = (person(live, name) for name in ("petra", "anselm", "wilhelmina"))
    results = at_once(
        lambda: petra.edit_exception("EX-0003", 1, terms("odile")),
        lambda: anselm.decide_exception("EX-0003", "approve", 1),
        lambda: wilhelmina.decide_exception("EX-0003", "approve", 1),
    )
    told = [result for result in results if isinstance(result, StaleEditError)]
    assert len(told) == 2, results
    held = petra.exception("EX-0003")
    assert held.version == 2
    assert (held.state, held.owner) in {("requested", "odile"), ("approved", "petra")}
    moves = [entry.action for entry in petra.ledger("exception", "EX-0003")]
    assert len(moves) == 2  # the request, and the one that won


def test_the_same_key_from_two_callers_at_once_makes_one_thing(live: str) -> None:
    secret = person(live, "petra").issue_token(TokenRequest(name="twice", role="technician", days=2)).secret
    headers = {"Authorization": f"Bearer {secret}", "Idempotency-Key": "at-once"}
    body = {"device": "nbt-101", "seen_on": "2027-01-18", "update_class": "security", "result": "arrived"}

    def post() -> httpx.Response:
        return httpx.post(f"{live}/api/v1/observations", json=body, headers=headers, timeout=30)

    answers = at_once(*[post] * 6)
    assert {answer.status_code for answer in answers} == {201}
    assert len({answer.json()["id"] for answer in answers}) == 1


def test_writers_and_readers_do_not_stand_in_each_others_way(live: str) -> None:
    wilhelmina, odile = person(live, "wilhelmina"), person(live, "odile")
    before = odile.check_ledger().entries

    def decide() -> None:
        for number in range(8):
            wilhelmina.decide_sort(
                DecisionRequest.model_validate(
                    {
                        "platform": "tarn",
                        "requirement": "storage",
                        "release": "9.2",
                        "sort": ["floor", "installer-check"][number % 2],
                        "evidence": "trial",
                        "note": "Tried on the bench.",
                    }
                )
            )

    def look() -> int:
        return sum(odile.overview("tarn", "9.2").roll_up.devices for _ in range(6))

    results = at_once(decide, look, look)
    assert results == [None, 1080, 1080]
    assert odile.check_ledger().entries == before + 8
    assert odile.check_ledger().ok


def test_a_token_of_the_wrong_role_changes_nothing(live: str) -> None:
    petra = person(live, "petra")
    secret = petra.issue_token(TokenRequest(name="narrow", role="viewer", days=2)).secret
    before = petra.check_ledger().entries
    answer = httpx.post(
        f"{live}/api/v1/readings",
        json={"form": "csv", "text": "device,source,taken_at,cpu.cores\nx1,file,2027-01-17,4\n"},
        headers={"Authorization": f"Bearer {secret}"},
    )
    assert answer.status_code == 403
    assert answer.json()["detail"].startswith("Import readings at once: a viewer may not")
    assert petra.check_ledger().entries == before
