"""Telling: events to a real receiver over HTTP, signed and tried again; letters to a real mail server; the calendar."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Iterator
from datetime import datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any

import httpx
import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.handlers import Message
from http_message_signatures import HTTPMessageVerifier, InvalidSignature, MappingKeyResolver, algorithms
from icalendar import Calendar

from doorstone.service import carriers
from doorstone.service.app import create_app
from doorstone.service.carriers import http_post, smtp_mail
from doorstone.service.config import Config
from doorstone.service.rounds import Rounds
from doorstone.store.telling import DeliveryRow, HookRow
from doorstone.work import caring, deciding, exceptions, people, rounds, telling
from doorstone.work.desk import Desk
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.people import PersonChange
from doorstone.work.telling import MOST_TRIES, Hook, carry_out
from tests.asking import ADMIN, ANSELM, PETRA, asked, granted, line, on, read
from tests.build import CHIPLESS
from tests.running import free_port

NOW = datetime(2027, 1, 18, 9)


class Receiver:
    """A real HTTP server that keeps what it is sent and answers as it is told."""

    def __init__(self) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        self.status = 204
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                outer.got.append((dict(self.headers), body))
                self.send_response(outer.status)
                self.end_headers()

            def log_message(self, *words: Any) -> None:
                pass

        self.server = HTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}/told"
        threading.Thread(target=self.server.serve_forever, args=(0.02,), daemon=True).start()

    def events(self) -> list[dict[str, Any]]:
        return [json.loads(body) for _, body in self.got]


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    made = Receiver()
    yield made
    made.server.shutdown()
    made.server.server_close()


def told_of(desk: Desk, receiver: Receiver, *kinds: str) -> Hook:
    return telling.add_hook(desk, ADMIN, receiver.url, kinds)


def send(desk: Desk, after: timedelta = timedelta()) -> int:
    return carry_out(desk, NOW + after, http_post(["127.0.0.1"], 5), None)


def verify(url: str, headers: dict[str, str], body: bytes, hook: Hook) -> None:
    assert hook.secret is not None
    keys = MappingKeyResolver(public_keys={hook.id: hook.secret.encode()}, private_keys={})
    verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=keys)
    request = httpx.Request("POST", url, content=body, headers=headers)
    verifier.verify(request, body=body, require_components=("@method", "@target-uri", "content-digest"))


# --------------------------------------------------------------------- hooks


def test_an_event_is_a_cloudevent_that_is_signed(desk: Desk, receiver: Receiver) -> None:
    hook = told_of(desk, receiver, "exception")
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    assert send(desk) == 2
    first, second = receiver.events()
    assert (first["specversion"], first["type"]) == ("1.0", "doorstone.exception.requested")
    assert (second["type"], second["subject"], second["source"]) == (
        "doorstone.exception.approved",
        "EX-0001",
        "/doorstone",
    )
    assert second["data"]["actor"] == "anselm"
    headers, body = receiver.got[1]
    assert headers["Content-Type"] == "application/cloudevents+json"
    verify(receiver.url, headers, body, hook)
    with pytest.raises(InvalidSignature):
        verify(receiver.url, headers, body.replace(b"anselm", b"petra0"), hook)
    with pytest.raises(InvalidSignature):
        verify(receiver.url.replace("/told", "/other"), headers, body, hook)


def test_an_event_goes_to_the_address_that_was_checked_whatever_the_name_means_a_moment_later(
    receiver: Receiver, monkeypatch: pytest.MonkeyPatch
) -> None:
    port = int(receiver.url.split(":")[2].split("/")[0])
    hook = HookRow(1, 1, f"http://hooks.northmere.example:{port}/told", (), "s" * 32, True, "w", "2027-01-18")
    one = DeliveryRow(1, 1, "", "L-1", "exception", "{}", "waiting", 0, "", "", "2027-01-18")
    meanings = ["203.0.113.7"]  # nobody; from then on, this machine

    def look_up(host: str, port: int | None, *more: Any, **rest: Any) -> list[Any]:
        address = (meanings.pop() if meanings else "127.0.0.1") if host.endswith(".example") else host
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, port or 0))]

    monkeypatch.setattr(socket, "getaddrinfo", look_up)
    with pytest.raises(OSError, match="no answer"):
        http_post(timeout=0.2)(hook, one)
    assert receiver.got == []
    monkeypatch.setattr(carriers, "_addresses", lambda host, targets: ["127.0.0.1"])
    assert http_post(timeout=5)(hook, one) == "answered 204"
    headers, body = receiver.got[0]
    assert headers["Host"] == f"hooks.northmere.example:{port}"
    verify(hook.url, headers, body, Hook("HK-0001", hook, hook.secret))


def test_a_hook_is_told_of_what_it_wants_only_and_of_nothing_once_it_is_removed(desk: Desk, receiver: Receiver) -> None:
    hook = told_of(desk, receiver, "exception.approved", "kit")
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    assert (send(desk), [e["type"] for e in receiver.events()]) == (1, ["doorstone.exception.approved"])
    telling.remove_hook(desk, ADMIN, hook.id)
    caring.transfer(desk, ANSELM, "EX-0001", None, "odile", "")
    assert send(desk) == 0
    telling.try_hook(desk, ADMIN, told_of(desk, receiver, "kit").id)
    assert (send(desk), receiver.events()[-1]["type"]) == (1, "doorstone.hook.tried")


def test_what_is_not_taken_is_tried_again_later_and_later_with_the_same_id(desk: Desk, receiver: Receiver) -> None:
    hook = told_of(desk, receiver, "exception")
    read(desk, line("d1", CHIPLESS))
    receiver.status = 503
    exceptions.request(desk, PETRA, asked("d1"))
    assert send(desk) == 0
    assert send(desk, timedelta(seconds=29)) == 0
    assert len(receiver.got) == 1
    assert send(desk, timedelta(seconds=31)) == 0
    assert send(desk, timedelta(seconds=60)) == 0  # the second wait is a minute
    assert len(receiver.got) == 2
    log = telling.list_deliveries(desk, hook.id)[0]
    assert (log.state, log.tries, log.answer) == ("waiting", 2, "answered 503")
    receiver.status = 200
    assert send(desk, timedelta(seconds=100)) == 1
    assert telling.list_deliveries(desk, hook.id)[0].state == "done"
    assert len({event["id"] for event in receiver.events()}) == 1


def test_a_hook_is_told_once_of_each_thing_that_is_due(desk: Desk, receiver: Receiver) -> None:
    told_of(desk, receiver, "due")
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    for day in ("2027-02-10", "2027-02-11", "2027-04-10"):
        rounds.tell_due(on(desk, day))
        send(desk)
    seen = [(event["type"], event["subject"], event["data"]["on"]) for event in receiver.events()]
    assert seen == [
        ("doorstone.due.media-link-ends", "MD-0001", "2027-01-31"),
        ("doorstone.due.servicing-ends", "tarn", "2027-02-28"),
        ("doorstone.due.condition", "EX-0001", "2027-03-01"),
        ("doorstone.due.not-heard-from", "d1", "2027-03-02"),
        ("doorstone.due.release-late", "tarn", "2027-03-17"),
        ("doorstone.due.review", "EX-0001", "2027-05-01"),
    ]


def test_after_eight_tries_it_is_given_up_and_the_log_says_so(desk: Desk) -> None:
    hook = telling.add_hook(desk, ADMIN, f"http://127.0.0.1:{free_port()}/gone", ("exception",))
    read(desk, line("d1", CHIPLESS))
    exceptions.request(desk, PETRA, asked("d1"))
    for day in range(MOST_TRIES + 2):
        send(desk, timedelta(days=day))
    log = telling.list_deliveries(desk, hook.id)[0]
    assert (log.state, log.tries, log.answer) == ("given-up", 8, "no answer")


@pytest.mark.parametrize(
    "url", ["ftp://x.example/", "https://", "https://u:p@x.example/", "https://x.example/a b", "nonsense"]
)
def test_an_address_that_cannot_be_told_is_refused(desk: Desk, url: str) -> None:
    with pytest.raises(BadInputError):
        telling.add_hook(desk, ADMIN, url, ())


def test_events_that_there_are_not_are_named(desk: Desk, receiver: Receiver) -> None:
    with pytest.raises(BadInputError, match="There are no events 'weather'"):
        told_of(desk, receiver, "weather")
    with pytest.raises(MissingError):
        telling.list_deliveries(desk, "HK-0009")


# ---------------------------------------------------------------------- mail


class Box(Message):
    def __init__(self) -> None:
        super().__init__()
        self.letters: list[tuple[str, str, str]] = []

    def handle_message(self, message: Any) -> None:
        text = message.get_payload(decode=True).decode()
        self.letters.append((str(message["To"]), " ".join(str(message["Subject"]).split()), text))


@pytest.fixture
def box() -> Iterator[tuple[Box, Config]]:
    made = Box()
    controller = Controller(made, hostname="127.0.0.1", port=free_port())
    controller.start()
    yield made, Config(smtp_host="127.0.0.1", smtp_port=controller.port, smtp_from="stone@northmere.example")
    controller.stop()


def wants(desk: Desk, name: str, *kinds: str) -> None:
    version = people.get_person(desk, name).version
    change = PersonChange(email=f"{name}@northmere.example", told_of=kinds)
    people.change_person(desk, ADMIN, name, version, change)


def post(desk: Desk, config: Config, after: timedelta = timedelta()) -> int:
    return carry_out(desk, NOW + after, http_post(["127.0.0.1"], 5), smtp_mail(config))


def test_people_are_told_of_what_they_have_chosen_and_never_of_their_own_doing(
    desk: Desk, box: tuple[Box, Config]
) -> None:
    letters, config = box
    wants(desk, "anselm", "request")
    wants(desk, "wilhelmina", "decision")
    wants(desk, "petra", "request", "decision", "question")
    read(desk, line("d1", CHIPLESS))
    exceptions.request(desk, PETRA, asked("d1"))
    assert post(desk, config) == 1
    assert letters.letters == [
        (
            "anselm@northmere.example",
            "Door Stone: petra asks for EX-0001: processor-listed, security-chip on d1",
            "petra asks for EX-0001: processor-listed, security-chip on d1\r\n\r\n"
            "Look at it: doorstone exception show EX-0001, or the console's page of EX-0001.\r\n",
        )
    ]
    caring.comment(desk, ANSELM, "EX-0001", "Is a new one ordered?", question=True)
    caring.comment(desk, PETRA, "EX-0001", "For September.")
    deciding.decide(desk, ANSELM, "EX-0001", "approve", "Good.", None)
    post(desk, config)
    assert [(to, subject) for to, subject, _ in letters.letters[1:]] == [
        ("petra@northmere.example", "Door Stone: anselm asks back about EX-0001: Is a new one ordered?"),
        ("petra@northmere.example", "Door Stone: EX-0001 approved by anselm: Good."),
    ]


def test_what_is_due_is_told_once(desk: Desk, box: tuple[Box, Config]) -> None:
    letters, config = box
    wants(desk, "petra", "due")
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    later = on(desk, "2027-04-10")
    assert [rounds.tell_due(later), rounds.tell_due(later)] == [1, 0]
    post(later, config, timedelta(days=100))
    assert len(letters.letters) == 1
    assert letters.letters[0][1] == "Door Stone: 5 things are due"
    assert (
        "2027-03-01 (overdue)  EX-0001 for d1 on 9.1: attest that “The cupboard stays locked” is kept"
        in (letters.letters[0][2])
    )
    assert rounds.tell_due(on(desk, "2027-09-10")) == 1  # now it lapses


def test_a_letter_waits_while_there_is_no_mail_server(desk: Desk, box: tuple[Box, Config]) -> None:
    letters, config = box
    wants(desk, "anselm", "request")
    read(desk, line("d1", CHIPLESS))
    exceptions.request(desk, PETRA, asked("d1"))
    assert carry_out(desk, NOW, http_post(["127.0.0.1"], 5), None) == 0
    assert post(desk, Config(smtp_host="127.0.0.1", smtp_port=free_port())) == 0
    assert post(desk, config, timedelta(minutes=1)) == 1
    assert len(letters.letters) == 1


def test_a_round_lapses_tells_and_sends(desk: Desk, box: tuple[Box, Config], receiver: Receiver) -> None:
    letters, config = box
    wants(desk, "petra", "decision")
    told_of(desk, receiver, "exception.lapsed")
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    Rounds(on(desk, "2027-10-01"), http_post(["127.0.0.1"], 5), smtp_mail(config)).once()
    assert [event["type"] for event in receiver.events()] == ["doorstone.exception.lapsed"]
    assert letters.letters[-1][1].startswith("Door Stone: EX-0001 lapsed on 2027-10-01")


# ------------------------------------------------------------------ calendar


def test_the_calendar_answers_to_its_address_alone_and_moves_events_by_their_uid(desk: Desk) -> None:
    read(desk, line("d1", CHIPLESS))
    granted(desk, "d1")
    app = create_app(on(desk, "2027-04-10"), b"k" * 32)
    secret = people.issue_token(desk, PETRA, "t", "technician", 200, session=True).secret
    with httpx.Client(transport=httpx.WSGITransport(app=app), base_url="http://doorstone.test") as client:
        mine = {"Authorization": f"Bearer {secret}"}
        path = client.post("/api/v1/me/calendar", headers=mine).json()["path"]
        feed = client.get(path)
        assert feed.headers["content-type"] == "text/calendar; charset=utf-8"
        events = {str(e["UID"]): e for e in Calendar.from_ical(feed.text).walk("VEVENT")}
        names = ["condition-EX-0001", "media-link-ends-MD-0001", "not-heard-from-d1-Herbarium", "review-EX-0001"]
        names.append("servicing-ends-tarn-8-desk")
        assert sorted(events) == [f"{name}@doorstone" for name in names]
        review = events["review-EX-0001@doorstone"]
        assert (review["DTSTART"].dt.isoformat(), str(review["SUMMARY"])[:19]) == ("2027-05-01", "EX-0001 for d1 on 9")
        other = client.post("/api/v1/me/calendar", headers=mine).json()["path"]
        assert (client.get(path).status_code, client.get(other).status_code) == (404, 200)
        client.delete("/api/v1/me/calendar", headers=mine)
        assert client.get(other).status_code == 404
        assert client.get("/api/v1/calendar/.ics").status_code == 404
