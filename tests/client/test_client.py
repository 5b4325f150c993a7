"""The client library: typed results, its error tree, retries that make nothing twice, a real socket."""

from __future__ import annotations

from collections.abc import Callable

import httpx
import pytest

import doorstone.client as library
from doorstone.api.exceptions import ExceptionRequest
from doorstone.api.kits import KitRequest
from doorstone.api.people import TokenRequest
from doorstone.client import Client
from tests.running import free_port

Make = Callable[[str], Client]


def test_pages_are_walked_to_the_end(as_role: Make) -> None:
    devices = list(as_role("viewer").devices("tarn", release="9.1"))
    assert len({device.id for device in devices}) == 180


def test_results_are_typed(as_role: Make) -> None:
    client = as_role("viewer")
    detail = client.device("nbt-012")
    assert (detail.device.model, detail.device.state, detail.target) == ("Fallow 310", "needs-exception", "9.1")
    assert client.forecast("nbt-101").forecast.technical.runway is not None
    assert {c.compared for c in client.standing("nbt-101").classes} == {"as-expected", "worse"}
    assert client.overview("tarn").roll_up.devices == 180
    assert client.fleet_forecast("tarn").devices == 180
    assert len(client.sorting("tarn", "9.1")) == 11
    assert [kit.id for kit in client.kits("nbt-101")] == ["KT-0001"]
    assert [attempt.outcome for attempt in client.attempts("nbt-102")] == ["completed", "refused"]
    assert len(client.observations("nbt-101")) == 6
    assert [person.role for person in client.people()] == ["approver", "viewer", "technician", "administrator"]
    assert client.platform("tarn").target == "9.1"
    assert client.sheet("tarn").startswith("# Tarn Desktop")
    assert next(client.ledger(kind="kit")).object == "KT-0004"


@pytest.mark.parametrize(
    ("role", "call", "error"),
    [
        ("nobody", lambda c: c.people(), "NotSignedInError"),
        ("viewer", lambda c: c.make_kit(KitRequest(device="nbt-012")), "RoleError"),
        ("viewer", lambda c: c.device("gone"), "MissingError"),
        ("technician", lambda c: c.make_kit(KitRequest(device="nbt-012")), "RefusedError"),
        ("technician", lambda c: c.withdraw_exception("EX-0003", 7), "StaleEditError"),
        ("technician", lambda c: c.import_readings("nonsense", "ndjson"), "BadInputError"),
    ],
)
def test_errors_are_one_tree(as_role: Make, role: str, call: Callable[[Client], object], error: str) -> None:
    kind = getattr(library, error)
    assert issubclass(kind, library.ProblemError)
    assert issubclass(kind, library.ClientError)
    with pytest.raises(kind) as caught:
        call(as_role(role))
    assert caught.value.problem.detail


def test_a_refusal_carries_every_place(as_role: Make) -> None:
    with pytest.raises(library.RefusedError) as caught:
        as_role("technician").make_kit(KitRequest(device="nbt-012"))
    assert [t.pointer for t in caught.value.problem.errors] == ["nbt-012, processor-listed", "nbt-012, security-chip"]


def test_no_answer_is_an_error_of_its_own() -> None:
    with Client(f"http://127.0.0.1:{free_port()}", tries=1) as client, pytest.raises(library.UnreachableError):
        client.people()


class Flaky(httpx.BaseTransport):
    """Carries every call through, but loses the answer of the first one."""

    def __init__(self, inner: httpx.BaseTransport) -> None:
        self.inner = inner
        self.calls = 0

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        self.calls += 1
        answer = self.inner.handle_request(request)
        if self.calls == 1:
            raise httpx.ReadError("the answer was lost")
        return answer


def flaky(client: Client) -> Flaky:
    client._http._transport = Flaky(client._http._transport)
    return client._http._transport


def test_a_retry_makes_a_thing_once(as_role: Make) -> None:
    client = as_role("technician")
    session = client.session()
    asked = ExceptionRequest.model_validate(
        {
            "release": "9.1",
            "requirements": ["security-chip", "processor-listed"],
            "devices": ["nbt-012"],
            "risk_acknowledged": session.risk_statement,
            "notice_acknowledged": client.risk("tarn", "9.1").notice,
            "reason": "It works and is to be replaced.",
            "owner": "petra",
            "start_on": session.today,
            "expires_on": "2027-09-01",
            "review_on": "2027-05-01",
        }
    )
    transport = flaky(client)
    assert client.request_exception(asked).id == "EX-0010"
    assert transport.calls == 2
    assert [e.id for e in client.exceptions(device="nbt-012")] == ["EX-0010"]


def test_a_call_that_is_not_safe_to_repeat_is_not_repeated(as_role: Make) -> None:
    client = as_role("approver")
    transport = flaky(client)
    with pytest.raises(library.UnreachableError):
        client.decide_exception("EX-0003", "approve", 1)
    assert transport.calls == 1
    assert client.exception("EX-0003").state == "approved"


def test_an_answer_that_is_no_problem_document_is_still_an_error() -> None:
    transport = httpx.MockTransport(lambda _: httpx.Response(502, text="<html>bad gateway</html>"))
    with Client("http://x.test", transport=transport) as client, pytest.raises(library.ServiceError) as caught:
        client.people()
    assert "answered 502" in caught.value.problem.detail


def test_over_a_real_socket(live: str, password: str) -> None:
    with Client(live) as client:
        assert client.sign_in("petra", password).role == "technician"
        secret = client.issue_token(TokenRequest(name="script", role="viewer", days=3)).secret
    with Client(live, secret) as client:
        assert client.session().role == "viewer"
        with pytest.raises(library.RoleError):
            client.import_readings("{}", "ndjson")
