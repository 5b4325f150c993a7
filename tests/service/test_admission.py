"""What is read of a request, before anyone knows what stands in it: its size, its sender, how many come."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import httpx
import pytest

from doorstone.service import listener as listening
from doorstone.service.admission import LARGEST_BODY, LARGEST_UPLOAD, SMALL, largest_body
from doorstone.service.resources import OPERATIONS
from tests.running import Running, running

BY_NAME = {operation.name: operation for operation in OPERATIONS}
SEEN = {"X-Doorstone-Console": "1"}


def connect(service: Running) -> socket.socket:
    host, port = service.address.removeprefix("http://").split(":")
    return socket.create_connection((host, int(port)), timeout=60)


def head(method: str, path: str, length: int | None, token: str = "", **more: str) -> bytes:
    headers = {"Host": "x", **{name.replace("_", "-"): value for name, value in more.items()}}
    if token:
        headers["Authorization"] = f"Bearer {token}"
    headers |= {"Transfer-Encoding": "chunked"} if length is None else {"Content-Length": str(length)}
    lines = [f"{method} {path} HTTP/1.1", *(f"{name}: {value}" for name, value in headers.items()), "", ""]
    return "\r\n".join(lines).encode()


def answer(one: socket.socket) -> tuple[int, str]:
    """The status and the text of an answer, up to the end of the connection."""
    raw = b""
    while piece := one.recv(65536):
        raw += piece
    return int(raw.split()[1]), raw.decode()


@pytest.mark.parametrize(
    ("name", "most"),
    [
        ("sign_in", SMALL), ("healthz", SMALL), ("settle_followup", SMALL), ("begin_import", 1_201_432),
        ("import_readings", LARGEST_BODY), ("record_file", LARGEST_BODY), ("send_import_file", LARGEST_UPLOAD),
    ],
)  # fmt: skip
def test_a_body_has_the_size_that_its_route_can_use(name: str, most: int) -> None:
    assert largest_body(BY_NAME[name]) == most


@pytest.mark.parametrize("length", [SMALL + 1, 488_000_000, 5 * 2**30])
@pytest.mark.parametrize("path", ["/api/v1/session", "/", "/no/such/place"])
def test_a_body_that_is_announced_as_too_large_is_refused_before_it_comes(
    service: Running, path: str, length: int
) -> None:
    with connect(service) as one:
        one.sendall(head("POST", path, length))
        status, text = answer(one)
    assert (status, "application/problem+json" in text, "The body is larger than 64 KiB" in text) == (413, True, True)


def test_a_body_without_a_length_ends_where_its_route_ends(service: Running) -> None:
    piece, sent = b"8000\r\n" + b"x" * 0x8000 + b"\r\n", 0
    with connect(service) as one:
        one.sendall(head("POST", "/api/v1/session", None))
        for _ in range(50):
            try:
                sent += one.send(piece)
            except OSError:
                break
        status, _ = answer(one)
    assert (status, sent > SMALL) == (413, True)


@pytest.mark.parametrize("length", [1_000_000, None])
@pytest.mark.parametrize(
    ("token", "status"), [("", 401), ("no-such-token", 401), ("odile", 403)], ids=["nobody", "bad token", "viewer"]
)
def test_who_may_not_send_a_large_body_is_told_before_it_comes(
    service: Running, token: str, status: int, length: int | None
) -> None:
    with connect(service) as one:
        one.sendall(head("POST", "/api/v1/readings", length, service.tokens.get(token, token)))
        assert answer(one)[0] == status


def test_who_sends_on_after_the_refusal_still_sees_it(service: Running) -> None:
    done = httpx.post(f"{service.address}/api/v1/readings", content=b"x" * 3_000_000, timeout=60)
    assert (done.status_code, done.json()["hint"]) == (401, "Sign in, or send a bearer token")


def test_a_refused_request_is_not_told_to_continue(service: Running) -> None:
    with connect(service) as one:
        one.sendall(head("POST", "/api/v1/session", 10_000_000, Expect="100-continue"))
        assert answer(one)[1].startswith("HTTP/1.1 413 ")


def test_a_large_body_of_a_known_caller_is_read(service: Running) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['petra']}"}
    text = "\n" * 200_000 + "{}"
    done = httpx.post(f"{service.address}/api/v1/readings", json={"form": "ndjson", "text": text}, headers=headers)
    assert (done.status_code, done.json()["errors"][0]["pointer"]) == (422, "line 200001, device")


def test_a_temporary_file_that_finds_no_room_is_answered(service: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(self: Any, data: bytes) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("waitress.receiver.FixedStreamReceiver.received", full)
    headers = {"Authorization": f"Bearer {service.tokens['petra']}"}
    done = httpx.post(f"{service.address}/api/v1/readings", json={"form": "ndjson", "text": "x"}, headers=headers)
    assert (done.status_code, done.json()["title"]) == (507, "The disk is full")


# ------------------------------------------------------------- connections and requests


@pytest.fixture
def crowded(demo_data: Path) -> Iterator[Running]:
    with running(demo_data, connections_per_address=20, requests_per_address=0) as made:
        yield made


@pytest.mark.parametrize("start", [b"GET / HTTP/1.1\r\nHos", b"", head("POST", "/api/v1/session", 1000) + b"{"])
def test_connections_that_do_nothing_make_room_for_others(crowded: Running, start: bytes) -> None:
    held = [connect(crowded) for _ in range(60)]
    for one in held:
        one.sendall(start)
    for _ in range(30):
        assert httpx.get(f"{crowded.address}/api/v1/session/ways", timeout=60).status_code == 200
    for one in held:
        one.close()


def test_a_connection_whose_request_is_at_work_stays_and_one_more_is_told(demo_data: Path) -> None:
    with running(demo_data, connections_per_address=1) as service:
        headers = {"Authorization": f"Bearer {service.tokens['petra']}"}
        made = httpx.post(f"{service.address}/api/v1/imports", json={"form": "ndjson"}, headers=headers).json()["id"]
        with connect(service) as watching:
            request = f"GET /api/v1/imports/{made}/events HTTP/1.1\r\nHost: x\r\n"
            watching.sendall(f"{request}Authorization: {headers['Authorization']}\r\n\r\n".encode())
            assert b"200 OK" in watching.recv(4096)
            text = ""
            for _ in range(20):  # the first may take the place of a connection that has ended
                with connect(service) as other, suppress(TimeoutError):
                    other.settimeout(0.5)
                    status, text = answer(other)
                    break
            assert (status, "All connections that this address may have are at work" in text) == (503, True)


def test_many_half_sent_requests_close_nobody_out(demo_data: Path) -> None:
    with running(demo_data, requests_per_address=0, connections_per_address=0) as service:
        listening_at_most = listening.MOST_CONNECTIONS
        held = []
        for _ in range(listening_at_most + 50):
            held.append(connect(service))
            held[-1].sendall(b"GET / HT")
        assert httpx.get(f"{service.address}/healthz", timeout=60).status_code == 200
        for one in held:
            one.close()


def test_an_address_that_asks_too_often_is_told_to_wait(demo_data: Path) -> None:
    with running(demo_data, requests_per_address=10) as service, httpx.Client(base_url=service.address) as client:
        known = {"Authorization": f"Bearer {service.tokens['petra']}"}
        if time.time() % 10 > 5:  # all of it goes into one window of ten seconds
            time.sleep(10.05 - time.time() % 10)
        open_ = [client.get("/api/v1/session/ways").status_code for _ in range(7)]
        signed = [client.get("/api/v1/session", headers=known).status_code for _ in range(42)]
        refused = client.get("/healthz")
    assert open_ == [200] * 7
    assert signed == [200] * 30 + [429] * 12
    assert (refused.status_code, refused.headers["Retry-After"]) == (429, "10")
