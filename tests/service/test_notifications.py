"""Notifications: events over HTTP, signed and tried again; letters to a real mail server; the calendar."""

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

from doorstone.service import outbound
from doorstone.service.app import create_app
from doorstone.service.config import Config
from doorstone.service.outbound import http_post, smtp_mail
from doorstone.service.scheduler import Scheduler
from doorstone.store.notifications import DeliveryRow, WebhookRow
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.due.notify import tell_due
from doorstone.work.exceptions import activity, decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.notifications import webhooks
from doorstone.work.notifications.webhooks import MOST_TRIES, Webhook, carry_out
from doorstone.work.people import people
from doorstone.work.people.people import PersonChange
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


def told_of(context: Context, receiver: Receiver, *kinds: str) -> Webhook:
    return webhooks.add_webhook(context, ADMIN, receiver.url, kinds)


def send(context: Context, after: timedelta = timedelta()) -> int:
    return carry_out(context, NOW + after, http_post(["127.0.0.1"], 5), None)


def verify(url: str, headers: dict[str, str], body: bytes, webhook: Webhook) -> None:
    assert webhook.secret is not None
    keys = MappingKeyResolver(public_keys={webhook.id: webhook.secret.encode()}, private_keys={})
    verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=keys)
    request = httpx.Request("POST", url, content=body, headers=headers)
    verifier.verify(request, body=body, require_components=("@method", "@target-uri", "content-digest"))


# --------------------------------------------------------------------- webhooks


def test_an_event_is_a_cloudevent_that_is_signed(context: Context, receiver: Receiver) -> None:
    webhook = told_of(context, receiver, "exception")
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    assert send(context) == 2
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
    verify(receiver.url, headers, body, webhook)
    with pytest.raises(InvalidSignature):
        verify(receiver.url, headers, body.replace(b"anselm", b"petra0"), webhook)
    with pytest.raises(InvalidSignature):
        verify(receiver.url.replace("/told", "/other"), headers, body, webhook)


def test_an_event_goes_to_the_address_that_was_checked_whatever_the_name_means_a_moment_later(
    receiver: Receiver, monkeypatch: pytest.MonkeyPatch
) -> None:
    port = int(receiver.url.split(":")[2].split("/")[0])
    webhook = WebhookRow(1, 1, f"http://webhooks.northmere.example:{port}/told", (), "s" * 32, True, "w", "2027-01-18")
    one = DeliveryRow(1, 1, "", "L-1", "exception", "{}", "waiting", 0, "", "", "2027-01-18")
    meanings = ["203.0.113.7"]  # nobody; from then on, this machine

    def look_up(host: str, port: int | None, *more: Any, **rest: Any) -> list[Any]:
        address = (meanings.pop() if meanings else "127.0.0.1") if host.endswith(".example") else host
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, port or 0))]

    monkeypatch.setattr(socket, "getaddrinfo", look_up)
    with pytest.raises(OSError, match="no answer"):
        http_post(timeout=0.2)(webhook, one)
    assert receiver.got == []
    monkeypatch.setattr(outbound, "_addresses", lambda host, targets: ["127.0.0.1"])
    assert http_post(timeout=30)(webhook, one) == "answered 204"
    headers, body = receiver.got[0]
    assert headers["Host"] == f"webhooks.northmere.example:{port}"
    verify(webhook.url, headers, body, Webhook("HK-0001", webhook, webhook.secret))


def test_a_hook_is_told_of_what_it_wants_only_and_of_nothing_once_it_is_removed(
    context: Context, receiver: Receiver
) -> None:
    webhook = told_of(context, receiver, "exception.approved", "kit")
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    assert (send(context), [e["type"] for e in receiver.events()]) == (1, ["doorstone.exception.approved"])
    webhooks.remove_webhook(context, ADMIN, webhook.id)
    activity.transfer(context, ANSELM, "EX-0001", None, "odile", "")
    assert send(context) == 0
    webhooks.try_webhook(context, ADMIN, told_of(context, receiver, "kit").id)
    assert (send(context), receiver.events()[-1]["type"]) == (1, "doorstone.webhook.tried")


def test_what_is_not_taken_is_tried_again_later_and_later_with_the_same_id(
    context: Context, receiver: Receiver
) -> None:
    webhook = told_of(context, receiver, "exception")
    read(context, line("d1", CHIPLESS))
    receiver.status = 503
    exceptions.request(context, PETRA, asked("d1"))
    assert send(context) == 0
    assert send(context, timedelta(seconds=29)) == 0
    assert len(receiver.got) == 1
    assert send(context, timedelta(seconds=31)) == 0
    assert send(context, timedelta(seconds=60)) == 0  # the second wait is a minute
    assert len(receiver.got) == 2
    log = webhooks.list_deliveries(context, webhook.id)[0]
    assert (log.state, log.tries, log.answer) == ("waiting", 2, "answered 503")
    receiver.status = 200
    assert send(context, timedelta(seconds=100)) == 1
    assert webhooks.list_deliveries(context, webhook.id)[0].state == "done"
    assert len({event["id"] for event in receiver.events()}) == 1


