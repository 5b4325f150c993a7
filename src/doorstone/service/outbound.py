"""Outbound calls: events to webhooks over HTTP, signed (RFC 9421), and mail over SMTP. Each tries once."""

from __future__ import annotations

import ipaddress
import smtplib
import socket
import ssl
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, date, datetime
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any
from urllib.parse import quote

import httpx
import psutil

from doorstone.formats.cloudevents import CONTENT_TYPE
from doorstone.service.config import Config
from doorstone.store.notifications import DeliveryRow, WebhookRow
from doorstone.work.context.ids import id_of
from doorstone.work.notifications.webhooks import Email, Mail, Post
from doorstone.work.updates import Fetch

COVERED = ("@method", "@target-uri", "content-type", "content-digest")


def http_post(targets: Sequence[str] = (), timeout: float = 10) -> Post:
    """Post an event. It is signed with the webhook's secret by HMAC-SHA256; the key id is the webhook's.

    `targets` are hosts, or domains with a dot before them, that may be reached; if empty, everything but this machine
    and what is only linked to it. Whatever a port there does, the answer is the same.
    """

    def post(webhook: WebhookRow, one: DeliveryRow) -> str:
        request = httpx.Request(
            "POST",
            webhook.url,
            content=one.body.encode(),
            headers={"Content-Type": CONTENT_TYPE, "User-Agent": "doorstone"},
        )
        sign(request, id_of("HK", webhook.id), webhook.secret)
        response = _first_answer(request, _addresses(request.url.host, targets), timeout)
        if not response.is_success:
            raise OSError(f"answered {response.status_code}")
        return f"answered {response.status_code}"

    return post


def own_addresses() -> frozenset[str]:
    """The addresses of this machine, on whatever network."""
    return frozenset(
        str(ipaddress.ip_address(one.address.partition("%")[0]))
        for listed in psutil.net_if_addrs().values()
        for one in listed
        if one.family in (socket.AF_INET, socket.AF_INET6)
    )


def _addresses(host: str, targets: Sequence[str]) -> list[str]:
    """The addresses to which an event for a host goes: its name, if it is a configured target, else what it means now.

    The name is looked up once, and the event goes to what was found and checked, whatever the name means a moment
    later. Raises `OSError` if the host may not be reached.
    """
    refused = OSError("this address may not be reached; see webhook_targets in the configuration")
    if targets:
        if not any(host == one or (one.startswith(".") and host.endswith(one)) for one in targets):
            raise refused
        return [host]
    try:
        found = dict.fromkeys(str(info[4][0]) for info in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM))
    except OSError:
        return []
    own = own_addresses()
    for one in found:
        address = ipaddress.ip_address(one.partition("%")[0])
        mapped = getattr(address, "ipv4_mapped", None) or address
        if str(address) in own or str(mapped) in own:
            raise refused
        if any(a.is_loopback or a.is_link_local or a.is_unspecified or a.is_multicast for a in (address, mapped)):
            raise refused
    return list(found)


def _first_answer(request: httpx.Request, addresses: Sequence[str], timeout: float) -> httpx.Response:
    """The answer of the first of these addresses with which there is a connection. Raises `OSError`."""
    with httpx.Client(timeout=timeout, follow_redirects=False) as client:
        for address in addresses:
            try:
                return client.send(_to(request, address))
            except (httpx.ConnectError, httpx.ConnectTimeout):
                continue
            except httpx.HTTPError:
                break
    raise OSError("no answer")


def _to(request: httpx.Request, address: str) -> httpx.Request:
    """The same request to one address of its host. Host name and certificate check stay those of the name."""
    host = request.url.host
    extensions = {**request.extensions, "sni_hostname": host}
    url = request.url.copy_with(host=address)
    return httpx.Request(request.method, url, headers=request.headers, content=request.content, extensions=extensions)


def sign(request: httpx.Request, key_id: str, secret: str) -> None:
    """Add Content-Digest and the signature to a request that has its body."""
    from http_message_signatures import HTTPMessageSigner, MappingKeyResolver, algorithms

    keys = MappingKeyResolver(public_keys={}, private_keys={key_id: secret.encode()})
    signer = HTTPMessageSigner(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=keys)
    signer.sign(request, key_id=key_id, label="doorstone", covered_component_ids=COVERED, body=request.content)


def ask_updates(template: str, timeout: float = 10) -> Fetch:
    """Ask an update service over HTTP what updates a device gets on a day; one JSON object with a part per class."""

    def fetch(device: str, day: date) -> Mapping[str, Any]:
        address = template.replace("{device}", quote(device, safe="")).replace("{day}", day.isoformat())
        try:
            response = httpx.get(address, timeout=timeout, follow_redirects=False)
            response.raise_for_status()
            answer = response.json()
        except httpx.HTTPStatusError as error:
            raise OSError(f"answered {error.response.status_code}") from error
        except httpx.HTTPError as error:
            raise OSError(f"no answer: {type(error).__name__}") from error
        if not isinstance(answer, dict):
            raise OSError("answered with no JSON object")
        return answer

    return fetch


def smtp_mail(config: Config) -> Mail | None:
    """A function that sends a mail through the configured server. None if there is no server."""
    if not config.smtp_host:
        return None
    connect: Callable[[], smtplib.SMTP] = {
        "always": lambda: smtplib.SMTP_SSL(
            config.smtp_host, config.smtp_port, timeout=20, context=ssl.create_default_context()
        ),
    }.get(config.smtp_tls, lambda: smtplib.SMTP(config.smtp_host, config.smtp_port, timeout=20))

    def mail(letter: Email) -> str:
        message = EmailMessage()
        message["From"], message["To"] = config.smtp_from, letter.to
        message["Subject"] = " ".join(letter.subject.split())
        message["Date"] = format_datetime(datetime.now(UTC))
        message["Message-ID"] = make_msgid(domain="doorstone.invalid")
        message["Auto-Submitted"] = "auto-generated"
        message.set_content(letter.text)
        try:
            with connect() as server:
                if config.smtp_tls == "start":
                    server.starttls(context=ssl.create_default_context())
                if config.smtp_user:
                    server.login(config.smtp_user, config.smtp_password.get_secret_value())
                server.send_message(message)
        except smtplib.SMTPException as error:
            raise OSError(f"not taken: {type(error).__name__}") from error
        return "taken"

    return mail