def test_a_hook_is_told_once_of_each_thing_that_is_due(context: Context, receiver: Receiver) -> None:
    told_of(context, receiver, "due")
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    for day in ("2027-02-10", "2027-02-11", "2027-04-10"):
        tell_due(on(context, day))
        send(context)
    seen = [(event["type"], event["subject"], event["data"]["on"]) for event in receiver.events()]
    assert seen == [
        ("doorstone.due.media-link-ends", "MD-0001", "2027-01-31"),
        ("doorstone.due.servicing-ends", "tarn", "2027-02-28"),
        ("doorstone.due.condition", "EX-0001", "2027-03-01"),
        ("doorstone.due.not-heard-from", "d1", "2027-03-02"),
        ("doorstone.due.release-late", "tarn", "2027-03-17"),
        ("doorstone.due.review", "EX-0001", "2027-05-01"),
    ]


def test_after_eight_tries_it_is_given_up_and_the_log_says_so(context: Context) -> None:
    webhook = webhooks.add_webhook(context, ADMIN, f"http://127.0.0.1:{free_port()}/gone", ("exception",))
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    for day in range(MOST_TRIES + 2):
        send(context, timedelta(days=day))
    log = webhooks.list_deliveries(context, webhook.id)[0]
    assert (log.state, log.tries, log.answer) == ("given-up", 8, "no answer")


@pytest.mark.parametrize(
    "url", ["ftp://x.example/", "https://", "https://u:p@x.example/", "https://x.example/a b", "nonsense"]
)
def test_an_address_that_cannot_be_told_is_refused(context: Context, url: str) -> None:
    with pytest.raises(BadInputError):
        webhooks.add_webhook(context, ADMIN, url, ())


def test_events_that_there_are_not_are_named(context: Context, receiver: Receiver) -> None:
    with pytest.raises(BadInputError, match="There are no events 'weather'"):
        told_of(context, receiver, "weather")
    with pytest.raises(MissingError):
        webhooks.list_deliveries(context, "HK-0009")


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


def wants(context: Context, name: str, *kinds: str) -> None:
    version = people.get_person(context, name).version
    change = PersonChange(email=f"{name}@northmere.example", news=kinds)
    people.change_person(context, ADMIN, name, version, change)


def post(context: Context, config: Config, after: timedelta = timedelta()) -> int:
    return carry_out(context, NOW + after, http_post(["127.0.0.1"], 5), smtp_mail(config))


def test_people_are_told_of_what_they_have_chosen_and_never_of_their_own_doing(
    context: Context, box: tuple[Box, Config]
) -> None:
    letters, config = box
    wants(context, "anselm", "request")
    wants(context, "wilhelmina", "decision")
    wants(context, "petra", "request", "decision", "question")
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    assert post(context, config) == 1
    assert letters.letters == [
        (
            "anselm@northmere.example",
            "Door Stone: petra asks for EX-0001: processor-listed, security-chip on d1",
            "petra asks for EX-0001: processor-listed, security-chip on d1\r\n\r\n"
            "Look at it: doorstone exception show EX-0001, or the console's page of EX-0001.\r\n",
        )
    ]
    activity.comment(context, ANSELM, "EX-0001", "Is a new one ordered?", question=True)
    activity.comment(context, PETRA, "EX-0001", "For September.")
    decisions.decide(context, ANSELM, "EX-0001", "approve", "Good.", None)
    post(context, config)
    assert [(to, subject) for to, subject, _ in letters.letters[1:]] == [
        ("petra@northmere.example", "Door Stone: anselm asks back about EX-0001: Is a new one ordered?"),
        ("petra@northmere.example", "Door Stone: EX-0001 approved by anselm: Good."),
    ]


def test_what_is_due_is_told_once(context: Context, box: tuple[Box, Config]) -> None:
    letters, config = box
    wants(context, "petra", "due")
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    later = on(context, "2027-04-10")
    assert [tell_due(later), tell_due(later)] == [1, 0]
    post(later, config, timedelta(days=100))
    assert len(letters.letters) == 1
    assert letters.letters[0][1] == "Door Stone: 5 things are due"
    assert (
        "2027-03-01 (overdue)  EX-0001 for d1 on 9.1: attest that “The cupboard stays locked” is kept"
        in (letters.letters[0][2])
    )
    assert tell_due(on(context, "2027-09-10")) == 1  # now it lapses


def test_a_letter_waits_while_there_is_no_mail_server(context: Context, box: tuple[Box, Config]) -> None:
    letters, config = box
    wants(context, "anselm", "request")
    read(context, line("d1", CHIPLESS))
    exceptions.request(context, PETRA, asked("d1"))
    assert carry_out(context, NOW, http_post(["127.0.0.1"], 5), None) == 0
    assert post(context, Config(smtp_host="127.0.0.1", smtp_port=free_port())) == 0
    assert post(context, config, timedelta(minutes=1)) == 1
    assert len(letters.letters) == 1


def test_a_round_lapses_tells_and_sends(context: Context, box: tuple[Box, Config], receiver: Receiver) -> None:
    letters, config = box
    wants(context, "petra", "decision")
    told_of(context, receiver, "exception.lapsed")
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    Scheduler(on(context, "2027-10-01"), http_post(["127.0.0.1"], 5), smtp_mail(config)).once()
    assert [event["type"] for event in receiver.events()] == ["doorstone.exception.lapsed"]
    assert letters.letters[-1][1].startswith("Door Stone: EX-0001 lapsed on 2027-10-01")


# ------------------------------------------------------------------ calendar


def test_the_calendar_answers_to_its_address_alone_and_moves_events_by_their_uid(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    granted(context, "d1")
    app = create_app(on(context, "2027-04-10"), b"k" * 32)
    secret = people.issue_token(context, PETRA, "t", "technician", 200, session=True).secret
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
